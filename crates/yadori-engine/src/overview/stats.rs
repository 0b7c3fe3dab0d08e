//! The figures: what is kept, how it grows, what is reused.

use crate::clock::now;
use crate::overview::Overview;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::HashMap;
use thiserror::Error;
use yadori_api as api;
use yadori_core::amounts::DAY;
use yadori_store::StoreError;

/// Days told of when nothing else is asked for, and at most.
const DAYS: (u32, u32) = (14, 366);

/// Clips and applications in a list of the first ones.
const FIRST: usize = 10;

/// Seconds that it takes to walk to the source of something, copy it and walk back; and to recall it instead.
const WALK_SECONDS: u64 = 7;
const RECALL_SECONDS: u64 = 2;

/// Why there are no figures.
#[derive(Debug, Error)]
pub enum StatsError {
    /// Zero days, or too many.
    #[error("figures are for 1 to {} days", DAYS.1)]
    Days,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Overview {
    /// The figures of the last days.
    pub async fn stats(&self, asked: &api::StatsQuery) -> Result<api::Stats, StatsError> {
        let count = asked.days.unwrap_or(DAYS.0);
        if !(1..=DAYS.1).contains(&count) {
            return Err(StatsError::Days);
        }
        self.capture.count_captured().await?;
        let today = u32::try_from(now().0 / DAY).unwrap_or(u32::MAX);
        let first = today.saturating_sub(count - 1);
        let happened = self.history.store.days(first).await?;
        let recalls = self.history.store.recalls().await?;
        let mut sizes: HashMap<u32, u64> = HashMap::new();
        let mut kinds: HashMap<String, (u64, u64)> = HashMap::new();
        let mut applications: HashMap<String, (u64, u64)> = HashMap::new();
        let (mut kept, mut bytes) = (0, 0);
        let (clips, used) = {
            let index = self.history.ledger.read().await;
            for (id, clip) in index.candidates() {
                let day = index.copied_at(id).map_or(0, |stamp| u32::try_from(stamp.at().0 / DAY).unwrap_or(0));
                *sizes.entry(day).or_default() += clip.size;
                let shares = [
                    kinds.entry(clip.kind.word().to_owned()).or_default(),
                    applications.entry(index.application_of(id).unwrap_or_default().to_owned()).or_default(),
                ];
                for (clips, bytes) in shares {
                    *clips += 1;
                    *bytes += clip.size;
                }
                kept += u64::from(clip.kept);
                bytes += clip.size;
            }
            (index.len() as u64, index.most_used(FIRST))
        };
        let days = (first..=today).map(|number| {
            let day = happened.iter().find(|day| day.number == number).copied().unwrap_or_default();
            api::DayFigures {
                day: date(number),
                captured: day.captured,
                recalled: day.recalled,
                swept: day.swept,
                cleared: day.cleared,
                bytes: sizes.get(&number).copied().unwrap_or(0),
            }
        });
        Ok(api::Stats {
            clips,
            kept,
            bytes,
            bytes_on_disk: self.history.store.bytes_on_disk().await.ok(),
            in_bin: self.history.store.bin_size().await?.0,
            days: days.collect(),
            kinds: shares(kinds),
            applications: shares(applications).into_iter().take(FIRST).collect(),
            most_used: self.history.listed_now(&used).await?,
            saved: api::Saved {
                recalls,
                switches: recalls * 2,
                seconds: recalls * (WALK_SECONDS - RECALL_SECONDS),
                formula: format!(
                    "each recall spares two switches of windows; walking to the source and back is taken to last {WALK_SECONDS} seconds, a recall {RECALL_SECONDS}"
                ),
            },
        })
    }
}

fn date(number: u32) -> String {
    let epoch = Date::constant(1970, 1, 1);
    epoch.checked_add(i64::from(number).days()).unwrap_or(epoch).to_string()
}

fn shares(shares: HashMap<String, (u64, u64)>) -> Vec<api::Share> {
    let mut shares: Vec<api::Share> =
        shares.into_iter().map(|(name, (clips, bytes))| api::Share { name, clips, bytes }).collect();
    shares.sort_by(|a, b| b.clips.cmp(&a.clips).then_with(|| a.name.cmp(&b.name)));
    shares
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn days_are_numbered_from_the_epoch() {
        assert_eq!((date(0).as_str(), date(20_780).as_str()), ("1970-01-01", "2026-11-23"));
    }
}
