//! What a person does to many clips in one go, and can undo: delete, clear, edit.
//!
//! A step is on record, with the numbers of all its clips and one stamp, before the first clip is touched. The
//! clips then follow in batches that never hold up a capture for long; a crash in between is made good at the
//! next start. Small steps are one transaction.

use crate::attributes;
use crate::days::{self, Happened};
use crate::store::{Store, StoreError, numbers_as_json};
use crate::write_tx::{WriteTx, next_changes};
use yadori_core::{MillisSinceEpoch, Stamp};

/// Clips of one part of a step while copies are made: a capture waits for one part at most.
pub const GENTLE: usize = 10;

/// The same when somebody waits for the end of it.
pub const QUICK: usize = 500;

/// Steps of at most so many clips are done in one transaction.
const SMALL: usize = 200;

/// What was done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OperationKind {
    /// Clips were deleted, kept or not.
    Delete,
    /// Clips that are not kept were cleared.
    Clear,
    /// A clip was changed: another took its place.
    Edit,
}

impl OperationKind {
    fn code(self) -> u8 {
        match self {
            Self::Delete => 1,
            Self::Clear => 2,
            Self::Edit => 3,
        }
    }

    fn from_code(code: u8) -> Self {
        match code {
            2 => Self::Clear,
            3 => Self::Edit,
            _ => Self::Delete,
        }
    }
}

/// A step on record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UndoableOperation {
    /// Its number.
    pub number: u64,
    /// When it was made.
    pub at: MillisSinceEpoch,
    /// What was done.
    pub how: OperationKind,
    /// Whether it has been undone.
    pub undone: bool,
    /// How many clips it is about.
    pub total: u32,
    /// How many of them it has been done to by now.
    done: u32,
    stamp: Stamp,
    /// The numbers of the clips.
    pub clips: Vec<u64>,
    /// The clip that took the other's place.
    replacement: Option<u64>,
}

impl UndoableOperation {
    /// Whether something of it, or of its undoing, is still to be done.
    pub fn is_pending(&self) -> bool {
        if self.undone { self.done > 0 } else { self.done < self.total }
    }
}

struct Raw {
    no: u64,
    at: u64,
    how: u8,
    stamp: u64,
    undone: bool,
    total: u32,
    done: u32,
    clips: String,
    before_it: Option<String>,
}

impl From<Raw> for UndoableOperation {
    fn from(raw: Raw) -> Self {
        Self {
            number: raw.no,
            at: MillisSinceEpoch(raw.at),
            how: OperationKind::from_code(raw.how),
            undone: raw.undone,
            total: raw.total,
            done: raw.done,
            stamp: Stamp::from_bits(raw.stamp),
            clips: raw
                .clips
                .trim_matches(['[', ']'])
                .split(',')
                .filter_map(|number| number.trim().parse().ok())
                .collect(),
            replacement: raw.before_it.and_then(|number| number.parse().ok()),
        }
    }
}

pub(crate) async fn record_step(
    tx: &mut WriteTx,
    how: OperationKind,
    clips: &[u64],
    stamp: Stamp,
    replacement: Option<u64>,
) -> Result<u64, sqlx::Error> {
    let done = sqlx::query!(
        "INSERT INTO steps (at, how, stamp, clips, total, done, before_it) VALUES (?, ?, ?, ?, ?, ?, ?)",
        stamp.at().0,
        how.code(),
        stamp.to_bits(),
        numbers_as_json(clips),
        clips.len() as u32,
        if how == OperationKind::Edit { clips.len() as u32 } else { 0 },
        replacement.map(|number| number.to_string())
    )
    .execute(&mut **tx)
    .await?;
    if how != OperationKind::Edit {
        days::note(tx, stamp.at(), Happened::Cleared, clips.len() as u32).await?;
    }
    Ok(done.last_insert_id())
}

impl Store {
    /// Records a step that deletes or clears clips, and does it if it is small. A larger one is pending then:
    /// see [`Store::advance`]. Gives the step, and the number of the latest change if there was one.
    ///
    /// # Errors
    /// When the database does not answer; nothing is done then.
    pub async fn begin_step(
        &self,
        how: OperationKind,
        clips: Vec<u64>,
        stamp: Stamp,
    ) -> Result<(UndoableOperation, Option<u64>), StoreError> {
        let mut tx = self.begin_writing().await?;
        let number = record_step(&mut tx, how, &clips, stamp, None).await?;
        let total = clips.len() as u32;
        let mut step = UndoableOperation {
            number,
            at: stamp.at(),
            how,
            undone: false,
            total,
            done: 0,
            stamp,
            clips,
            replacement: None,
        };
        let mut change = None;
        if step.clips.len() <= SMALL {
            change = Some(forward(&mut tx, &step, 0..step.clips.len()).await?);
            step.done = total;
        }
        tx.commit().await?;
        Ok((step, change))
    }

    /// Does the next part of a pending step, or of its undoing, of at most `most` clips. Gives the number of the latest change; `None` when
    /// nothing is left to do.
    ///
    /// # Errors
    /// When the database does not answer. The same part is to do then.
    pub async fn advance(
        &self,
        step: &mut UndoableOperation,
        stamp: Stamp,
        most: usize,
    ) -> Result<Option<u64>, StoreError> {
        if !step.is_pending() {
            return Ok(None);
        }
        let mut tx = self.begin_writing().await?;
        let done = step.done as usize;
        let (change, done) = if step.undone {
            let from = done.saturating_sub(most);
            (backward(&mut tx, step, from..done, stamp).await?, from)
        } else {
            let to = (done + most).min(step.clips.len());
            (forward(&mut tx, step, done..to).await?, to)
        };
        tx.commit().await?;
        step.done = done as u32;
        Ok(Some(change))
    }

    /// Marks a step as undone: the one with this number, or the latest that can be undone; and undoes it if it
    /// is small. A larger one is pending then. `None` when there is nothing to undo.
    ///
    /// # Errors
    /// When the database does not answer; nothing is undone then.
    pub async fn begin_undo(
        &self,
        step: Option<u64>,
        stamp: Stamp,
        horizon: MillisSinceEpoch,
    ) -> Result<Option<(UndoableOperation, Option<u64>)>, StoreError> {
        let mut tx = self.begin_writing().await?;
        let mut step = loop {
            let found = sqlx::query_as!(
                Raw,
                "SELECT no, at, how, stamp, undone AS `undone: bool`, total, done, clips, before_it FROM steps
                 WHERE undone = FALSE AND at > ? AND (? IS NULL OR no = ?) ORDER BY no DESC LIMIT 1 FOR UPDATE",
                horizon.0,
                step,
                step
            )
            .fetch_optional(&mut *tx)
            .await?;
            let Some(found) = found else {
                tx.commit().await?;
                return Ok(None);
            };
            let mut found = UndoableOperation::from(found);
            sqlx::query!("UPDATE steps SET undone = TRUE WHERE no = ?", found.number).execute(&mut *tx).await?;
            // What was forgotten for good since then, or brought back otherwise, cannot be brought back.
            if found.is_pending() || restorable(&mut tx, &found).await? {
                // What it had not come to yet is announced again, too.
                found.done = found.total;
                sqlx::query!("UPDATE steps SET done = total WHERE no = ?", found.number).execute(&mut *tx).await?;
                break found;
            }
            // It was not undone, and must not be done again.
            sqlx::query!("DELETE FROM steps WHERE no = ?", found.number).execute(&mut *tx).await?;
        };
        step.undone = true;
        let mut change = None;
        if let (OperationKind::Edit, Some(new), [old]) = (step.how, step.replacement, step.clips.as_slice()) {
            attributes::take_place(&mut tx, (*old, new), stamp, true).await?;
        }
        if step.clips.len() <= SMALL {
            change = Some(backward(&mut tx, &step, 0..step.done as usize, stamp).await?);
            step.done = 0;
        }
        tx.commit().await?;
        Ok(Some((step, change)))
    }

    /// Does again what was undone: the step with this number, or the one that was undone last if nothing was deleted, cleared
    /// or edited since. It is done at once if it is small; a larger one is pending then. `None` when there is nothing to redo.
    ///
    /// # Errors
    /// When the database does not answer; nothing is done then.
    pub async fn begin_redo(
        &self,
        step: Option<u64>,
        stamp: Stamp,
        horizon: MillisSinceEpoch,
    ) -> Result<Option<(UndoableOperation, Option<u64>)>, StoreError> {
        let mut tx = self.begin_writing().await?;
        // Steps are undone from the latest backwards, so the one that was undone last is the first after the last that stands.
        let found = sqlx::query_as!(
            Raw,
            "SELECT no, at, how, stamp, undone AS `undone: bool`, total, done, clips, before_it FROM steps
             WHERE undone = TRUE AND done = 0 AND at > ? AND IF(? IS NULL,
                 no > COALESCE((SELECT MAX(standing.no) FROM steps standing WHERE standing.undone = FALSE), 0), no = ?)
             ORDER BY no LIMIT 1 FOR UPDATE",
            horizon.0,
            step,
            step
        )
        .fetch_optional(&mut *tx)
        .await?;
        let Some(found) = found else {
            tx.commit().await?;
            return Ok(None);
        };
        let mut step = UndoableOperation { undone: false, stamp, at: stamp.at(), ..UndoableOperation::from(found) };
        let mut change = None;
        if let (OperationKind::Edit, Some(new), [old]) = (step.how, step.replacement, step.clips.as_slice()) {
            let restored = next_changes(&mut tx, 1).await? + 1;
            sqlx::query!("UPDATE clips SET seq = ?, restored = ? WHERE no = ?", restored, stamp.to_bits(), new)
                .execute(&mut *tx)
                .await?;
            change = Some(attributes::take_place(&mut tx, (new, *old), stamp, true).await?);
            step.done = step.total;
        } else if step.clips.len() <= SMALL {
            change = Some(forward(&mut tx, &step, 0..step.clips.len()).await?);
            step.done = step.total;
        }
        sqlx::query!(
            "UPDATE steps SET undone = FALSE, at = ?, stamp = ?, done = ? WHERE no = ?",
            step.at.0,
            stamp.to_bits(),
            step.done,
            step.number
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(Some((step, change)))
    }

    /// The steps that can still be undone or have been, latest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn steps(&self, horizon: MillisSinceEpoch) -> Result<Vec<UndoableOperation>, StoreError> {
        let rows = sqlx::query_as!(
            Raw,
            "SELECT no, at, how, stamp, undone AS `undone: bool`, total, done, LEFT(clips, 2000) AS `clips!`, before_it
             FROM steps WHERE at > ? ORDER BY no DESC LIMIT 200",
            horizon.0
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows.into_iter().map(UndoableOperation::from).collect())
    }

    /// The steps of which something is still to be done.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn pending_steps(&self) -> Result<Vec<UndoableOperation>, StoreError> {
        let rows = sqlx::query_as!(
            Raw,
            "SELECT no, at, how, stamp, undone AS `undone: bool`, total, done, clips, before_it FROM steps
             WHERE IF(undone, done > 0, done < total) ORDER BY no"
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows.into_iter().map(UndoableOperation::from).collect())
    }
}

/// Whether a clip of a step waits in the bin.
async fn restorable(tx: &mut WriteTx, step: &UndoableOperation) -> Result<bool, sqlx::Error> {
    let waiting = sqlx::query_scalar!(
        "SELECT c.no FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
         STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no WHERE c.gone IS NOT NULL AND c.tombstone = FALSE LIMIT 1",
        numbers_as_json(&step.clips)
    )
    .fetch_optional(&mut **tx)
    .await?;
    Ok(waiting.is_some())
}

async fn forward(tx: &mut WriteTx, step: &UndoableOperation, part: std::ops::Range<usize>) -> Result<u64, sqlx::Error> {
    let done = part.end as u32;
    let clips = &step.clips[part];
    let before = next_changes(tx, clips.len()).await?;
    let stamp = step.stamp.to_bits();
    if step.how == OperationKind::Clear {
        sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (place FOR ORDINALITY, no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
             SET c.seq = ? + w.place, c.cleared = ? WHERE c.gone IS NULL",
            numbers_as_json(clips),
            before,
            stamp
        )
        .execute(&mut **tx)
        .await?;
    } else {
        sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (place FOR ORDINALITY, no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
             SET c.seq = ? + w.place, c.deleted = ? WHERE c.gone IS NULL",
            numbers_as_json(clips),
            before,
            stamp
        )
        .execute(&mut **tx)
        .await?;
    }
    sqlx::query!("UPDATE steps SET done = ? WHERE no = ?", done, step.number).execute(&mut **tx).await?;
    Ok(before + clips.len() as u64)
}

async fn backward(
    tx: &mut WriteTx,
    step: &UndoableOperation,
    part: std::ops::Range<usize>,
    stamp: Stamp,
) -> Result<u64, sqlx::Error> {
    let done = part.start as u32;
    let clips = &step.clips[part];
    let before = next_changes(tx, clips.len()).await?;
    // What has gone once more since, by another step, stays gone.
    sqlx::query!(
        "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (place FOR ORDINALITY, no BIGINT UNSIGNED PATH '$')) w
         STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
         SET c.seq = ? + w.place, c.restored = IF(c.gone IS NULL, c.restored, ?)
         WHERE c.tombstone = FALSE AND (c.gone IS NULL OR c.gone = ? OR ? = 0)",
        numbers_as_json(clips),
        before,
        stamp.to_bits(),
        step.stamp.to_bits(),
        step.stamp.to_bits()
    )
    .execute(&mut **tx)
    .await?;
    sqlx::query!("UPDATE steps SET done = ? WHERE no = ?", done, step.number).execute(&mut **tx).await?;
    Ok(before + clips.len() as u64)
}
