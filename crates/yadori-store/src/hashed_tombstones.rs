//! What stays of clips that were deleted long ago, when a linked device has still not heard of it.
//!
//! A trace says which clip was deleted, and is told to others. After half a year it is sealed: what is left says when
//! it was, but of which clip only to somebody who asks for that very clip. The device that was away is read anew from
//! the beginning when it comes back; what it still has of such a clip meets the seal and is deleted, here and, since
//! the trace is then there again, everywhere.

use crate::store::{Store, StoreError, numbers_as_json};
use data_encoding::HEXLOWER;
use serde::Serialize;
use sqlx::{MySql, Transaction};
use std::collections::HashMap;
use yadori_core::merge::{Register, State};
use yadori_core::shared::Clip;
use yadori_core::{ClipId, DeviceId, Stamp};

/// Traces that are sealed in one statement at most.
const BATCH: u32 = 500;

/// Bytes of a seal.
const SEAL: usize = 16;

/// The key of a device's seals.
pub(crate) type SealKey = [u8; 32];

fn seal(key: &SealKey, id: &[u8]) -> String {
    HEXLOWER.encode(&blake3::keyed_hash(key, id).as_bytes()[..SEAL])
}

#[derive(Serialize)]
struct Sealed {
    seal: String,
    device: u32,
    copied: u64,
    restored: u64,
    deleted: u64,
    cleared: Option<u64>,
    purged: Option<u64>,
    pin_stamp: Option<u64>,
    drawer_stamp: Option<u64>,
}

impl Store {
    /// From now on, old traces are sealed with this key. It is not to lie in the database.
    pub fn seal_with(&self, key: [u8; 32]) {
        *self.seal_key.write() = Some(key);
    }

    pub(crate) fn seal_key(&self) -> Option<SealKey> {
        *self.seal_key.read()
    }

    /// Seals the traces that are still there of what was gone at `long_ago`, but for those that a device has still to
    /// pass that is `connected`. The other devices that have not passed them are read anew.
    pub(crate) async fn seal_traces(
        &self,
        tx: &mut Transaction<'static, MySql>,
        long_ago: Stamp,
        connected: &[DeviceId],
    ) -> Result<(), StoreError> {
        let Some(key) = &self.seal_key() else { return Ok(()) };
        let connected: Vec<String> = connected.iter().map(|device| HEXLOWER.encode(&device.0)).collect();
        let passed = sqlx::query_scalar!(
            r#"SELECT CAST(COALESCE(MIN(d.acked), 18446744073709551615) AS UNSIGNED) AS "acked!: u64"
               FROM JSON_TABLE(?, '$[*]' COLUMNS (id CHAR(32) PATH '$')) w JOIN devices d ON d.id = UNHEX(w.id)
               WHERE d.linked = TRUE"#,
            serde_json::to_string(&connected).unwrap_or_else(|_| "[]".into())
        )
        .fetch_one(&mut **tx)
        .await?;
        loop {
            let rows = sqlx::query!(
                "SELECT no, id, seq, device, copied, restored, deleted, cleared, purged, pin_stamp, drawer_stamp FROM clips
                 WHERE shredded = TRUE AND gone <= ? AND seq <= ? LIMIT ?",
                long_ago.to_bits(),
                passed,
                BATCH
            )
            .fetch_all(&mut **tx)
            .await?;
            let Some(latest) = rows.iter().map(|row| row.seq).max() else { return Ok(()) };
            let numbers: Vec<u64> = rows.iter().map(|row| row.no).collect();
            let sealed: Vec<Sealed> = rows
                .into_iter()
                .map(|row| Sealed {
                    seal: seal(key, &row.id),
                    device: row.device,
                    copied: row.copied,
                    restored: row.restored,
                    deleted: row.deleted,
                    cleared: row.cleared,
                    purged: row.purged,
                    pin_stamp: row.pin_stamp,
                    drawer_stamp: row.drawer_stamp,
                })
                .collect();
            // A clip may have been copied here again, and deleted again, without its seal being asked: both count.
            sqlx::query!(
                "INSERT INTO sealed
                    (seal, device, copied, restored, deleted, cleared, purged, pin_stamp, drawer_stamp)
                 SELECT UNHEX(w.seal), w.device, w.copied, w.restored, w.deleted, w.cleared, w.purged, w.pin_stamp,
                    w.drawer_stamp
                 FROM JSON_TABLE(?, '$[*]' COLUMNS (seal CHAR(32) PATH '$.seal', device INT UNSIGNED PATH '$.device',
                    copied BIGINT UNSIGNED PATH '$.copied', restored BIGINT UNSIGNED PATH '$.restored',
                    deleted BIGINT UNSIGNED PATH '$.deleted', cleared BIGINT UNSIGNED PATH '$.cleared',
                    purged BIGINT UNSIGNED PATH '$.purged', pin_stamp BIGINT UNSIGNED PATH '$.pin_stamp',
                    drawer_stamp BIGINT UNSIGNED PATH '$.drawer_stamp')) w
                 ON DUPLICATE KEY UPDATE device = IF(VALUES(copied) >= sealed.copied, VALUES(device), sealed.device),
                    copied = GREATEST(sealed.copied, VALUES(copied)), restored = GREATEST(sealed.restored, VALUES(restored)),
                    deleted = GREATEST(sealed.deleted, VALUES(deleted)),
                    cleared = GREATEST(COALESCE(sealed.cleared, 0), COALESCE(VALUES(cleared), 0)),
                    purged = GREATEST(COALESCE(sealed.purged, 0), COALESCE(VALUES(purged), 0)),
                    pin_stamp = GREATEST(COALESCE(sealed.pin_stamp, 0), COALESCE(VALUES(pin_stamp), 0)),
                    drawer_stamp = GREATEST(COALESCE(sealed.drawer_stamp, 0), COALESCE(VALUES(drawer_stamp), 0))",
                serde_json::to_string(&sealed).unwrap_or_else(|_| "[]".into())
            )
            .execute(&mut **tx)
            .await?;
            sqlx::query!(
                "DELETE c FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
                 STRAIGHT_JOIN clips c ON c.no = w.no",
                numbers_as_json(&numbers)
            )
            .execute(&mut **tx)
            .await?;
            sqlx::query!(
                "UPDATE devices SET cursor_upto = 0, cursor_feed = NULL WHERE linked = TRUE AND own = FALSE AND acked < ?",
                latest
            )
            .execute(&mut **tx)
            .await?;
        }
    }

    /// Nobody is left who would have to be told.
    pub(crate) async fn drop_seals(&self, tx: &mut Transaction<'static, MySql>) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM sealed").execute(&mut **tx).await?;
        Ok(())
    }
}

/// Of these clips, those that meet a seal, as they are together with it.
pub(crate) async fn with_seals(
    tx: &mut Transaction<'static, MySql>,
    key: Option<&SealKey>,
    told: &[&Clip],
) -> Result<HashMap<ClipId, Clip>, StoreError> {
    let Some(key) = key else { return Ok(HashMap::new()) };
    let seals: Vec<String> = told.iter().map(|clip| seal(key, &clip.id.0)).collect();
    let rows = sqlx::query!(
        r#"SELECT w.nth AS "nth!: u32", d.id AS device, s.copied, s.restored, s.deleted, s.cleared, s.purged, s.pin_stamp,
            s.drawer_stamp
           FROM JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, seal CHAR(32) PATH '$')) w
           STRAIGHT_JOIN sealed s ON s.seal = UNHEX(w.seal) STRAIGHT_JOIN devices d ON d.no = s.device"#,
        serde_json::to_string(&seals).unwrap_or_else(|_| "[]".into())
    )
    .fetch_all(&mut **tx)
    .await?;
    let stamp = |bits: Option<u64>| Stamp::from_bits(bits.unwrap_or(0));
    let met = rows.into_iter().filter_map(|row| {
        let clip = told.get(row.nth.checked_sub(1)? as usize)?;
        let sealed = State {
            copied: Stamp::from_bits(row.copied),
            origin: DeviceId::from_slice(&row.device).unwrap_or_default(),
            restored: Stamp::from_bits(row.restored),
            deleted: Stamp::from_bits(row.deleted),
            cleared: stamp(row.cleared),
            purged: stamp(row.purged),
            pin: Register::new(stamp(row.pin_stamp), None),
            drawer: Register::new(stamp(row.drawer_stamp), None),
            ..State::default()
        };
        let state = clip.state.clone().merge(sealed);
        let body = clip.body.as_ref().filter(|_| state.is_live(Stamp::NEVER)).cloned();
        Some((clip.id, Clip { id: clip.id, kind: clip.kind, state, body }))
    });
    Ok(met.collect())
}
