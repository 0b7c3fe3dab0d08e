//! Recall: put clips back on the clipboard.

use super::names::FindNameError;
use super::{files, listing};
use crate::moment::now;
use crate::service::Service;
use thiserror::Error;
use yadori_api as api;
use yadori_core::{self as core, Format, Kind};
use yadori_desktop::OfferError;
use yadori_store::StoreError;

/// Why nothing was recalled.
#[derive(Debug, Error)]
pub enum RecallError {
    /// No clip was named.
    #[error("no clip was named")]
    Nothing,
    /// One of the names leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// A picture among texts, or `plain` of a picture.
    #[error("clip {0} has no text that could be {1}")]
    NoText(String, &'static str),
    /// There is no clipboard.
    #[error("there is no clipboard to put it on: {0}")]
    NoClipboard(String),
    /// The clipboard did not take it.
    #[error(transparent)]
    Offer(#[from] OfferError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Service {
    /// Puts clips on the clipboard: one with all its formats, several joined as text. Their places in the
    /// history stay; that and how often they were used is noted.
    pub async fn recall(&self, asked: &api::Recall) -> Result<api::Recalled, RecallError> {
        // The same clip may be wanted twice in one text.
        let mut clips = Vec::with_capacity(asked.clips.len());
        for name in &asked.clips {
            clips.push(self.find_clip(name).await?);
        }
        let formats = match clips.as_slice() {
            [] => return Err(RecallError::Nothing),
            [(record, _)] if !asked.plain => {
                let formats = self.whole_formats(&self.store.formats(record.number).await?).await?;
                if record.kind == Kind::Files { core::files::to_copy(&formats) } else { formats }
            }
            _ => {
                let mut texts = Vec::with_capacity(clips.len());
                for (record, position) in &clips {
                    let text = self.plain_text(record, &self.store.formats(record.number).await?).await?;
                    let what = if clips.len() > 1 { "joined" } else { "recalled as plain text" };
                    texts.push(text.ok_or_else(|| RecallError::NoText(position.to_string(), what))?);
                }
                vec![Format::plain(texts.join(asked.join.as_deref().unwrap_or("\n")))]
            }
        };
        let missing = match clips.as_slice() {
            [(record, _)] if record.kind == Kind::Files && !asked.plain => files::look_for(&formats).await,
            _ => Vec::new(),
        };
        let missing = missing.iter().filter(|file| file.missing == Some(true)).count() as u32;
        let offered = formats.iter().map(|format| format.mime.clone()).collect();
        self.offer(formats).await?;

        let mut numbers: Vec<u64> = clips.iter().map(|(record, _)| record.number).collect();
        numbers.sort_unstable();
        numbers.dedup();
        self.ledger.changed(self.store.note_recall(&numbers, now()).await?);
        let clips = clips.iter().map(|(record, position)| listing::clip(record, Some(*position), None)).collect();
        Ok(api::Recalled { clips, formats: offered, missing })
    }

    async fn offer(&self, formats: Vec<Format>) -> Result<(), RecallError> {
        let off =
            || RecallError::NoClipboard(self.journal().off.clone().unwrap_or_else(|| OfferError::Lost.to_string()));
        let clipboard = self.clipboard.as_ref().ok_or_else(off)?;
        match clipboard.offer(formats).await.unwrap_or(Err(OfferError::Lost)) {
            Err(OfferError::Lost) => Err(off()),
            other => Ok(other?),
        }
    }
}
