//! Delete and clear: move clips to the bin, or forget them for good.

use crate::clock::{now, timestamp};
use crate::history::names::FindNameError;
use crate::retention::Retention;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::OwnedMutexGuard;
use yadori_api as api;
use yadori_core::search::Query;
use yadori_core::search::fold::fold;
use yadori_core::search::query::Filter;
use yadori_core::{ClipId, retention};
use yadori_store::{GENTLE, How, Step, StoreError};

/// Clips forgotten for good in one transaction.
const BATCH: usize = 50;

/// Why nothing was cleared.
#[derive(Debug, Error)]
pub enum ClearError {
    /// The history has changed since the person was asked.
    #[error("there are {now} clips to clear by now, not {expected}")]
    Changed {
        /// How many the person was told of.
        expected: u64,
        /// How many there are.
        now: u64,
    },
    /// A filter that would let everything through.
    #[error("the {0} to clear has no name; leave it out to clear everything that is not kept")]
    EmptyFilter(&'static str),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Retention {
    /// Moves the clips with these names to the bin, as one step; or forgets them for good. When one of the names
    /// leads nowhere, nothing is deleted.
    pub async fn delete(self: &Arc<Self>, asked: &api::Delete) -> Result<api::Deleted, FindNameError> {
        let mut clips = self.find_clips_to_delete(asked).await?;
        let numbers: Vec<u64> = clips.iter().map(|(number, _)| *number).collect();
        let shown: Vec<api::Clip> = clips.drain(..).map(|(_, clip)| clip).collect();
        if asked.for_good {
            self.shred_all(&numbers).await?;
            self.scrub();
            return Ok(api::Deleted { clips: shown, step: None, undo_until: None });
        }
        let ids: Vec<ClipId> = shown.iter().filter_map(|clip| ClipId::parse(&clip.id)).collect();
        let step = self.do_step(How::Delete, numbers, &ids).await?;
        let until = step.at.plus(retention::BIN_MILLIS);
        Ok(api::Deleted { clips: shown, step: Some(step.number), undo_until: Some(timestamp(until)) })
    }

    /// For good, clips in the bin can be named too.
    async fn find_clips_to_delete(&self, asked: &api::Delete) -> Result<Vec<(u64, api::Clip)>, FindNameError> {
        if !asked.for_good {
            let clips = self.history.find_clips(&asked.clips).await?;
            return Ok(clips
                .iter()
                .map(|(record, at)| (record.number, self.history.listed(record, Some(*at))))
                .collect());
        }
        if asked.clips.is_empty() {
            return Err(FindNameError::Number);
        }
        let mut found: Vec<(u64, api::Clip)> = Vec::new();
        for name in &asked.clips {
            let (record, position) = match self.history.find_clip(name).await {
                Ok((record, position)) => (record, Some(position)),
                Err(FindNameError::InBin(_)) => (self.history.find_in_bin(name).await?, None),
                Err(error) => return Err(error),
            };
            if found.iter().all(|(number, _)| *number != record.number) {
                found.push((record.number, self.history.listed(&record, position)));
            }
        }
        Ok(found)
    }

    /// Records and does a step. What goes is out of the history on return; a large step is still written to each
    /// clip after that.
    async fn do_step(self: &Arc<Self>, how: How, numbers: Vec<u64>, ids: &[ClipId]) -> Result<Step, StoreError> {
        // Two large steps at once would undo each other's work.
        let alone = self.stepping.clone().lock_owned().await;
        let stamp = self.history.stamps.next();
        let (step, change) = self.history.store.begin_step(how, numbers, stamp).await?;
        match change {
            Some(change) => self.history.ledger.changed(change),
            None => {
                self.history.ledger.remove_ahead(ids);
                self.carry_on(step.clone(), alone);
            }
        }
        self.history.forgetting.notify_one();
        self.history.ledger.status_changed();
        Ok(step)
    }

    /// Does the rest of a large step in parts, while copies go on being captured.
    fn carry_on(self: &Arc<Self>, mut step: Step, alone: OwnedMutexGuard<()>) {
        let service = self.clone();
        self.background.tasks.spawn(async move {
            let _alone = alone;
            loop {
                let began = Instant::now();
                match service.history.store.advance(&mut step, service.history.stamps.next(), GENTLE).await {
                    Ok(Some(change)) => service.history.ledger.changed(change),
                    Ok(None) => break,
                    Err(error) if error.may_pass() && !service.background.ending.is_cancelled() => {
                        tracing::warn!(%error, "a large step waits to be carried on");
                        tokio::time::sleep(Duration::from_millis(500)).await;
                    }
                    Err(error) => {
                        tracing::error!(%error, "a large step is carried on at the next start");
                        break;
                    }
                }
                // It is carried on at the next start, or by whoever undoes it.
                if service.background.ending.is_cancelled() || service.interrupt.load(Ordering::Relaxed) {
                    break;
                }
                // Nobody waits for it; copies that are made meanwhile do not wait either.
                tokio::time::sleep(began.elapsed() * 2).await;
            }
        });
    }

    /// Forgets clips for good, in batches.
    pub(crate) async fn shred_all(&self, numbers: &[u64]) -> Result<(), StoreError> {
        for batch in numbers.chunks(BATCH) {
            self.history.ledger.changed(self.history.store.shred(batch, self.history.stamps.next()).await?);
        }
        self.history.forgetting.notify_one();
        self.history.ledger.status_changed();
        Ok(())
    }

    /// Has what was forgotten for good written over, while everything goes on.
    pub(crate) fn scrub(self: &Arc<Self>) {
        let service = self.clone();
        self.background.tasks.spawn(async move {
            let _alone = service.scrubbing.lock().await;
            if let Err(error) = service.history.store.scrub().await {
                tracing::info!(
                    error = yadori_core::with_causes(&error),
                    "the database does not write over what was forgotten"
                );
            }
        });
    }

    /// Clears what is not kept, or a slice of it.
    pub async fn clear(self: &Arc<Self>, asked: &api::Clear) -> Result<api::Cleared, ClearError> {
        for (name, given) in [("application", &asked.application), ("device", &asked.device)] {
            if given.as_deref().is_some_and(|given| given.trim().is_empty()) {
                return Err(ClearError::EmptyFilter(name));
            }
        }
        let (going, bytes, kept, total) = self.slice(asked).await;
        let count = going.len() as u64;
        let mut cleared = api::Cleared { clips: count, bytes, kept, left: total - count, step: None, undo_until: None };
        if asked.dry_run {
            return Ok(cleared);
        }
        if let Some(expected) = asked.expected.filter(|expected| *expected != count) {
            return Err(ClearError::Changed { expected, now: count });
        }
        if going.is_empty() {
            return Ok(cleared);
        }
        let (ids, numbers): (Vec<ClipId>, Vec<u64>) = going.into_iter().unzip();
        if asked.for_good {
            self.shred_all(&numbers).await?;
            self.scrub();
            return Ok(cleared);
        }
        let how = if asked.kept_too { How::Delete } else { How::Clear };
        let step = self.do_step(how, numbers, &ids).await?;
        cleared.step = Some(step.number);
        cleared.undo_until = Some(timestamp(step.at.plus(retention::BIN_MILLIS)));
        Ok(cleared)
    }

    /// The clips of a slice that would go, their bytes, how many kept ones of it stay, and how many clips there
    /// are in all.
    async fn slice(&self, asked: &api::Clear) -> (Vec<(ClipId, u64)>, u64, u64, u64) {
        let ago = |seconds: u64| now().minus(seconds.saturating_mul(1000));
        let filters = [
            asked.older_than_seconds.map(|seconds| Filter::Before(ago(seconds))),
            asked.newer_than_seconds.map(|seconds| Filter::After(ago(seconds))),
            asked.kind.map(|kind| Filter::Kind(crate::history::listing::kind_of(kind))),
            asked.application.as_deref().map(|name| Filter::App(fold(name.trim()))),
            asked.device.as_deref().map(|name| Filter::Device(fold(name.trim()))),
        ];
        let query = Query { filters: filters.into_iter().flatten().collect(), ..Query::default() };
        let index = self.history.ledger.read().await;
        let (mut going, mut bytes, mut kept) = (Vec::new(), 0, 0);
        for hit in index.search(&query, 0, usize::MAX) {
            let Some(clip) = index.candidate_of(hit.id) else { continue };
            if clip.kept && !asked.kept_too {
                kept += 1;
            } else {
                bytes += clip.size;
                going.push((hit.id, hit.number));
            }
        }
        (going, bytes, kept, index.len() as u64)
    }
}
