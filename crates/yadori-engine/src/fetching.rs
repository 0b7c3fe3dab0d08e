//! Fetching content that is on another device only.

use crate::history::History;
use crate::history::names::FindNameError;
use crate::links::Links;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use yadori_core::ClipId;
use yadori_store::{ClipRecord, StoreError};

/// How long content may take to come, as long as it comes on at all.
const PATIENCE: Duration = Duration::from_secs(20);

/// How long somebody waits to hear that something more has come.
const MOMENT: Duration = Duration::from_secs(1);

/// Why nothing is fetched.
#[derive(Debug, Error)]
pub enum FetchError {
    /// The name leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// No device that has it is there.
    #[error("some of its content is on another device, which is not there at the moment")]
    Elsewhere,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// How far the fetching of a clip has come.
#[derive(Clone, Copy, Debug)]
pub struct Fetched {
    /// The clip.
    pub id: ClipId,
    /// Bytes that are here.
    pub here: u64,
    /// Bytes that it has.
    pub size: u64,
}

/// Fetches what is wanted and elsewhere.
pub struct Fetching {
    pub(crate) history: Arc<History>,
    pub(crate) links: Arc<Links>,
}

impl Fetching {
    /// Fetches for this history over these connections.
    pub fn new(history: Arc<History>, links: Arc<Links>) -> Self {
        Self { history, links }
    }

    /// Fetches what of a clip is on another device only. On return all of it is here.
    pub async fn fetch_whole(&self, record: &ClipRecord) -> Result<(), FetchError> {
        if !record.elsewhere {
            return Ok(());
        }
        let mut fetched = self.links.fetches();
        let mut afresh = true;
        loop {
            fetched.mark_unchanged();
            let missing = self.history.store.missing(record.number).await?;
            if missing.is_empty() {
                return Ok(());
            }
            if !missing.iter().all(|(hash, have, _)| self.links.fetch(*hash, *have, afresh)) {
                return Err(FetchError::Elsewhere);
            }
            afresh = false;
            // As long as something comes, it goes on.
            if tokio::time::timeout(PATIENCE, fetched.changed()).await.is_err() {
                return Err(FetchError::Elsewhere);
            }
        }
    }

    /// Fetches what of a clip is on another device only, and tells how far that has come: once more than `after`
    /// bytes are here, and after a moment in any case.
    pub async fn fetch_more(&self, name: &str, after: Option<u64>) -> Result<Fetched, FetchError> {
        let (record, _) = self.history.find_clip(name).await?;
        let mut fetched = self.links.fetches();
        let deadline = tokio::time::Instant::now() + MOMENT;
        let mut afresh = after.is_none();
        loop {
            fetched.mark_unchanged();
            let missing = self.history.store.missing(record.number).await?;
            let left: u64 = missing.iter().map(|(_, have, size)| size - have).sum();
            let here = record.size.saturating_sub(left);
            let progress = || Fetched { id: record.id, here, size: record.size };
            if !missing.iter().all(|(hash, have, _)| self.links.fetch(*hash, *have, afresh)) {
                return Err(FetchError::Elsewhere);
            }
            afresh = false;
            let is_news = after.is_none_or(|after| here > after);
            if missing.is_empty() || is_news || tokio::time::timeout_at(deadline, fetched.changed()).await.is_err() {
                return Ok(progress());
            }
        }
    }
}
