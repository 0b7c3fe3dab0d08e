//! What stays of clips that were deleted long ago, when a linked device has still not heard of it.
//!
//! A tombstone says which clip was deleted, and is told to others. After half a year it is hashed: what is left says when
//! it was, but of which clip only to somebody who asks for that very clip. The device that was away is read anew from
//! the beginning when it comes back; what it still has of such a clip meets the hash and is deleted, here and, since
//! the tombstone is then there again, everywhere.

use crate::registers::{StateRow, select_states};
use crate::snapshots::note_purged;
use crate::store::{Store, StoreError, TombstoneKey, numbers_as_json};
use crate::write_tx::WriteTx;
use data_encoding::HEXLOWER;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::atomic::Ordering;
use yadori_core::merge::{Register, State};
use yadori_core::shared::Clip;
use yadori_core::{ClipId, DeviceId, Stamp};

/// Tombstones that are hashed in one statement at most.
const BATCH: u32 = 500;

/// Bytes of a hashed tombstone.
const HASH: usize = 16;

fn hashed(key: &TombstoneKey, id: &[u8]) -> String {
    HEXLOWER.encode(&blake3::keyed_hash(key, id).as_bytes()[..HASH])
}

/// What is left of a clip, as the database has it.
#[derive(Clone, Debug, Serialize)]
struct HashedTombstone {
    hash: String,
    device: u32,
    #[serde(skip)]
    origin: DeviceId,
    copied: u64,
    restored: u64,
    deleted: u64,
    cleared: Option<u64>,
    purged: Option<u64>,
    pin_stamp: Option<u64>,
    drawer_stamp: Option<u64>,
}

impl HashedTombstone {
    fn state(&self) -> State {
        let stamp = |bits: Option<u64>| Stamp::from_bits(bits.unwrap_or(0));
        State {
            copied: Stamp::from_bits(self.copied),
            origin: self.origin,
            restored: Stamp::from_bits(self.restored),
            deleted: Stamp::from_bits(self.deleted),
            cleared: stamp(self.cleared),
            purged: stamp(self.purged),
            pin: Register::new(stamp(self.pin_stamp), None),
            drawer: Register::new(stamp(self.drawer_stamp), None),
            ..State::default()
        }
    }

    /// Both together.
    fn merge(self, other: Self) -> Self {
        let state = self.state().merge(other.state());
        let bits = |stamp: Stamp| (stamp != Stamp::NEVER).then(|| stamp.to_bits());
        Self {
            device: if state.origin == self.origin { self.device } else { other.device },
            origin: state.origin,
            copied: state.copied.to_bits(),
            restored: state.restored.to_bits(),
            deleted: state.deleted.to_bits(),
            cleared: bits(state.cleared),
            purged: bits(state.purged),
            pin_stamp: bits(state.pin.stamp),
            drawer_stamp: bits(state.drawer.stamp),
            hash: self.hash,
        }
    }
}

/// The hashes that are there of these, by their places among them.
async fn found(tx: &mut WriteTx, hashes: &[String]) -> Result<Vec<(usize, HashedTombstone)>, sqlx::Error> {
    let rows = sqlx::query!(
        r#"SELECT w.nth AS "nth!: u32", d.id AS origin, s.device, s.copied, s.restored, s.deleted, s.cleared, s.purged,
            s.pin_stamp, s.drawer_stamp
           FROM JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, hash CHAR(32) PATH '$')) w
           STRAIGHT_JOIN hashed_tombstones s ON s.hash = UNHEX(w.hash) STRAIGHT_JOIN devices d ON d.no = s.device"#,
        serde_json::to_string(hashes).unwrap_or_else(|_| "[]".into())
    )
    .fetch_all(&mut **tx)
    .await?;
    let found = rows.into_iter().filter_map(|row| {
        let place = row.nth.checked_sub(1)? as usize;
        let found = HashedTombstone {
            hash: hashes.get(place)?.clone(),
            device: row.device,
            origin: DeviceId::from_slice(&row.origin).unwrap_or_default(),
            copied: row.copied,
            restored: row.restored,
            deleted: row.deleted,
            cleared: row.cleared,
            purged: row.purged,
            pin_stamp: row.pin_stamp,
            drawer_stamp: row.drawer_stamp,
        };
        Some((place, found))
    });
    Ok(found.collect())
}

impl Store {
    /// From now on, old tombstones are hashed with this key. It is not to lie in the database.
    pub fn hash_tombstones_with(&self, key: [u8; 32]) {
        *self.tombstone_key.write() = Some(key);
    }

    pub(crate) fn tombstone_key(&self) -> Option<TombstoneKey> {
        *self.tombstone_key.read()
    }

    /// Finds out whether there are any.
    pub(crate) async fn look_for_hashed_tombstones(&self) -> Result<(), StoreError> {
        let any = sqlx::query_scalar!("SELECT EXISTS (SELECT 1 FROM hashed_tombstones) AS `any: bool`")
            .fetch_one(&self.connections)
            .await?;
        self.may_have_hashed.store(any, Ordering::SeqCst);
        Ok(())
    }

    /// Hashes the tombstones that are still there of what was gone at `long_ago`, but for those that a device has still to
    /// pass that is `connected`. The other devices that have not passed them are read anew.
    pub(crate) async fn hash_tombstones(
        &self,
        tx: &mut WriteTx,
        long_ago: Stamp,
        connected: &[DeviceId],
    ) -> Result<(), StoreError> {
        let Some(key) = &self.tombstone_key() else { return Ok(()) };
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
            let rows: Vec<StateRow> = sqlx::query_as(select_states(
                "FROM clips c WHERE c.tombstone = TRUE AND c.gone <= ? AND c.seq <= ? LIMIT ?",
            ))
            .bind(long_ago.to_bits())
            .bind(passed)
            .bind(BATCH)
            .fetch_all(&mut **tx)
            .await?;
            let Some(latest) = rows.iter().map(|row| row.seq).max() else { return Ok(()) };
            let numbers: Vec<u64> = rows.iter().map(|row| row.no).collect();
            let mut tombstones: Vec<HashedTombstone> = rows
                .iter()
                .map(|row| HashedTombstone {
                    hash: hashed(key, &row.id),
                    device: row.columns.device,
                    origin: row.state().origin,
                    copied: row.columns.copied,
                    restored: row.columns.restored,
                    deleted: row.columns.deleted,
                    cleared: row.columns.cleared,
                    purged: row.columns.purged,
                    pin_stamp: row.columns.pin_stamp,
                    drawer_stamp: row.columns.drawer_stamp,
                })
                .collect();
            // A clip may have been copied here again, and deleted again, without its hash being asked: both count.
            let hashes: Vec<String> = tombstones.iter().map(|one| one.hash.clone()).collect();
            for (place, before) in found(tx, &hashes).await? {
                tombstones[place] = tombstones[place].clone().merge(before);
            }
            self.may_have_hashed.store(true, Ordering::SeqCst);
            sqlx::query!(
                "REPLACE INTO hashed_tombstones
                    (hash, device, copied, restored, deleted, cleared, purged, pin_stamp, drawer_stamp)
                 SELECT UNHEX(w.hash), w.device, w.copied, w.restored, w.deleted, w.cleared, w.purged, w.pin_stamp,
                    w.drawer_stamp
                 FROM JSON_TABLE(?, '$[*]' COLUMNS (hash CHAR(32) PATH '$.hash', device INT UNSIGNED PATH '$.device',
                    copied BIGINT UNSIGNED PATH '$.copied', restored BIGINT UNSIGNED PATH '$.restored',
                    deleted BIGINT UNSIGNED PATH '$.deleted', cleared BIGINT UNSIGNED PATH '$.cleared',
                    purged BIGINT UNSIGNED PATH '$.purged', pin_stamp BIGINT UNSIGNED PATH '$.pin_stamp',
                    drawer_stamp BIGINT UNSIGNED PATH '$.drawer_stamp')) w",
                serde_json::to_string(&tombstones).unwrap_or_else(|_| "[]".into())
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
            note_purged(tx, Some(latest)).await?;
            sqlx::query!(
                "UPDATE devices SET cursor_upto = 0, cursor_feed = NULL WHERE linked = TRUE AND own = FALSE AND acked < ?",
                latest
            )
            .execute(&mut **tx)
            .await?;
        }
    }

    /// Nobody is left who would have to be told.
    pub(crate) async fn drop_hashed_tombstones(&self, tx: &mut WriteTx) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM hashed_tombstones").execute(&mut **tx).await?;
        Ok(())
    }
}

/// Of these clips, those that meet a hashed tombstone, as they are together with it.
pub(crate) async fn with_hashed_tombstones(
    tx: &mut WriteTx,
    key: Option<&TombstoneKey>,
    told: &[&Clip],
) -> Result<HashMap<ClipId, Clip>, StoreError> {
    let Some(key) = key else { return Ok(HashMap::new()) };
    let hashes: Vec<String> = told.iter().map(|clip| hashed(key, &clip.id.0)).collect();
    let met = found(tx, &hashes).await?.into_iter().filter_map(|(place, found)| {
        let clip = told.get(place)?;
        let state = clip.state.clone().merge(found.state());
        let body = clip.body.as_ref().filter(|_| state.is_live(Stamp::NEVER)).cloned();
        Some((clip.id, Clip { id: clip.id, kind: clip.kind, state, body }))
    });
    Ok(met.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_clip_that_is_hashed_again_is_known_by_both() {
        let tombstone = |copied, origin: u8, purged| HashedTombstone {
            hash: "00".into(),
            device: origin.into(),
            origin: DeviceId([origin; 16]),
            copied,
            restored: 0,
            deleted: copied + 1,
            cleared: None,
            purged,
            pin_stamp: Some(2),
            drawer_stamp: None,
        };
        let both = tombstone(5, 1, Some(6)).merge(tombstone(9, 2, None));
        assert_eq!((both.copied, both.device, both.deleted, both.purged), (9, 2, 10, Some(6)));
        // What it was given before it was forgotten for good counts no more.
        assert_eq!(both.pin_stamp, None);
    }
}
