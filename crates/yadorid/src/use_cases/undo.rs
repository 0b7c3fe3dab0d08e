//! Undo: bring back what was deleted.

use super::listing;
use crate::moment::now;
use crate::service::Service;
use thiserror::Error;
use yadori_api as api;
use yadori_core::retention;
use yadori_store::StoreError;

/// Why nothing was undone.
#[derive(Debug, Error)]
pub enum UndoError {
    /// Nothing was deleted, or its grace is over, or it has been undone.
    #[error("there is nothing to undo: what is deleted can be brought back for 24 hours")]
    Nothing,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Service {
    /// Undoes a delete, or the latest one.
    pub async fn undo(&self, step: Option<u64>) -> Result<api::Undone, UndoError> {
        let undone = self
            .store
            .undo(step, self.stamps.next(), retention::bin_horizon(now()))
            .await?
            .ok_or(UndoError::Nothing)?;
        self.ledger.changed(undone.change);
        let positions: Vec<Option<usize>> = {
            let index = self.ledger.read().await;
            undone.clips.iter().map(|id| index.position(*id)).collect()
        };
        let mut clips = Vec::with_capacity(undone.clips.len());
        for (id, position) in undone.clips.iter().zip(positions) {
            if let Some(record) = self.store.clip(*id).await? {
                clips.push(listing::clip(&record, position, None));
            }
        }
        Ok(api::Undone { step: undone.step, clips })
    }
}
