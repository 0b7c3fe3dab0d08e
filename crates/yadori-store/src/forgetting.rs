//! What goes by itself: clips whose time is up, and clips whose grace in the bin is over.

use crate::content;
use crate::store::{Store, StoreError, next_change};
use yadori_core::retention::BIN_MILLIS;
use yadori_core::{MillisSinceEpoch, Stamp};

/// Clips shredded in one transaction at most, so that a long list never holds up a capture.
const BATCH: u32 = 100;

impl Store {
    /// When the next clip is due to be shredded, if any is.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn next_due(&self) -> Result<Option<MillisSinceEpoch>, StoreError> {
        let expiry = sqlx::query_scalar!(
            r#"SELECT MIN(expires_at) AS "at: u64" FROM clips WHERE expires_at IS NOT NULL AND shredded = FALSE"#
        )
        .fetch_one(&self.pool)
        .await?;
        let deleted = sqlx::query_scalar!(
            r#"SELECT MIN(deleted) AS "stamp: u64" FROM clips
               WHERE deleted > 0 AND deleted >= GREATEST(copied, restored) AND shredded = FALSE"#
        )
        .fetch_one(&self.pool)
        .await?;
        let out_of_bin = deleted.map(|stamp| Stamp::from_bits(stamp).at().plus(BIN_MILLIS));
        Ok(expiry.map(MillisSinceEpoch).into_iter().chain(out_of_bin).min())
    }

    /// Shreds the content of clips that are due at `now`, one batch. Gives the number of the latest
    /// change, or `None` when nothing was due.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn shred_due(&self, now: MillisSinceEpoch) -> Result<Option<u64>, StoreError> {
        let horizon = Stamp::at_start_of(now.minus(BIN_MILLIS)).to_bits();
        let mut tx = self.pool.begin().await?;
        let due = sqlx::query_scalar!(
            "SELECT no FROM clips WHERE shredded = FALSE AND expires_at <= ?
             UNION
             SELECT no FROM clips WHERE shredded = FALSE AND deleted > 0 AND deleted <= ? AND deleted >= GREATEST(copied, restored)
             LIMIT ?",
            now.0,
            horizon,
            BATCH
        )
        .fetch_all(&mut *tx)
        .await?;
        let mut last = None;
        for number in due {
            let change = next_change(&mut tx).await?;
            let blobs = sqlx::query_scalar!(
                "SELECT blob_no AS `blob_no!` FROM formats WHERE clip_no = ? AND blob_no IS NOT NULL",
                number
            )
            .fetch_all(&mut *tx)
            .await?;
            sqlx::query!("DELETE FROM formats WHERE clip_no = ?", number).execute(&mut *tx).await?;
            sqlx::query!("DELETE FROM thumbnails WHERE clip_no = ?", number).execute(&mut *tx).await?;
            for blob in blobs {
                content::free_blob(&mut tx, blob).await?;
            }
            sqlx::query!(
                "UPDATE clips SET seq = ?, shredded = TRUE, expires_at = NULL, text = NULL, title = NULL, caption = NULL,
                    application = NULL, window_title = NULL, page = NULL, size = 0 WHERE no = ?",
                change,
                number
            )
            .execute(&mut *tx)
            .await?;
            last = Some(change);
        }
        tx.commit().await?;
        Ok(last)
    }
}
