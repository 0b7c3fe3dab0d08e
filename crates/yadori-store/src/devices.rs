//! The devices of a person: this one, and those that are linked to it.

use crate::applying::Cursor;
use crate::numbers::MOST_ON_RECORD;
use crate::settings;
use crate::statements::Statements;
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::{WriteTx, next_change};
use sqlx::mysql::MySqlRow;
use sqlx::{FromRow, Row};
use yadori_core::merge::Register;
use yadori_core::shared::{Device, Item, MOST_DEVICES};
use yadori_core::{DeviceId, MillisSinceEpoch, Stamp};

/// A device on record.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DeviceRecord {
    /// What the others are told of it; none before this device had a key.
    pub device: Option<Device>,
    /// What it is called.
    pub name: String,
    /// Whether it is this one.
    pub own: bool,
    /// How far its feed is on record here.
    pub read: Option<Cursor>,
    /// How far it has this device's feed.
    pub acknowledged: u64,
    /// When it was last heard of.
    pub seen_at: Option<MillisSinceEpoch>,
    /// Where it was last reached from here.
    pub reached: Option<String>,
    /// The device that introduced it here; none if it was paired with this one.
    pub introduced_by: Option<DeviceId>,
    /// Its number in these records.
    pub(crate) number: u32,
}

struct Raw {
    no: u32,
    pin: Option<Vec<u8>>,
    name: String,
    own: bool,
    name_stamp: u64,
    addresses: String,
    addresses_stamp: u64,
    linked: bool,
    linked_stamp: u64,
    cursor_feed: Option<Vec<u8>>,
    cursor_upto: u64,
    acked: u64,
    seen_at: Option<u64>,
    reached: Option<String>,
    introduced_by: Option<Vec<u8>>,
}

impl From<Raw> for DeviceRecord {
    fn from(raw: Raw) -> Self {
        let key: Option<[u8; 32]> = raw.pin.and_then(|pin| pin.try_into().ok());
        let device = key.map(|key| Device {
            key,
            name: Register::new(Stamp::from_bits(raw.name_stamp), raw.name.clone()),
            addresses: Register::new(
                Stamp::from_bits(raw.addresses_stamp),
                raw.addresses.lines().map(str::to_owned).collect(),
            ),
            linked: Register::new(Stamp::from_bits(raw.linked_stamp), raw.linked),
        });
        let feed: Option<[u8; 8]> = raw.cursor_feed.and_then(|feed| feed.try_into().ok());
        Self {
            device,
            name: raw.name,
            own: raw.own,
            read: feed.map(|feed| (feed, raw.cursor_upto)),
            acknowledged: raw.acked,
            seen_at: raw.seen_at.map(MillisSinceEpoch),
            reached: raw.reached,
            introduced_by: raw.introduced_by.and_then(|id| DeviceId::from_slice(&id)),
            number: raw.no,
        }
    }
}

macro_rules! devices {
    ($from:literal $(, $argument:expr)*) => {
        sqlx::query_as!(
            Raw,
            r#"SELECT no, pin, name, own AS "own: bool", name_stamp, addresses, addresses_stamp, linked AS "linked: bool",
               linked_stamp, cursor_feed, cursor_upto, acked, seen_at, reached, introduced_by "# + $from
            $(, $argument)*
        )
    };
}

impl Store {
    /// All devices that were ever heard of, this one first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn devices(&self) -> Result<Vec<DeviceRecord>, StoreError> {
        let rows = devices!("FROM devices ORDER BY own DESC, name, id").fetch_all(&self.connections).await?;
        Ok(rows.into_iter().map(DeviceRecord::from).collect())
    }

    /// The device with this id, if it was ever heard of.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn device(&self, id: DeviceId) -> Result<Option<DeviceRecord>, StoreError> {
        let row = devices!("FROM devices WHERE id = ?", &id.0[..]).fetch_optional(&self.connections).await?;
        Ok(row.map(DeviceRecord::from))
    }

    /// What the others are told of this device; nothing before it had a key.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn own_device(&self) -> Result<Option<Device>, StoreError> {
        let row = devices!("FROM devices WHERE no = ?", self.device).fetch_optional(&self.connections).await?;
        Ok(row.map(DeviceRecord::from).and_then(|record| record.device))
    }

    /// The devices that are linked with this one.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn linked_devices(&self) -> Result<Vec<Device>, StoreError> {
        let rows = devices!("FROM devices WHERE own = FALSE AND linked = TRUE ORDER BY name, id")
            .fetch_all(&self.connections)
            .await?;
        Ok(rows.into_iter().map(DeviceRecord::from).filter_map(|record| record.device).collect())
    }

    /// Gives this device its key: from now on it is known by that.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_own_key(&self, key: [u8; 32], stamp: Stamp) -> Result<(), StoreError> {
        retry_on_deadlock!(self.set_own_key_once(key, stamp))
    }

    async fn set_own_key_once(&self, key: [u8; 32], stamp: Stamp) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        let id = DeviceId::of_key(&key);
        let change = next_change(&mut tx).await?;
        sqlx::query!(
            "UPDATE devices SET id = ?, pin = ?, name_stamp = ?, seq = ? WHERE no = ? AND (pin IS NULL OR pin <> ?)",
            &id.0[..],
            &key[..],
            stamp.to_bits(),
            change,
            self.device,
            &key[..]
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        *self.device_id.write() = id;
        Ok(())
    }

    /// Puts on record what this device itself knows of a device, merged with what was. Gives the number of the change;
    /// nothing if it was known.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_device(&self, device: &Device) -> Result<Option<u64>, StoreError> {
        retry_on_deadlock!(async {
            let mut tx = self.begin_writing().await?;
            let change = put(&mut tx, device, None).await?;
            tx.commit().await?;
            Ok::<_, StoreError>(change)
        })
    }

    /// Notes when a device was last heard of.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_seen(&self, device: DeviceId, at: MillisSinceEpoch) -> Result<(), StoreError> {
        retry_on_deadlock!(self.note_seen_once(device, at))
    }

    async fn note_seen_once(&self, device: DeviceId, at: MillisSinceEpoch) -> Result<(), StoreError> {
        sqlx::query!("UPDATE devices SET seen_at = ? WHERE id = ?", at.0, &device.0[..])
            .execute(&self.connections)
            .await?;
        Ok(())
    }

    /// Notes how far a linked device has this one's feed, unless that is another by now: then it has nothing of it yet.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn acknowledged(&self, device: DeviceId, read: Cursor, at: MillisSinceEpoch) -> Result<(), StoreError> {
        retry_on_deadlock!(self.acknowledged_once(device, read, at))
    }

    async fn acknowledged_once(
        &self,
        device: DeviceId,
        (feed, upto): Cursor,
        at: MillisSinceEpoch,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE devices d JOIN feed f ON f.one = 1
             SET d.acked = IF(f.id = ?, GREATEST(d.acked, ?), d.acked), d.seen_at = ? WHERE d.id = ? AND d.linked = TRUE",
            &feed[..],
            upto,
            at.0,
            &device.0[..]
        )
        .execute(&self.connections)
        .await?;
        Ok(())
    }

    /// Forgets that any other device is linked, and gives up this device's key: it gets another with the next link.
    /// That is this device's own affair: nothing of it is told on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_links(&self) -> Result<(), StoreError> {
        retry_on_deadlock!(async {
            let mut tx = self.begin_writing().await?;
            sqlx::query!(
                "UPDATE devices SET linked = FALSE, linked_stamp = 0, cursor_upto = 0, cursor_feed = NULL, acked = 0
             WHERE own = FALSE AND (linked = TRUE OR linked_stamp = 0)"
            )
            .execute(&mut *tx)
            .await?;
            sqlx::query!("UPDATE devices SET pin = NULL, linked = FALSE, linked_stamp = 0 WHERE own = TRUE")
                .execute(&mut *tx)
                .await?;
            Ok::<_, StoreError>(tx.commit().await?)
        })
    }

    /// Notes where a device was reached.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_reached(&self, device: DeviceId, address: &str) -> Result<(), StoreError> {
        retry_on_deadlock!(self.note_reached_once(device, address))
    }

    async fn note_reached_once(&self, device: DeviceId, address: &str) -> Result<(), StoreError> {
        sqlx::query!("UPDATE devices SET reached = ? WHERE id = ?", address, &device.0[..])
            .execute(&self.connections)
            .await?;
        Ok(())
    }

    /// Sets the setting that holds what is shared. With it, everything is told again to all devices, which take this
    /// one's feed for a new one, and everything is read again from them.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn share_anew(&self, setting: &str, value: &str) -> Result<(), StoreError> {
        retry_on_deadlock!(async {
            let mut tx = self.begin_writing().await?;
            settings::set(&mut *tx, setting, Some(value)).await?;
            sqlx::query!("UPDATE feed SET id = UNHEX(LEFT(REPLACE(UUID(), '-', ''), 16)) WHERE one = 1")
                .execute(&mut *tx)
                .await?;
            sqlx::query!("UPDATE devices SET cursor_upto = 0, cursor_feed = NULL WHERE own = FALSE")
                .execute(&mut *tx)
                .await?;
            Ok::<_, StoreError>(tx.commit().await?)
        })
    }

    /// The other devices take this one's feed for a new one from now on, and read it from its beginning: what they have read of it
    /// is of a time that these records have forgotten.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn begin_new_feed(&self) -> Result<(), StoreError> {
        retry_on_deadlock!(async {
            let mut tx = self.begin_writing().await?;
            sqlx::query!("UPDATE feed SET id = UNHEX(LEFT(REPLACE(UUID(), '-', ''), 16)) WHERE one = 1")
                .execute(&mut *tx)
                .await?;
            // Nobody has acknowledged anything of it.
            sqlx::query!("UPDATE devices SET acked = 0 WHERE own = FALSE").execute(&mut *tx).await?;
            Ok::<_, StoreError>(tx.commit().await?)
        })
    }

    /// How many clips in the history have content that is on another device only.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn count_elsewhere(&self) -> Result<u64, StoreError> {
        Ok(sqlx::query_scalar!(
            r#"SELECT CAST(COUNT(DISTINCT c.no) AS UNSIGNED) AS "count!: u64"
               FROM blobs b STRAIGHT_JOIN formats f ON f.blob_no = b.no STRAIGHT_JOIN clips c ON c.no = f.clip_no
               WHERE b.have < b.size AND c.elsewhere = TRUE AND c.gone IS NULL AND c.tombstone = FALSE"#
        )
        .fetch_one(&self.connections)
        .await?)
    }

    pub(crate) async fn devices_told(&self, after: u64, upto: u64) -> Result<Vec<Item>, StoreError> {
        let rows = devices!("FROM devices WHERE seq > ? AND seq <= ? AND pin IS NOT NULL", after, upto)
            .fetch_all(&self.connections)
            .await?;
        Ok(rows.into_iter().filter_map(|row| DeviceRecord::from(row).device).map(Item::Device).collect())
    }
}

/// A device that is linked, as far as what it tells is concerned.
#[derive(Debug, FromRow)]
pub(crate) struct Teller {
    /// Its number in these records.
    #[sqlx(rename = "no")]
    pub number: u32,
    /// What it is called.
    pub name: String,
    cursor_feed: Option<Vec<u8>>,
    cursor_upto: u64,
}

impl Teller {
    /// Asks for a device. Gives one row in any case.
    pub fn question(device: DeviceId) -> Statements {
        let mut question = Statements::default();
        question.add("SELECT no, name, cursor_feed, cursor_upto FROM (SELECT 1) one LEFT JOIN devices ON linked = TRUE AND id = ");
        question.alone(&device.0[..]);
        question
    }

    /// The answer to that; nothing if the device is not linked.
    pub fn answered(row: &MySqlRow) -> Result<Option<Self>, sqlx::Error> {
        let number: Option<u32> = row.try_get("no")?;
        number.map(|_| Self::from_row(row)).transpose()
    }

    /// How far its feed is on record here.
    pub fn read(&self) -> Option<Cursor> {
        let feed = self.cursor_feed.as_deref()?.try_into().ok()?;
        Some((feed, self.cursor_upto))
    }
}

/// Takes in what the device `from` says of a device. Gives the number of the change; nothing if it was known, or is not
/// believed: nobody says of itself that it belongs to the others, a device that was removed stays removed (see
/// [`Device::merge`]), and there are not more than [`MOST_DEVICES`].
pub(crate) async fn hear_of(tx: &mut WriteTx, device: &Device, from: DeviceId) -> Result<Option<u64>, sqlx::Error> {
    let mut told = device.clone();
    if told.id() == from && told.linked.value {
        told.linked = Register::default();
    }
    let row = sqlx::query!(
        "SELECT pin IS NOT NULL AS `known: bool`, own AS `own: bool` FROM devices WHERE id = ?",
        &told.id().0[..]
    )
    .fetch_optional(&mut **tx)
    .await?;
    let known = row.as_ref().map(|row| row.known);
    if row.is_some_and(|row| row.own) {
        // Where this device is, and to whom it belongs, it knows itself.
        (told.linked, told.addresses) = Default::default();
    }
    if known != Some(true) && told.linked.value {
        let linked = sqlx::query_scalar!("SELECT COUNT(*) FROM devices WHERE linked = TRUE OR own = TRUE")
            .fetch_one(&mut **tx)
            .await?;
        if linked as usize >= MOST_DEVICES {
            return Ok(None);
        }
    }
    // Of one that was removed before it was ever here, only that is worth a record; of these there is no end either.
    if known.is_none() && !told.linked.value {
        let records = sqlx::query_scalar!("SELECT COUNT(*) FROM devices").fetch_one(&mut **tx).await?;
        if records as u64 >= MOST_ON_RECORD {
            return Ok(None);
        }
    }
    put(tx, &told, Some(from)).await
}

/// Puts on record what is known of a device, merged with what was; `from` is who introduced it.
async fn put(tx: &mut WriteTx, device: &Device, from: Option<DeviceId>) -> Result<Option<u64>, sqlx::Error> {
    let id = device.id();
    let known = devices!("FROM devices WHERE id = ? FOR UPDATE", &id.0[..]).fetch_optional(&mut **tx).await?;
    let known = known.map(DeviceRecord::from);
    let before = known.as_ref().and_then(|known| known.device.clone());
    let merged = match &before {
        Some(before) => before.clone().merge(device.clone()),
        None => device.clone(),
    };
    if before.as_ref() == Some(&merged) {
        return Ok(None);
    }
    // Who was paired with this device is not introduced by another any more.
    let is_introduced = merged.linked.value && before.as_ref().is_none_or(|before| !before.linked.value);
    let introduced_by = match (&known, is_introduced) {
        (_, true) => from,
        (Some(known), false) => known.introduced_by,
        (None, false) => None,
    };
    let change = next_change(tx).await?;
    sqlx::query!(
        "INSERT INTO devices (id, own, pin, name, name_stamp, addresses, addresses_stamp, linked, linked_stamp,
            introduced_by, seq)
         VALUES (?, FALSE, ?, ?, ?, ?, ?, ?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE pin = VALUES(pin), name = VALUES(name), name_stamp = VALUES(name_stamp),
         addresses = VALUES(addresses), addresses_stamp = VALUES(addresses_stamp), linked = VALUES(linked),
         linked_stamp = VALUES(linked_stamp), introduced_by = VALUES(introduced_by), seq = VALUES(seq)",
        &id.0[..],
        &merged.key[..],
        merged.name.value,
        merged.name.stamp.to_bits(),
        merged.addresses.value.join("\n"),
        merged.addresses.stamp.to_bits(),
        merged.linked.value,
        merged.linked.stamp.to_bits(),
        introduced_by.as_ref().map(|id| &id.0[..]),
        change
    )
    .execute(&mut **tx)
    .await?;
    Ok(Some(change))
}
