//! A clip made by hand: given over HTTP or by the command line instead of copied.

use super::capture::{ByHand, CaptureError};
use super::listing;
use crate::moment::now;
use crate::service::Service;
use std::sync::Arc;
use thiserror::Error;
use yadori_api as api;
use yadori_core::capture::Copy;
use yadori_core::{Format, MillisSinceEpoch, Source, Stamp, format};
use yadori_store::StoreError;

/// Longest title, in characters.
const LONGEST_TITLE: usize = 1000;

/// Why nothing was added.
#[derive(Debug, Error)]
pub enum AddError {
    /// A title with more characters than there is room for.
    #[error("a title has at most {LONGEST_TITLE} characters; this one has {0}")]
    LongTitle(usize),
    /// Copied in the future.
    #[error("copied_at lies in the future")]
    FromTheFuture,
    /// The rules or the records refuse it.
    #[error(transparent)]
    Capture(#[from] CaptureError),
}

impl From<StoreError> for AddError {
    fn from(error: StoreError) -> Self {
        Self::Capture(error.into())
    }
}

impl Service {
    /// Makes a clip of `data` of the given MIME type. A pause does not matter: the person asks for it.
    pub async fn add(
        self: &Arc<Self>,
        mime: &str,
        data: bytes::Bytes,
        particulars: api::AddQuery,
    ) -> Result<api::Added, AddError> {
        let title = particulars.title.map(|title| title.trim().to_owned()).filter(|title| !title.is_empty());
        if let Some(length) = title.as_ref().map(|title| title.chars().count()).filter(|length| *length > LONGEST_TITLE)
        {
            return Err(AddError::LongTitle(length));
        }
        let copied = match particulars.copied_at {
            Some(at) => {
                let at = MillisSinceEpoch(u64::try_from(at.as_millisecond()).unwrap_or(0));
                if at > now().plus(60_000) {
                    return Err(AddError::FromTheFuture);
                }
                Some(Stamp::at_start_of(at))
            }
            None => None,
        };
        let source = Source { application: particulars.application, window: particulars.window, ..Source::default() };
        let copy = Copy { formats: vec![Format::new(format::canonical_mime(mime), data)], source };
        let captured = self.capture(copy, &ByHand { title, copied }).await?;
        let record = self.store.clip(captured.id).await?.ok_or(StoreError::Damaged(captured.number))?;
        let position = self.ledger.read().await.position(captured.id);
        Ok(api::Added { clip: listing::clip(&record, position, None), new: captured.new })
    }
}
