//! Delete and clear: move clips to the bin, or forget them for good.

use crate::clock::now;
use crate::history::listing::Listed;
use crate::history::names::{FindNameError, check_number};
use crate::retention::Retention;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::OwnedMutexGuard;
use yadori_core::search::fold::fold;
use yadori_core::search::query::Filter;
use yadori_core::{ClipId, Kind};
use yadori_store::{GENTLE, OperationKind, StoreError, UndoableOperation};

/// Clips forgotten for good in one transaction.
const BATCH: usize = 50;

/// How long nothing is written before a large step goes on that gave way, and how long it gives way at most.
const QUIET: Duration = Duration::from_millis(50);
const LONGEST_PAUSE: Duration = Duration::from_secs(1);

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

/// What was deleted.
#[derive(Clone, Debug)]
pub struct Deleted {
    /// The clips, as they were.
    pub clips: Vec<Listed>,
    /// The step that can be undone; none if they are gone for good.
    pub step: Option<UndoableOperation>,
}

/// What is to be cleared: clips that meet all that is given.
#[derive(Clone, Debug, Default)]
pub struct Slice {
    /// Older than this.
    pub older_than_seconds: Option<u64>,
    /// Newer than this.
    pub newer_than_seconds: Option<u64>,
    /// Of this kind.
    pub kind: Option<Kind>,
    /// From this application.
    pub application: Option<String>,
    /// From this device.
    pub device: Option<String>,
    /// Clips that are kept, too.
    pub kept_too: bool,
    /// Without the bin.
    pub for_good: bool,
    /// Only counted.
    pub dry_run: bool,
    /// How many the person was told of.
    pub expected: Option<u64>,
}

/// What was cleared.
#[derive(Clone, Debug)]
pub struct Cleared {
    /// How many clips.
    pub clips: u64,
    /// How many bytes they have.
    pub bytes: u64,
    /// How many kept ones of the slice stay.
    pub kept: u64,
    /// How many clips the history still has.
    pub left: u64,
    /// The step that can be undone, if anything went and not for good.
    pub step: Option<UndoableOperation>,
}

impl Retention {
    /// Moves the clips with these names to the bin, as one step; or forgets them for good. When one of the names
    /// leads nowhere, nothing is deleted.
    pub async fn delete(self: &Arc<Self>, names: &[String], for_good: bool) -> Result<Deleted, FindNameError> {
        let clips = if for_good { self.find_for_good(names).await? } else { self.find_listed(names).await? };
        let numbers: Vec<u64> = clips.iter().map(|clip| clip.record.number).collect();
        if for_good {
            self.purge_all(&numbers).await?;
            self.secure_erase();
            return Ok(Deleted { clips, step: None });
        }
        let ids: Vec<ClipId> = clips.iter().map(|clip| clip.record.id).collect();
        let step = self.do_step(OperationKind::Delete, numbers, &ids).await?;
        Ok(Deleted { clips, step: Some(step) })
    }

    async fn find_listed(&self, names: &[String]) -> Result<Vec<Listed>, FindNameError> {
        let clips = self.history.find_clips(names).await?.into_iter();
        Ok(clips.map(|(record, position)| Listed { record: record.into(), position: Some(position) }).collect())
    }

    /// For good, clips in the bin can be named too.
    async fn find_for_good(&self, names: &[String]) -> Result<Vec<Listed>, FindNameError> {
        check_number(names)?;
        let mut found: Vec<Listed> = Vec::new();
        for name in names {
            let clip = match self.history.find_clip(name).await {
                Ok((record, position)) => Listed { record: record.into(), position: Some(position) },
                Err(FindNameError::InBin(_)) => {
                    Listed { record: self.history.find_in_bin(name).await?.into(), position: None }
                }
                Err(error) => return Err(error),
            };
            if found.iter().all(|known| known.record.number != clip.record.number) {
                found.push(clip);
            }
        }
        Ok(found)
    }

    /// Records and does a step. What goes is out of the history on return; a large step is still written to each
    /// clip after that.
    async fn do_step(
        self: &Arc<Self>,
        how: OperationKind,
        numbers: Vec<u64>,
        ids: &[ClipId],
    ) -> Result<UndoableOperation, StoreError> {
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
    fn carry_on(self: &Arc<Self>, mut step: UndoableOperation, alone: OwnedMutexGuard<()>) {
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
                service.give_way(began.elapsed() * 2).await;
            }
        });
    }

    /// Nobody waits for a large step; who copies meanwhile does not wait either. Pauses for this long, and, if something was
    /// written within that time, until there is a moment without.
    async fn give_way(&self, pause: Duration) {
        let (began, mut pause, mut latest) = (Instant::now(), pause, self.history.stamps.latest());
        loop {
            tokio::time::sleep(pause).await;
            let now = self.history.stamps.latest();
            let is_wanted = self.background.ending.is_cancelled() || self.interrupt.load(Ordering::Relaxed);
            if now == latest || is_wanted || began.elapsed() > LONGEST_PAUSE {
                return;
            }
            (pause, latest) = (QUIET, now);
        }
    }

    /// Forgets clips for good, in batches.
    pub(crate) async fn purge_all(&self, numbers: &[u64]) -> Result<(), StoreError> {
        for batch in numbers.chunks(BATCH) {
            self.history.ledger.changed(self.history.store.purge(batch, self.history.stamps.next()).await?);
        }
        self.history.forgetting.notify_one();
        self.history.ledger.status_changed();
        Ok(())
    }

    /// Has what was forgotten for good written over, while everything goes on.
    pub(crate) fn secure_erase(self: &Arc<Self>) {
        self.history.snapshots.forget();
        // What has not begun yet will write over this as well: what others forget comes in many batches.
        if self.erase_waits.swap(true, Ordering::SeqCst) {
            return;
        }
        let service = self.clone();
        self.background.tasks.spawn(async move {
            let _alone = service.erasing.lock().await;
            service.erase_waits.store(false, Ordering::SeqCst);
            if let Err(error) = service.history.store.secure_erase().await {
                tracing::info!(
                    error = yadori_core::with_causes(&error),
                    "the database does not write over what was forgotten"
                );
            }
        });
    }

    /// Clears what is not kept, or a slice of it.
    pub async fn clear(self: &Arc<Self>, asked: &Slice) -> Result<Cleared, ClearError> {
        for (name, given) in [("application", &asked.application), ("device", &asked.device)] {
            if given.as_deref().is_some_and(|given| given.trim().is_empty()) {
                return Err(ClearError::EmptyFilter(name));
            }
        }
        let (going, bytes, kept, total) = self.slice(asked).await;
        let count = going.len() as u64;
        let mut cleared = Cleared { clips: count, bytes, kept, left: total - count, step: None };
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
            self.purge_all(&numbers).await?;
            self.secure_erase();
            return Ok(cleared);
        }
        let how = if asked.kept_too { OperationKind::Delete } else { OperationKind::Clear };
        let step = self.do_step(how, numbers, &ids).await?;
        cleared.step = Some(step);
        Ok(cleared)
    }

    /// The clips of a slice that would go, their bytes, how many kept ones of it stay, and how many clips there
    /// are in all.
    async fn slice(&self, asked: &Slice) -> (Vec<(ClipId, u64)>, u64, u64, u64) {
        let ago = |seconds: u64| now().minus(seconds.saturating_mul(1000));
        let filters = [
            asked.older_than_seconds.map(|seconds| Filter::Before(ago(seconds))),
            asked.newer_than_seconds.map(|seconds| Filter::After(ago(seconds))),
            asked.kind.map(Filter::Kind),
            asked.application.as_deref().map(|name| Filter::App(fold(name.trim()))),
            asked.device.as_deref().map(|name| Filter::Device(fold(name.trim()))),
        ];
        let filters: Vec<Filter> = filters.into_iter().flatten().collect();
        let index = self.history.ledger.read().await;
        let (mut going, mut bytes, mut kept) = (Vec::new(), 0, 0);
        for (id, clip) in index.filtered(&filters) {
            if clip.kept && !asked.kept_too {
                kept += 1;
            } else {
                bytes += clip.size;
                going.push((id, clip.number));
            }
        }
        (going, bytes, kept, index.len() as u64)
    }
}
