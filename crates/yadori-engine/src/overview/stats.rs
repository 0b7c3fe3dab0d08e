//! The figures: what is kept, how it grows, what is reused.

use crate::clock::now;
use crate::history::listing::Listed;
use crate::overview::Overview;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::HashMap;
use thiserror::Error;
use yadori_core::amounts::DAY;
use yadori_store::StoreError;

/// Days told of when nothing else is asked for, and at most.
const DAYS: (u32, u32) = (14, 366);

/// Clips and applications in a list of the first ones.
const FIRST: usize = 10;

/// Seconds that it takes to walk to the source of something, copy it and walk back.
pub const WALK_SECONDS: u64 = 7;
/// Seconds that it takes to recall it instead.
pub const RECALL_SECONDS: u64 = 2;

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

/// What happened on a day, by UTC.
#[derive(Clone, Debug)]
pub struct DayFigures {
    /// The day, as 2026-11-23.
    pub day: String,
    /// Copies captured.
    pub captured: u32,
    /// Clips recalled.
    pub recalled: u32,
    /// Clips swept.
    pub swept: u32,
    /// Clips cleared or deleted.
    pub cleared: u32,
    /// Bytes of the clips in the history that were copied on it.
    pub bytes: u64,
}

/// What part of the history something has.
#[derive(Clone, Debug)]
pub struct Share {
    /// What.
    pub name: String,
    /// How many clips.
    pub clips: u64,
    /// How many bytes.
    pub bytes: u64,
}

/// The figures.
#[derive(Clone, Debug)]
pub struct Stats {
    /// How many clips the history has.
    pub clips: u64,
    /// How many of them are kept.
    pub kept: u64,
    /// Their bytes.
    pub bytes: u64,
    /// Bytes that the database takes on the disk, if it says.
    pub bytes_on_disk: Option<u64>,
    /// Clips in the bin.
    pub in_bin: u64,
    /// The last days.
    pub days: Vec<DayFigures>,
    /// By kind.
    pub kinds: Vec<Share>,
    /// By application, the first ones.
    pub applications: Vec<Share>,
    /// The clips that were used most.
    pub most_used: Vec<Listed>,
    /// How often something was recalled.
    pub recalls: u64,
}

impl Overview {
    /// The figures of the last days.
    pub async fn stats(&self, days: Option<u32>) -> Result<Stats, StatsError> {
        let count = days.unwrap_or(DAYS.0);
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
            DayFigures {
                day: date(number),
                captured: day.captured,
                recalled: day.recalled,
                swept: day.swept,
                cleared: day.cleared,
                bytes: sizes.get(&number).copied().unwrap_or(0),
            }
        });
        Ok(Stats {
            clips,
            kept,
            bytes,
            bytes_on_disk: self.history.store.bytes_on_disk().await.ok(),
            in_bin: self.history.store.bin_size().await?.0,
            days: days.collect(),
            kinds: shares(kinds),
            applications: shares(applications).into_iter().take(FIRST).collect(),
            most_used: self.history.listed_now(&used).await?,
            recalls,
        })
    }
}

fn date(number: u32) -> String {
    let epoch = Date::constant(1970, 1, 1);
    epoch.checked_add(i64::from(number).days()).unwrap_or(epoch).to_string()
}

fn shares(shares: HashMap<String, (u64, u64)>) -> Vec<Share> {
    let mut shares: Vec<Share> =
        shares.into_iter().map(|(name, (clips, bytes))| Share { name, clips, bytes }).collect();
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
