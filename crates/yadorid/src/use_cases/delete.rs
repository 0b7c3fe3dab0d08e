//! Delete: move clips to the bin.

use super::listing;
use super::names::FindNameError;
use crate::moment::timestamp;
use crate::service::Service;
use yadori_api as api;
use yadori_core::retention;

impl Service {
    /// Moves the clips with these names to the bin, as one step. When one of the names leads nowhere,
    /// nothing is deleted.
    pub async fn delete(&self, names: &[String]) -> Result<api::Deleted, FindNameError> {
        let clips = self.find_clips(names).await?;
        let numbers: Vec<u64> = clips.iter().map(|(record, _)| record.number).collect();
        let stamp = self.stamps.next();
        let deleted = self.store.delete(&numbers, stamp).await?;
        self.ledger.changed(deleted.change);
        self.forgetting.notify_one();
        let clips = clips.iter().map(|(record, position)| listing::clip(record, Some(*position), None)).collect();
        Ok(api::Deleted { clips, step: deleted.step, undo_until: timestamp(stamp.at().plus(retention::BIN_MILLIS)) })
    }
}
