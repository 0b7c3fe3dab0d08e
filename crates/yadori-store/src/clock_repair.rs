//! Stamps that lie in the future are brought back: they were given out while this device's clock was wrong.
//!
//! No other device has believed them, so that they can be changed as if they had never been told. Their order and their
//! distances stay. When they were really given out is not known, but for this: it was after the clock was last seen to be
//! right, by a stamp that was, or by another device that was connected. So the first of them becomes a stamp of then, and
//! what other devices have done since wins over it, rather than losing to what may have been done long before. Where
//! nothing is known, the last of them becomes a stamp of now.

use crate::stamps;
use crate::store::{Store, StoreError, next_changes};
use serde::Serialize;
use std::collections::BTreeMap;
use yadori_core::{HybridClock, MillisSinceEpoch, Stamp};

/// Clips that are put down in one statement at most.
const BATCH: usize = 500;

#[derive(Serialize)]
struct Stamps {
    no: u64,
    copied: u64,
    restored: u64,
    deleted: u64,
    cleared: Option<u64>,
    swept: Option<u64>,
    purged: Option<u64>,
    title: Option<u64>,
    mark: Option<u64>,
    alias: Option<u64>,
    fills: Option<u64>,
    pin: Option<u64>,
    drawer: Option<u64>,
}

impl Stamps {
    fn each(&mut self, mut change: impl FnMut(&mut u64)) {
        [&mut self.copied, &mut self.restored, &mut self.deleted].into_iter().for_each(&mut change);
        let may_be = [&mut self.cleared, &mut self.swept, &mut self.purged, &mut self.title, &mut self.mark];
        let rest = [&mut self.alias, &mut self.fills, &mut self.pin, &mut self.drawer];
        may_be.into_iter().chain(rest).flatten().for_each(change);
    }
}

impl Store {
    /// Brings every stamp that lies after `believed` back, to before `now`. Gives the latest stamp there is then, and the
    /// number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn repair_clock(&self, believed: Stamp, now: MillisSinceEpoch) -> Result<(Stamp, u64), StoreError> {
        let limit = believed.to_bits();
        let mut tx = self.begin_writing().await?;
        let mut change = sqlx::query_scalar!("SELECT last FROM feed WHERE one = 1").fetch_one(&mut *tx).await?;
        let mut clips = sqlx::query_as!(
            Stamps,
            "SELECT no, copied, restored, deleted, cleared, swept, purged, title_stamp AS title, mark_stamp AS mark,
                alias_stamp AS alias, fills_stamp AS fills, pin_stamp AS pin, drawer_stamp AS drawer FROM clips
             WHERE GREATEST(copied, restored, deleted, COALESCE(cleared, 0), COALESCE(swept, 0), COALESCE(purged, 0),
                COALESCE(title_stamp, 0), COALESCE(mark_stamp, 0), COALESCE(alias_stamp, 0), COALESCE(fills_stamp, 0),
                COALESCE(pin_stamp, 0), COALESCE(drawer_stamp, 0)) > ? FOR UPDATE",
            limit
        )
        .fetch_all(&mut *tx)
        .await?;
        let others = stamps::later_elsewhere(&mut tx, limit).await?;
        let latest_right = stamps::latest_up_to(&mut tx, limit).await?;

        let mut becomes: BTreeMap<u64, u64> = others.iter().map(|stamp| (*stamp, 0)).collect();
        for clip in &mut clips {
            clip.each(|stamp| {
                if *stamp > limit {
                    becomes.insert(*stamp, 0);
                }
            });
        }
        let mut clock = HybridClock::after(Stamp::from_bits(latest_right));
        let last_met =
            sqlx::query_scalar!(r#"SELECT MAX(seen_at) AS "at: u64" FROM devices WHERE seen_at <= ?"#, now.0)
                .fetch_one(&mut *tx)
                .await?;
        let known_right = Stamp::from_bits(latest_right).at().0.max(last_met.unwrap_or(0));
        let at = |stamp: Option<&u64>| stamp.map_or(0, |stamp| Stamp::from_bits(*stamp).at().0);
        let (first, last) = (at(becomes.keys().next()), at(becomes.keys().next_back()));
        let ahead = match known_right {
            0 => last.saturating_sub(now.0),
            // What was done meanwhile was done by now.
            right => first.saturating_sub(right).max(last.saturating_sub(now.0)),
        };
        for (was, becomes) in &mut becomes {
            *becomes = clock.tick(Stamp::from_bits(*was).at().minus(ahead)).to_bits();
        }
        for clip in &mut clips {
            clip.each(|stamp| *stamp = becomes.get(stamp).copied().unwrap_or(*stamp));
        }

        for some in clips.chunks(BATCH) {
            let before = next_changes(&mut tx, some.len()).await?;
            change = before + some.len() as u64;
            sqlx::query!(
                "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, no BIGINT UNSIGNED PATH '$.no',
                    copied BIGINT UNSIGNED PATH '$.copied', restored BIGINT UNSIGNED PATH '$.restored',
                    deleted BIGINT UNSIGNED PATH '$.deleted', cleared BIGINT UNSIGNED PATH '$.cleared',
                    swept BIGINT UNSIGNED PATH '$.swept', purged BIGINT UNSIGNED PATH '$.purged',
                    title BIGINT UNSIGNED PATH '$.title', mark BIGINT UNSIGNED PATH '$.mark',
                    alias BIGINT UNSIGNED PATH '$.alias', fills BIGINT UNSIGNED PATH '$.fills',
                    pin BIGINT UNSIGNED PATH '$.pin', drawer BIGINT UNSIGNED PATH '$.drawer')) w
                 STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
                 SET c.seq = ? + w.nth, c.copied = w.copied, c.restored = w.restored, c.deleted = w.deleted,
                    c.cleared = w.cleared, c.swept = w.swept, c.purged = w.purged, c.title_stamp = w.title,
                    c.mark_stamp = w.mark, c.alias_stamp = w.alias, c.fills_stamp = w.fills, c.pin_stamp = w.pin,
                    c.drawer_stamp = w.drawer",
                serde_json::to_string(some).unwrap_or_else(|_| "[]".into()),
                before
            )
            .execute(&mut *tx)
            .await?;
        }
        sqlx::query!("UPDATE clips SET recalled_at = ? WHERE recalled_at > ?", now.0, believed.at().0)
            .execute(&mut *tx)
            .await?;
        for was in &others {
            let is = becomes[was];
            change = next_changes(&mut tx, 1).await? + 1;
            sqlx::query!("UPDATE drawers SET changed = ?, seq = ? WHERE changed = ?", is, change, was)
                .execute(&mut *tx)
                .await?;
            sqlx::query!("UPDATE headings SET changed = ?, seq = ? WHERE changed = ?", is, change, was)
                .execute(&mut *tx)
                .await?;
            sqlx::query!("UPDATE steps SET stamp = ?, at = ? WHERE stamp = ?", is, is >> 16, was)
                .execute(&mut *tx)
                .await?;
            sqlx::query!(
                "UPDATE devices SET name_stamp = IF(name_stamp = ?, ?, name_stamp),
                    addresses_stamp = IF(addresses_stamp = ?, ?, addresses_stamp),
                    linked_stamp = IF(linked_stamp = ?, ?, linked_stamp), seq = ?
                 WHERE ? IN (name_stamp, addresses_stamp, linked_stamp)",
                was,
                is,
                was,
                is,
                was,
                is,
                change,
                was
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok((Stamp::from_bits(becomes.values().copied().max().unwrap_or(latest_right)), change))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_stamp_of_a_clip_is_brought_back() {
        let stamps = Stamps {
            no: 0,
            copied: 1,
            restored: 1,
            deleted: 1,
            cleared: Some(1),
            swept: Some(1),
            purged: Some(1),
            title: Some(1),
            mark: Some(1),
            alias: Some(1),
            fills: Some(1),
            pin: Some(1),
            drawer: Some(1),
        };
        let mut seen = 0;
        { stamps }.each(|stamp| seen += *stamp);
        assert_eq!(seen, stamps::STAMPS_OF_CLIPS.len() as u64);
    }
}
