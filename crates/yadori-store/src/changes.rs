//! Recall is noted; a clip takes another's place; the content of clips is forgotten for good.

use crate::content;
use crate::days::{self, Happened};
use crate::store::{Store, StoreError, next_change, retry_on_deadlock};
use sqlx::{MySql, Transaction};
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
        let mut tx = self.begin_writing().await?;
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

    /// Forgets clips for good, live or not: their content, small pictures and particulars. What is left tells
    /// that there was something. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is forgotten then.
    pub async fn purge(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        retry_on_deadlock!(self.shred_once(numbers, stamp))
    }

    async fn shred_once(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let mut change = 0;
        for number in numbers {
            change = shred_one(&mut tx, *number, Some(stamp)).await?;
        }
        tx.commit().await?;
        Ok(change)
    }
}

/// Forgets one clip for good. One that is still live is deleted at `stamp`.
pub(crate) async fn shred_one(
    tx: &mut Transaction<'static, MySql>,
    number: u64,
    stamp: Option<Stamp>,
) -> Result<u64, sqlx::Error> {
    let change = next_change(tx).await?;
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
        "UPDATE clips SET seq = ?, shredded = TRUE, elsewhere = FALSE, deleted = IF(gone IS NULL, COALESCE(?, deleted), deleted),
            purged = COALESCE(?, purged), text = NULL,
            title = NULL, caption = NULL, application = NULL, window_title = NULL, page = NULL, size = 0, text_lines = NULL,
            text_chars = NULL, width = NULL, height = NULL, pin = NULL, drawer = NULL, place = NULL, mark = NULL,
            alias = NULL, fills = FALSE WHERE no = ?",
        change,
        stamp.map(Stamp::to_bits),
        stamp.map(Stamp::to_bits),
        number
    )
    .execute(&mut **tx)
    .await?;
    Ok(change)
}

/// Lets the clip `new` take the place of `old`: its particulars wherever it has none of its own. With `retire`,
/// the old one goes to the bin. Gives the number of the latest change.
pub(crate) async fn take_place(
    tx: &mut Transaction<'static, MySql>,
    (new, old): (u64, u64),
    stamp: Stamp,
    retire: bool,
) -> Result<u64, sqlx::Error> {
    let had = sqlx::query!(
        "SELECT title, mark, alias, pin, drawer, place, fills AS `fills: bool`, recalls, recalled_at FROM clips WHERE no = ?",
        old
    )
    .fetch_one(&mut **tx)
    .await?;
    let old_change = next_change(tx).await?;
    sqlx::query!(
        "UPDATE clips SET seq = ?, alias = NULL, alias_stamp = ?, pin = NULL, pin_stamp = ?, drawer = NULL, place = NULL,
            drawer_stamp = ?, deleted = IF(?, ?, deleted) WHERE no = ?",
        old_change,
        stamp.to_bits(),
        stamp.to_bits(),
        stamp.to_bits(),
        retire,
        stamp.to_bits(),
        old
    )
    .execute(&mut **tx)
    .await?;
    let change = next_change(tx).await?;
    let bits = stamp.to_bits();
    sqlx::query!(
        "UPDATE clips SET seq = ?, title = COALESCE(title, ?), title_stamp = ?, mark = COALESCE(mark, ?), mark_stamp = ?,
            alias = COALESCE(alias, ?), alias_stamp = ?, pin = COALESCE(pin, ?), pin_stamp = ?,
            place = IF(drawer IS NULL, ?, place), drawer = COALESCE(drawer, ?), drawer_stamp = ?,
            fills = fills OR ?, fills_stamp = ?, recalls = LEAST(recalls + ?, 1000000000), recalled_at = COALESCE(recalled_at, ?) WHERE no = ?",
        change,
        had.title,
        bits,
        had.mark,
        bits,
        had.alias,
        bits,
        had.pin,
        bits,
        had.place,
        had.drawer,
        bits,
        had.fills,
        bits,
        had.recalls,
        had.recalled_at,
        new
    )
    .execute(&mut **tx)
    .await?;
    Ok(change)
}
