//! The numbers that devices and drawers have in these records, by their ids.

use crate::store::StoreError;
use crate::write_tx::WriteTx;
use std::collections::HashMap;
use yadori_core::shared::MOST_DRAWERS;
use yadori_core::{DeviceId, Rank};

/// Most devices on record, those included that clips come from and that were removed long ago.
pub(crate) const MOST_ON_RECORD: u64 = 1000;

/// The numbers of devices and drawers, by their ids.
#[derive(Debug, Default)]
pub(crate) struct Numbers {
    devices: HashMap<DeviceId, u32>,
    drawers: HashMap<[u8; 16], u32>,
}

impl Numbers {
    /// What is known already.
    pub fn of_device(id: DeviceId, number: u32) -> Self {
        Self { devices: HashMap::from([(id, number)]), ..Self::default() }
    }

    pub async fn device(&mut self, tx: &mut WriteTx, id: DeviceId) -> Result<u32, StoreError> {
        if let Some(number) = self.devices.get(&id) {
            return Ok(*number);
        }
        let number = number_of_device(tx, id).await?;
        self.devices.insert(id, number);
        Ok(number)
    }

    pub async fn drawer(&mut self, tx: &mut WriteTx, id: [u8; 16]) -> Result<u32, StoreError> {
        if let Some(number) = self.drawers.get(&id) {
            return Ok(*number);
        }
        let number = number_of_drawer(tx, id).await?;
        self.drawers.insert(id, number);
        Ok(number)
    }
}

/// The number of the device with this id; it is put on record if it was never heard of.
///
/// # Errors
/// When the database does not answer, or too many devices are on record for it.
pub(crate) async fn number_of_device(tx: &mut WriteTx, id: DeviceId) -> Result<u32, StoreError> {
    let known = sqlx::query_scalar!("SELECT no FROM devices WHERE id = ?", &id.0[..]).fetch_optional(&mut **tx).await?;
    if let Some(number) = known {
        return Ok(number);
    }
    let records = sqlx::query_scalar!("SELECT COUNT(*) FROM devices").fetch_one(&mut **tx).await?;
    if records as u64 >= MOST_ON_RECORD {
        return Err(StoreError::TooMany("devices", MOST_ON_RECORD));
    }
    let done = sqlx::query!("INSERT INTO devices (id, name, own) VALUES (?, 'another device', FALSE)", &id.0[..])
        .execute(&mut **tx)
        .await?;
    Ok(done.last_insert_id() as u32)
}

/// The number of the drawer with this id; it is put on record if nothing was heard of it yet.
pub(crate) async fn number_of_drawer(tx: &mut WriteTx, id: [u8; 16]) -> Result<u32, StoreError> {
    let known = sqlx::query_scalar!("SELECT no FROM drawers WHERE id = ?", &id[..]).fetch_optional(&mut **tx).await?;
    if let Some(number) = known {
        return Ok(number);
    }
    let drawers = sqlx::query_scalar!("SELECT COUNT(*) FROM drawers").fetch_one(&mut **tx).await?;
    if drawers as u64 >= MOST_DRAWERS {
        return Err(StoreError::TooMany("drawers", MOST_DRAWERS));
    }
    let place = Rank::between(None, None);
    let done = sqlx::query!(
        "INSERT INTO drawers (id, name, place, changed) VALUES (?, '', ?, 0)
         ON DUPLICATE KEY UPDATE no = LAST_INSERT_ID(no)",
        &id[..],
        place.as_bytes()
    )
    .execute(&mut **tx)
    .await?;
    Ok(done.last_insert_id() as u32)
}
