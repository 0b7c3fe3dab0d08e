//! Stamps that lie in the future are brought back: they were given out while this device's clock was wrong.
//!
//! No other device has believed them, so that they can be changed as if they had never been told. Their order and their
//! distances stay. When they were really given out is not known, but for this: it was after the clock was last seen to be
//! right, by a stamp that was, or by another device that was connected. So the first of them becomes a stamp of then, and
//! what other devices have done since wins over it, rather than losing to what may have been done long before. Where
//! nothing is known, the last of them becomes a stamp of now.

use crate::columns::STAMPS_OF_CLIPS;
use crate::registers::{StateRow, put_columns, select_states};
use crate::stamps;
use crate::store::{Store, StoreError};
use crate::write_tx::next_changes;
use std::collections::BTreeMap;
use yadori_core::{HybridClock, MillisSinceEpoch, Stamp};

impl Store {
    /// Brings every stamp that lies after `believed` back, to before `now`. Gives the latest stamp there is then, and the
    /// number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn repair_clock(&self, believed: Stamp, now: MillisSinceEpoch) -> Result<(Stamp, u64), StoreError> {
        let limit = believed.to_bits();
        let mut tx = self.begin_writing().await?;
        let mut change = tx.latest_change();
        let latest =
            STAMPS_OF_CLIPS.iter().map(|column| format!("COALESCE({column}, 0)")).collect::<Vec<_>>().join(", ");
        let mut clips: Vec<StateRow> =
            sqlx::query_as(select_states(&format!("FROM clips c WHERE GREATEST({latest}) > ? FOR UPDATE")))
                .bind(limit)
                .fetch_all(&mut *tx)
                .await?;
        let others = stamps::later_elsewhere(&mut tx, limit).await?;
        let latest_right = stamps::latest_up_to(&mut tx, limit).await?;

        let mut becomes: BTreeMap<u64, u64> = others.iter().map(|stamp| (*stamp, 0)).collect();
        for clip in &mut clips {
            clip.columns.change_stamps(|stamp| {
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
            clip.columns.change_stamps(|stamp| *stamp = becomes.get(stamp).copied().unwrap_or(*stamp));
        }

        if !clips.is_empty() {
            change = put_columns(&mut tx, &clips).await?;
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
        stamps::forget_latest(&mut tx).await?;
        tx.commit().await?;
        Ok((Stamp::from_bits(becomes.values().copied().max().unwrap_or(latest_right)), change))
    }
}
