//! Recall, delete, undo: what a person does to clips that are there.

use crate::store::{Store, StoreError, next_change};
use yadori_core::{ClipId, MillisSinceEpoch, Stamp};

/// What a delete did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Deleted {
    /// The number of the latest change.
    pub change: u64,
    /// The number by which it can be undone.
    pub step: u64,
    /// How many clips went to the bin.
    pub clips: usize,
}

/// What an undo did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Undone {
    /// The number of the latest change.
    pub change: u64,
    /// The step that was undone.
    pub step: u64,
    /// The clips that are back.
    pub clips: Vec<ClipId>,
}

impl Store {
    /// Notes that a clip was recalled. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_recall(&self, numbers: &[u64], at: MillisSinceEpoch) -> Result<u64, StoreError> {
        let mut tx = self.pool.begin().await?;
        let mut change = 0;
        for number in numbers {
            change = next_change(&mut tx).await?;
            sqlx::query!(
                "UPDATE clips SET seq = ?, recalls = recalls + 1, recalled_at = ? WHERE no = ?",
                change,
                at.0,
                number
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(change)
    }

    /// Moves clips to the bin, as one step that can be undone.
    ///
    /// # Errors
    /// When the database does not answer; nothing is deleted then.
    pub async fn delete(&self, numbers: &[u64], stamp: Stamp) -> Result<Deleted, StoreError> {
        let mut tx = self.pool.begin().await?;
        let step =
            sqlx::query!("INSERT INTO steps (at) VALUES (?)", stamp.at().0).execute(&mut *tx).await?.last_insert_id();
        let mut deleted = Deleted { change: 0, step, clips: 0 };
        for number in numbers {
            deleted.change = next_change(&mut tx).await?;
            let done = sqlx::query!(
                "UPDATE clips SET seq = ?, deleted = ? WHERE no = ? AND GREATEST(copied, restored) > deleted",
                deleted.change,
                stamp.to_bits(),
                number
            )
            .execute(&mut *tx)
            .await?;
            if done.rows_affected() > 0 {
                deleted.clips += 1;
                sqlx::query!("INSERT INTO step_clips (step_no, clip_no) VALUES (?, ?)", step, number)
                    .execute(&mut *tx)
                    .await?;
            }
        }
        tx.commit().await?;
        Ok(deleted)
    }

    /// Undoes a step, or the latest one that can be undone: its clips come back to their places.
    /// `None` when there is nothing to undo.
    ///
    /// # Errors
    /// When the database does not answer; nothing is undone then.
    pub async fn undo(
        &self,
        step: Option<u64>,
        stamp: Stamp,
        horizon: MillisSinceEpoch,
    ) -> Result<Option<Undone>, StoreError> {
        let mut tx = self.pool.begin().await?;
        let found = sqlx::query_scalar!(
            "SELECT no FROM steps WHERE undone = FALSE AND at > ? AND (? IS NULL OR no = ?) ORDER BY no DESC LIMIT 1 FOR UPDATE",
            horizon.0,
            step,
            step
        )
        .fetch_optional(&mut *tx)
        .await?;
        let Some(step) = found else { return Ok(None) };
        sqlx::query!("UPDATE steps SET undone = TRUE WHERE no = ?", step).execute(&mut *tx).await?;
        let clips = sqlx::query!(
            "SELECT c.no, c.id FROM step_clips s JOIN clips c ON c.no = s.clip_no
             WHERE s.step_no = ? AND c.shredded = FALSE AND c.deleted >= GREATEST(c.copied, c.restored)",
            step
        )
        .fetch_all(&mut *tx)
        .await?;
        let mut undone = Undone { change: 0, step, clips: Vec::with_capacity(clips.len()) };
        for clip in clips {
            undone.change = next_change(&mut tx).await?;
            sqlx::query!(
                "UPDATE clips SET seq = ?, restored = ? WHERE no = ?",
                undone.change,
                stamp.to_bits(),
                clip.no
            )
            .execute(&mut *tx)
            .await?;
            undone.clips.extend(ClipId::from_slice(&clip.id));
        }
        tx.commit().await?;
        Ok(Some(undone))
    }
}
