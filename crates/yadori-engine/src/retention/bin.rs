//! The bin: listed, brought back from, emptied.

use crate::history::find::MOST_ON_A_PAGE;
use crate::history::listing::Listed;
use crate::history::names::{FindNameError, check_number};
use crate::retention::Retention;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::clip::Gone;
use yadori_core::{ClipId, MillisSinceEpoch};
use yadori_store::{ClipRecord, StoreError};

/// Clips listed when nothing else is asked for.
const USUAL: u32 = 50;

/// Clips read at a time when the bin is emptied.
const BATCH: u32 = 200;

/// Why the bin was not listed.
#[derive(Debug, Error)]
pub enum BinError {
    /// Zero clips, or too many.
    #[error("a page of the bin has 1 to {} clips", MOST_ON_A_PAGE)]
    Limit,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What waits in the bin.
#[derive(Clone, Debug)]
pub struct Bin {
    /// A page of it, latest first.
    pub clips: Vec<Binned>,
    /// How many clips there are in all.
    pub total: u64,
    /// How many bytes they have.
    pub bytes: u64,
}

/// A clip in the bin.
#[derive(Clone, Debug)]
pub struct Binned {
    /// The clip.
    pub record: ClipRecord,
    /// How it came there.
    pub how: Gone,
    /// When.
    pub since: MillisSinceEpoch,
}

impl Retention {
    /// What waits in the bin, latest first.
    pub async fn bin(&self, skip: u32, limit: Option<u32>) -> Result<Bin, BinError> {
        let limit = limit.unwrap_or(USUAL);
        if !(1..=MOST_ON_A_PAGE).contains(&limit) {
            return Err(BinError::Limit);
        }
        let records = self.history.store.bin(skip, limit).await?;
        let (total, bytes) = self.history.store.bin_size().await?;
        let binned = |record: ClipRecord| {
            let (stamp, how) = record.life.gone()?;
            Some(Binned { record, how, since: stamp.at() })
        };
        Ok(Bin { clips: records.into_iter().filter_map(binned).collect(), total, bytes })
    }

    /// Brings clips back from the bin, to their places in the history.
    pub async fn restore(&self, names: &[String]) -> Result<Vec<Listed>, FindNameError> {
        check_number(names)?;
        let mut records: Vec<ClipRecord> = Vec::with_capacity(names.len());
        for name in names {
            records.push(self.history.find_in_bin(name).await?);
        }
        let numbers: Vec<u64> = records.iter().map(|record| record.number).collect();
        self.history.ledger.changed(self.history.store.restore(&numbers, self.history.stamps.next()).await?);
        self.history.forgetting.notify_one();
        let ids: Vec<ClipId> = records.iter().map(|record| record.id).collect();
        Ok(self.history.listed_now(&ids).await?)
    }

    /// Forgets everything in the bin for good. Gives how many clips that were.
    pub async fn empty_bin(self: &Arc<Self>) -> Result<u64, StoreError> {
        let _alone = self.stepping.lock().await;
        let mut forgotten = 0;
        loop {
            let numbers: Vec<u64> =
                self.history.store.bin(0, BATCH).await?.iter().map(|record| record.number).collect();
            if numbers.is_empty() {
                self.secure_erase();
                return Ok(forgotten);
            }
            forgotten += numbers.len() as u64;
            self.purge_all(&numbers).await?;
        }
    }
}
