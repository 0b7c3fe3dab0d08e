//! What other devices tell, taken in: states are merged, content that is not here yet is noted as wanted.

mod clips;

use crate::clips::ClipRecord;
use crate::devices::{Teller, hear_of};
use crate::drawers::{leave_drawer, renumber};
use crate::fresh::FreshClip;
use crate::numbers::{Numbers, number_of_drawer};
use crate::registers::StateRow;
use crate::statements::Statements;
use crate::store::{Store, StoreError, TombstoneKey, retry_on_deadlock};
use crate::write_tx::{WriteTx, next_change};
use std::collections::{HashMap, HashSet};
use std::sync::atomic::Ordering;
use yadori_core::shared::{Clip, Drawer, Hash, Heading, Item, MOST_HEADINGS};
use yadori_core::sharing::Policy;
use yadori_core::{ClipId, DeviceId, MillisSinceEpoch, Rank, Stamp};

/// What came of taking in a batch.
#[derive(Clone, Debug, Default)]
pub struct ApplyOutcome {
    /// The number of the latest change, if there was one.
    pub change: Option<u64>,
    /// Contents to be fetched, and how much of each is here.
    pub wants: Vec<(Hash, u64)>,
    /// The clip of the latest copy among them that is now in the history: its number, and when it was copied.
    pub latest_copy: Option<(u64, Stamp)>,
    /// Pictures that are here as a whole and have no small picture yet.
    pub pictures: Vec<u64>,
    /// Something is known of a device that was not.
    pub devices: bool,
    /// Something was forgotten for good.
    pub purged: bool,
    /// The latest stamp in it: this device's clock goes on after it.
    pub latest: Stamp,
    /// The records of clips that came to be, in the order of their changes, as far as they need not be read to be known.
    pub records: Vec<ClipRecord>,
    /// The numbers of changes after which a clip is here just as it was told: whoever told it need not be told of them.
    pub echoes: Vec<u64>,
}

/// How far the feed of another device was read: which feed it was, and the number of the last change.
pub type Cursor = ([u8; 8], u64);

/// What one batch is of another device's feed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CursorAdvance {
    /// Up to where it was read before; nothing if it never was.
    pub before: Option<Cursor>,
    /// Up to where it is read with this batch.
    pub after: Cursor,
}

impl CursorAdvance {
    /// Up to where the feed is read with this, if it was read up to `read` by now; nothing if this does not go on from
    /// there. Another connection may have read on from where this one began.
    fn goes_on_from(&self, read: Option<Cursor>) -> Option<Cursor> {
        let Self { before, after } = *self;
        match read {
            _ if before == read => Some(after),
            Some((feed, upto))
                if feed == after.0 && before.is_none_or(|before| before.0 != feed || before.1 <= upto) =>
            {
                Some((feed, after.1.max(upto)))
            }
            _ => None,
        }
    }
}

impl Store {
    /// Takes in a batch that the device `from` told, in one transaction with the cursor in its feed; or, without a
    /// passage of its feed, what it handed over by hand.
    ///
    /// Gives nothing, and takes nothing in, if by now the device is linked no more, or its feed is to be read from
    /// another place than where this goes on: a batch that was under way then would else be taken for the reading of
    /// all that comes before it. What may arrive is asked for when nobody else writes any more, for the same reason.
    ///
    /// # Errors
    /// When the database fails; nothing is taken in then.
    pub async fn apply(
        &self,
        from: DeviceId,
        advance: Option<CursorAdvance>,
        items: &[Item],
        policy: &(dyn Fn() -> Policy + Sync),
        at: MillisSinceEpoch,
    ) -> Result<Option<ApplyOutcome>, StoreError> {
        retry_on_deadlock!(self.apply_once(from, advance, items, policy, at))
    }

    async fn apply_once(
        &self,
        from: DeviceId,
        advance: Option<CursorAdvance>,
        items: &[Item],
        policy: &(dyn Fn() -> Policy + Sync),
        at: MillisSinceEpoch,
    ) -> Result<Option<ApplyOutcome>, StoreError> {
        let tombstone_key = self.tombstone_key().filter(|_| self.may_have_hashed.load(Ordering::SeqCst));
        let first = if tombstone_key.is_none() { first_clips(items) } else { Vec::new() };
        let mut question = Teller::question(from);
        clips::ask_for_states(&first, &mut question);
        let (tx, answers) = self.begin_writing_asking(question).await?;
        let Some((answer, states)) = answers.split_first() else { return Ok(None) };
        let Some(known) = Teller::answered(answer)? else { return Ok(None) };
        let cursor = advance.map(|advance| advance.goes_on_from(known.read()));
        if cursor == Some(None) {
            return Ok(None);
        }
        let mut last = Statements::default();
        if let Some(Some((feed, upto))) = cursor {
            last.add("UPDATE devices SET cursor_feed = ").alone(&feed[..]);
            last.words(", cursor_upto = ").alone(upto).words(", seen_at = ").alone(at.0);
            last.words(" WHERE no = ").alone(known.number);
        }
        let mut applying = Applier {
            tx,
            from,
            policy: policy(),
            outcome: ApplyOutcome::default(),
            fresh: Vec::new(),
            name: known.name,
            records: Vec::new(),
            by_hand: advance.is_none(),
            numbers: Numbers::of_device(from, known.number),
            tombstone_key,
            asked_ahead: if first.is_empty() { None } else { Some(clips::states(states)?) },
            is_all: !first.is_empty(),
            last: Some(last),
        };
        applying.items(items).await?;
        let Applier { mut tx, mut outcome, fresh, records, last, .. } = applying;
        outcome.records = records;
        if let Some(last) = last {
            tx.make_durable_after(last).await?;
        }
        tx.end_with_fresh(fresh);
        Ok(Some(outcome))
    }
}

struct Applier {
    tx: WriteTx,
    /// Who tells.
    from: DeviceId,
    policy: Policy,
    outcome: ApplyOutcome,
    /// What others may be told of clips that came to be.
    fresh: Vec<FreshClip>,
    /// What the device is called that tells.
    name: String,
    /// The records of clips that came to be.
    records: Vec<ClipRecord>,
    /// It was handed over by hand, so that it is taken in whatever the policy says.
    by_hand: bool,
    numbers: Numbers,
    tombstone_key: Option<TombstoneKey>,
    /// What was on record of the clips that come first, if that was asked for already.
    asked_ahead: Option<HashMap<ClipId, StateRow>>,
    /// Whether the clips that are taken in are all that is told, and nothing is to be asked after them.
    is_all: bool,
    /// What is put on record last; nothing once all of it is durable.
    last: Option<Statements>,
}

/// So many clips at the beginning of a batch are asked for in the message that begins; more are asked for by themselves.
const ASKED_AHEAD: usize = 16;

/// The clips with which a batch begins, and which are taken in together, if they are all of it and few.
fn first_clips(items: &[Item]) -> Vec<&Clip> {
    let clips = items.iter().map(|item| if let Item::Clip(clip) = item { Some(&**clip) } else { None });
    let clips: Option<Vec<&Clip>> = clips.take(ASKED_AHEAD + 1).collect();
    let ids: HashSet<ClipId> = clips.iter().flatten().map(|clip| clip.id).collect();
    clips.filter(|clips| clips.len() <= ASKED_AHEAD && ids.len() == clips.len()).unwrap_or_default()
}

impl Applier {
    async fn next_change(&mut self) -> Result<u64, sqlx::Error> {
        let change = next_change(&mut self.tx).await?;
        self.outcome.change = Some(change);
        Ok(change)
    }

    /// Takes in everything in its order; clips that follow one another together.
    async fn items(&mut self, items: &[Item]) -> Result<(), StoreError> {
        let (mut clips, mut ids): (Vec<&Clip>, HashSet<ClipId>) = Default::default();
        for item in items {
            self.outcome.latest = self.outcome.latest.max(item.latest());
            let fits = matches!(item, Item::Clip(clip) if !ids.contains(&clip.id));
            if !fits && !clips.is_empty() {
                self.clips(&std::mem::take(&mut clips)).await?;
                ids.clear();
                // What follows may change the same clips.
                self.fresh.clear();
                self.records.clear();
            }
            match item {
                Item::Clip(clip) => {
                    ids.insert(clip.id);
                    clips.push(clip);
                }
                Item::Drawer(drawer) => self.drawer(drawer).await?,
                Item::Heading(heading) => self.heading(heading).await?,
                Item::Device(device) => {
                    if let Some(change) = hear_of(&mut self.tx, device, self.from).await? {
                        self.outcome.change = Some(change);
                        self.outcome.devices = true;
                    }
                }
            }
        }
        if clips.is_empty() { Ok(()) } else { self.clips(&clips).await }
    }

    async fn drawer(&mut self, told: &Drawer) -> Result<(), StoreError> {
        let number = number_of_drawer(&mut self.tx, told.id).await?;
        let row = sqlx::query!(
            r#"SELECT name, place, changed, removed AS "removed: bool" FROM drawers WHERE no = ?"#,
            number
        )
        .fetch_one(&mut *self.tx)
        .await?;
        let known = Drawer {
            id: told.id,
            name: row.name,
            place: Rank::from_slice(&row.place).ok_or(StoreError::Damaged(number.into()))?,
            changed: Stamp::from_bits(row.changed),
            removed: row.removed,
        };
        if !told.is_after(&known) {
            return Ok(());
        }
        let change = self.next_change().await?;
        sqlx::query!(
            "UPDATE drawers SET name = ?, place = ?, changed = ?, removed = ?, seq = ? WHERE no = ?",
            told.name,
            told.place.as_bytes(),
            told.changed.to_bits(),
            told.removed,
            change,
            number
        )
        .execute(&mut *self.tx)
        .await?;
        // Its clips are found by its name.
        self.outcome.change = Some(renumber(&mut self.tx, number).await?);
        if told.removed {
            leave_drawer(&mut self.tx, number, told.changed).await?;
        }
        Ok(())
    }

    async fn heading(&mut self, told: &Heading) -> Result<(), StoreError> {
        let drawer = number_of_drawer(&mut self.tx, told.drawer).await?;
        let row = sqlx::query!(
            r#"SELECT place, words, changed, removed AS "removed: bool" FROM headings WHERE id = ?"#,
            &told.id[..]
        )
        .fetch_optional(&mut *self.tx)
        .await?;
        if let Some(row) = row {
            let known = Heading {
                id: told.id,
                drawer: told.drawer,
                place: Rank::from_slice(&row.place).ok_or(StoreError::Damaged(drawer.into()))?,
                words: row.words,
                changed: Stamp::from_bits(row.changed),
                removed: row.removed,
            };
            if !told.is_after(&known) {
                return Ok(());
            }
        } else {
            let headings = sqlx::query_scalar!("SELECT COUNT(*) FROM headings").fetch_one(&mut *self.tx).await?;
            if headings as u64 >= MOST_HEADINGS {
                return Err(StoreError::TooMany("headings", MOST_HEADINGS));
            }
        }
        let change = self.next_change().await?;
        sqlx::query!(
            "INSERT INTO headings (id, drawer, place, words, changed, removed, seq) VALUES (?, ?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE drawer = VALUES(drawer), place = VALUES(place), words = VALUES(words),
             changed = VALUES(changed), removed = VALUES(removed), seq = VALUES(seq)",
            &told.id[..],
            drawer,
            told.place.as_bytes(),
            told.words,
            told.changed.to_bits(),
            told.removed,
            change
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_batch_goes_on_from_where_its_feed_was_read() {
        let (old, feed) = ([1; 8], [2; 8]);
        let goes_on = |before, after, read| CursorAdvance { before, after }.goes_on_from(read);
        assert_eq!(goes_on(None, (feed, 5), None), Some((feed, 5)));
        assert_eq!(goes_on(Some((feed, 5)), (feed, 9), Some((feed, 5))), Some((feed, 9)));
        // The feed is a new one, and is told from its beginning.
        assert_eq!(goes_on(Some((old, 50)), (feed, 5), Some((old, 50))), Some((feed, 5)));
        // Another connection has read on meanwhile, further or not so far.
        assert_eq!(goes_on(Some((feed, 5)), (feed, 9), Some((feed, 7))), Some((feed, 9)));
        assert_eq!(goes_on(Some((feed, 5)), (feed, 9), Some((feed, 12))), Some((feed, 12)));
        assert_eq!(goes_on(None, (feed, 9), Some((feed, 7))), Some((feed, 9)));
        assert_eq!(goes_on(Some((old, 50)), (feed, 5), Some((feed, 7))), Some((feed, 7)));
        // It is to be read anew, and that has begun or not.
        assert_eq!(goes_on(Some((feed, 5)), (feed, 9), None), None);
        assert_eq!(goes_on(Some((feed, 5)), (feed, 9), Some((feed, 3))), None);
        // The other feed is the one that counts.
        assert_eq!(goes_on(None, (old, 9), Some((feed, 3))), None);
    }
}
