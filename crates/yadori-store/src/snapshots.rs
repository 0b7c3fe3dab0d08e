//! What a snapshot of the index must agree with, to be of this history.
//!
//! A snapshot knows the history up to a change; what came after is in the change feed, unless the row of a clip is gone that
//! changed later. So it is on record up to which change rows are gone. Names of devices are in no feed: they are compared. And the
//! latest snapshot has a random id, which is on record too: records that were brought back from a copy have another one.

use crate::settings;
use crate::store::{Store, StoreError};
use crate::write_tx::WriteTx;

/// The setting with the id of the latest snapshot.
const SNAPSHOT: &str = "snapshot";

/// The setting with the greatest number of a change that went with its row.
const PURGED_UPTO: &str = "purged_upto";

/// What is on record of a snapshot.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SnapshotRecord {
    /// The id of the latest.
    pub id: Option<String>,
    /// Rows of clips are gone that changed up to this change.
    pub purged_upto: u64,
    /// A hash of the names of the devices.
    pub devices: [u8; 32],
}

impl Store {
    /// What a snapshot must agree with.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn snapshot_record(&self) -> Result<SnapshotRecord, StoreError> {
        let purged = self.setting(PURGED_UPTO).await?;
        let names = sqlx::query!("SELECT no, name FROM devices ORDER BY no").fetch_all(&self.connections).await?;
        let mut devices = blake3::Hasher::new();
        for device in names {
            devices.update(format!("{}\0{}\0", device.no, device.name).as_bytes());
        }
        Ok(SnapshotRecord {
            id: self.setting(SNAPSHOT).await?,
            purged_upto: purged.and_then(|purged| purged.parse().ok()).unwrap_or_default(),
            devices: *devices.finalize().as_bytes(),
        })
    }

    /// Notes the id of the latest snapshot.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_snapshot(&self, id: &str) -> Result<(), StoreError> {
        self.set_setting(SNAPSHOT, Some(id)).await
    }
}

/// Notes that rows of clips go that changed up to this change.
pub(crate) async fn note_purged(tx: &mut WriteTx, upto: Option<u64>) -> Result<(), sqlx::Error> {
    let Some(upto) = upto else { return Ok(()) };
    let known = sqlx::query_scalar!("SELECT value FROM settings WHERE name = ? FOR UPDATE", PURGED_UPTO)
        .fetch_optional(&mut **tx)
        .await?;
    if known.and_then(|known| known.parse().ok()).is_none_or(|known: u64| known < upto) {
        settings::set(&mut **tx, PURGED_UPTO, Some(&upto.to_string())).await?;
    }
    Ok(())
}
