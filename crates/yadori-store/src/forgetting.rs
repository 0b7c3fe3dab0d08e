//! What goes by itself: clips that the rules sweep, and clips whose grace in the bin is over.

use crate::changes::expire;
use crate::days::{self, Happened};
use crate::snapshots::note_purged;
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::next_change;
use yadori_core::amounts::DAY;
use yadori_core::retention::BIN_MILLIS;
use yadori_core::{DeviceId, MillisSinceEpoch, Stamp};

/// How long the tombstone of a clip stays at most, in case another device tells of it: 180 days.
const TRACE_MILLIS: u64 = 180 * DAY;

/// Clips expired in one transaction at most, so that a long list never holds up a capture.
const BATCH: u32 = 50;

impl Store {
    /// When the next clip in the bin is due to be expired, if any is.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn next_due(&self) -> Result<Option<MillisSinceEpoch>, StoreError> {
        let gone = sqlx::query_scalar!(r#"SELECT MIN(gone) AS "stamp: u64" FROM clips WHERE tombstone = FALSE"#)
            .fetch_one(&self.connections)
            .await?;
        Ok(gone.map(|stamp| Stamp::from_bits(stamp).at().plus(BIN_MILLIS)))
    }

    /// Expires the content of clips whose grace in the bin is over at `now`, one batch; of those that were
    /// expired long enough ago, the last tombstone is removed or hashed, and steps that nobody can undo any more. Devices
    /// that are `connected` will have passed a tombstone in a moment: it is not hashed before. Gives the number of the latest
    /// change, or `None` when nothing was due.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn purge_due(&self, now: MillisSinceEpoch, connected: &[DeviceId]) -> Result<Option<u64>, StoreError> {
        retry_on_deadlock!(self.expire_due_once(now, connected))
    }

    async fn expire_due_once(&self, now: MillisSinceEpoch, connected: &[DeviceId]) -> Result<Option<u64>, StoreError> {
        let horizon = Stamp::at_start_of(now.minus(BIN_MILLIS)).to_bits();
        let mut tx = self.begin_writing().await?;
        let linked = sqlx::query_scalar!(
            r#"SELECT CAST(COALESCE(MIN(acked), 18446744073709551615) AS UNSIGNED) AS "acked!: u64"
               FROM devices WHERE linked = TRUE AND own = FALSE"#
        )
        .fetch_one(&mut *tx)
        .await?;
        // The tombstone of a clip that was deleted stays until every linked device has passed it, so that the clip never
        // comes back. Nothing of its content is in it. What this device has merely swept, and what nobody else has ever
        // heard of, needs no such tombstone.
        let long_ago = Stamp::at_start_of(now.minus(TRACE_MILLIS));
        // (The server does not say of what type these are when the statement is prepared.)
        let purged: Vec<u64> = sqlx::query_scalar(
            "DELETE FROM clips WHERE tombstone = TRUE AND gone <= ?
             AND (? = 18446744073709551615 OR IF(shared AND (COALESCE(purged, 0) >= copied OR GREATEST(deleted, COALESCE(cleared, 0))
                >= GREATEST(copied, restored, COALESCE(pin_stamp, 0), COALESCE(drawer_stamp, 0))), seq <= ?, gone <= ?))
             RETURNING seq",
        )
        .bind(horizon)
        .bind(linked)
        .bind(linked)
        .bind(long_ago.to_bits())
        .fetch_all(&mut *tx)
        .await?;
        note_purged(&mut tx, purged.into_iter().max()).await?;
        if linked == u64::MAX {
            self.drop_hashed_tombstones(&mut tx).await?;
        } else {
            self.hash_tombstones(&mut tx, long_ago, connected).await?;
        }
        sqlx::query!("DELETE FROM steps WHERE at <= ?", now.minus(BIN_MILLIS).0).execute(&mut *tx).await?;
        let due =
            sqlx::query_scalar!("SELECT no FROM clips WHERE gone <= ? AND tombstone = FALSE LIMIT ?", horizon, BATCH)
                .fetch_all(&mut *tx)
                .await?;
        let mut last = None;
        for number in due {
            last = Some(expire(&mut tx, number).await?);
        }
        tx.commit().await?;
        Ok(last)
    }

    /// How many clips in the bin are due to be expired at `now`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn due_in_bin(&self, now: MillisSinceEpoch) -> Result<u64, StoreError> {
        let horizon = Stamp::at_start_of(now.minus(BIN_MILLIS)).to_bits();
        Ok(sqlx::query_scalar!(
            r#"SELECT CAST(COUNT(*) AS UNSIGNED) AS "count!: u64" FROM clips WHERE gone <= ? AND tombstone = FALSE"#,
            horizon
        )
        .fetch_one(&self.connections)
        .await?)
    }

    /// Sweeps clips into the bin; those that have been kept or copied again since `stamp` stay. Gives the number
    /// of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is swept then.
    pub async fn sweep(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let (mut change, mut swept) = (0, 0);
        for number in numbers {
            change = next_change(&mut tx).await?;
            let done = sqlx::query!(
                "UPDATE clips SET seq = ?, swept = ? WHERE no = ? AND gone IS NULL AND pin IS NULL AND drawer IS NULL",
                change,
                stamp.to_bits(),
                number
            )
            .execute(&mut *tx)
            .await?;
            swept += done.rows_affected() as u32;
        }
        days::note(&mut tx, stamp.at(), Happened::Swept, swept).await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Brings clips back from the bin. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is brought back then.
    pub async fn restore(&self, numbers: &[u64], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let mut change = 0;
        for number in numbers {
            change = next_change(&mut tx).await?;
            sqlx::query!(
                "UPDATE clips SET seq = ?, restored = ? WHERE no = ? AND gone IS NOT NULL AND tombstone = FALSE",
                change,
                stamp.to_bits(),
                number
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(change)
    }
}
