//! Recall is noted; the content of clips is forgotten for good.

use crate::content;
use crate::days::{self, Happened};
use crate::numbers::Numbers;
use crate::registers::{self, NewState, states_of};
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::{WriteTx, next_change};
use yadori_core::{MillisSinceEpoch, Stamp};

impl Store {
    /// Notes that clips were recalled; with `to_top`, they move to the top of the history as if copied then.
    /// Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_recall(
        &self,
        numbers: &[u64],
        at: MillisSinceEpoch,
        to_top: Option<Stamp>,
    ) -> Result<u64, StoreError> {
        let mut tx = self.begin_notes(numbers).await?;
        let mut change = 0;
        for number in numbers {
            change = next_change(&mut tx).await?;
            sqlx::query!(
                "UPDATE clips SET seq = ?, recalls = LEAST(recalls + 1, 1000000000), recalled_at = ?, copied = GREATEST(copied, ?) WHERE no = ?",
                change,
                at.0,
                to_top.map_or(0, Stamp::to_bits),
                number
            )
            .execute(&mut *tx)
            .await?;
        }
        days::note(&mut tx, at, Happened::Recalled, numbers.len() as u32).await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Forgets clips for good, live or not: their content, small pictures and attributes. What is left tells
    /// that there was something. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is forgotten then.
    pub async fn purge(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        retry_on_deadlock!(self.purge_once(numbers, stamp))
    }

    async fn purge_once(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let known = states_of(&mut tx, numbers).await?;
        let states = known.values().map(|row| {
            let mut state = row.state();
            state.forget(row.swept(), stamp);
            NewState::of_known(row, state)
        });
        let put = registers::put(&mut tx, &mut Numbers::default(), states.collect::<Result<_, _>>()?, false).await?;
        for number in put.numbers {
            clear_content(&mut tx, number).await?;
        }
        tx.commit().await?;
        Ok(put.last)
    }
}

/// Clears what a clip consists of: its formats, small picture and words, and where it was copied.
pub(crate) async fn clear_content(tx: &mut WriteTx, number: u64) -> Result<(), StoreError> {
    let blobs = sqlx::query_scalar!(
        "SELECT blob_no AS `blob_no!` FROM formats WHERE clip_no = ? AND blob_no IS NOT NULL",
        number
    )
    .fetch_all(&mut **tx)
    .await?;
    sqlx::query!("DELETE FROM formats WHERE clip_no = ?", number).execute(&mut **tx).await?;
    sqlx::query!("DELETE FROM thumbnails WHERE clip_no = ?", number).execute(&mut **tx).await?;
    for blob in blobs {
        content::free_blob(tx, blob).await?;
    }
    sqlx::query!(
        "UPDATE clips SET tombstone = TRUE, elsewhere = FALSE, text = NULL, plain = FALSE, caption = NULL, application = NULL,
            window_title = NULL, page = NULL, size = 0, text_lines = NULL, text_chars = NULL, width = NULL, height = NULL
         WHERE no = ?",
        number
    )
    .execute(&mut **tx)
    .await?;
    Ok(())
}

/// Forgets a clip of which the grace in the bin is over: its content, and what it was given. Its stamps stay, so that no
/// other device learns less of it. Gives the number of the change.
pub(crate) async fn expire(tx: &mut WriteTx, number: u64) -> Result<u64, StoreError> {
    clear_content(tx, number).await?;
    let change = next_change(tx).await?;
    sqlx::query!(
        "UPDATE clips SET seq = ?, title = NULL, pin = NULL, drawer = NULL, place = NULL, mark = NULL, alias = NULL,
            fills = FALSE WHERE no = ?",
        change,
        number
    )
    .execute(&mut **tx)
    .await?;
    Ok(change)
}
