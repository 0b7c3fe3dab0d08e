//! Undo: bring back what was deleted, cleared or edited; and redo.

use crate::clock::now;
use crate::history::listing::Listed;
use crate::retention::Retention;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use thiserror::Error;
use tokio::sync::MutexGuard;
use yadori_core::retention;
use yadori_store::{QUICK, StoreError, UndoableOperation};

/// Clips that an undo lists.
const SHOWN: usize = 50;

/// Why nothing was undone or redone.
#[derive(Debug, Error)]
pub enum UndoError {
    /// Nothing was deleted, or its grace is over, or it has been undone.
    #[error("there is nothing to undo: what was deleted, cleared or edited can be brought back for 24 hours")]
    Nothing,
    /// There is no such step, or its grace is over, or it has been undone.
    #[error("there is no step {0} to undo")]
    NoSuchStep(u64),
    /// Nothing was undone, or something else was deleted, cleared or edited since.
    #[error("there is nothing to redo: an undo can be reversed until something else is deleted, cleared or edited")]
    NothingUndone,
    /// There is no such step, or its grace is over, or it was not undone.
    #[error("step {0} was not undone")]
    NotUndone(u64),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A step that was undone or redone.
#[derive(Clone, Debug)]
pub struct Undone {
    /// The step.
    pub step: UndoableOperation,
    /// The first of its clips: those that are back, or that have gone again.
    pub clips: Vec<Listed>,
}

impl Retention {
    /// Undoes a step, or the latest one.
    pub async fn undo(self: &Arc<Self>, step: Option<u64>) -> Result<Undone, UndoError> {
        // A step that is still being carried out goes no further.
        self.interrupt.store(true, Ordering::Relaxed);
        let alone = self.stepping.lock().await;
        self.interrupt.store(false, Ordering::Relaxed);
        let horizon = retention::bin_horizon(now());
        let begun = self.history.store.begin_undo(step, self.history.stamps.next(), horizon).await?;
        let begun = begun.ok_or(match step {
            Some(number) => UndoError::NoSuchStep(number),
            None => UndoError::Nothing,
        })?;
        self.carry_through(begun, alone).await
    }

    /// Does again what was undone: a step, or the one that was undone last.
    pub async fn redo(self: &Arc<Self>, step: Option<u64>) -> Result<Undone, UndoError> {
        let alone = self.stepping.lock().await;
        let horizon = retention::bin_horizon(now());
        let begun = self.history.store.begin_redo(step, self.history.stamps.next(), horizon).await?;
        let begun = begun.ok_or(match step {
            Some(number) => UndoError::NotUndone(number),
            None => UndoError::NothingUndone,
        })?;
        self.carry_through(begun, alone).await
    }

    /// Carries a step that was begun to its end: the person waits, and what they asked for is so when they are told.
    async fn carry_through(
        &self,
        (mut step, change): (UndoableOperation, Option<u64>),
        alone: MutexGuard<'_, ()>,
    ) -> Result<Undone, UndoError> {
        if let Some(change) = change {
            self.history.ledger.changed(change);
        }
        while let Some(change) = self.history.store.advance(&mut step, self.history.stamps.next(), QUICK).await? {
            self.history.ledger.changed(change);
        }
        drop(alone);
        self.history.forgetting.notify_one();
        self.history.ledger.status_changed();
        let first = &step.clips[..step.clips.len().min(SHOWN)];
        let records = self.history.store.clips(first).await?;
        let clips = if step.undone {
            self.history.listed_now(&records.into_iter().map(|record| record.id).collect::<Vec<_>>()).await?
        } else {
            let left = records.into_iter().filter(|record| !record.tombstone);
            left.map(|record| Listed { record, position: None }).collect()
        };
        Ok(Undone { step, clips })
    }

    /// What can be undone, and what has been, latest first, each with one of its clips.
    pub async fn steps(&self) -> Result<Vec<(UndoableOperation, Option<Listed>)>, StoreError> {
        let mut shown = Vec::new();
        for step in self.history.store.steps(retention::bin_horizon(now())).await? {
            let example = match step.clips.first() {
                Some(first) => self.history.store.clips(&[*first]).await?.pop().filter(|record| !record.tombstone),
                None => None,
            };
            shown.push((step, example.map(|record| Listed { record, position: None })));
        }
        Ok(shown)
    }
}
