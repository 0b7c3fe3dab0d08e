//! A clip made by hand: given over HTTP or by the command line instead of copied.

use crate::capture::{ByHand, CaptureError};
use crate::clock::now;
use crate::history::listing::Listed;
use crate::keeping::Keeping;
use crate::keeping::drawers::DrawerError;
use crate::keeping::{self as keep, KeepError};
use std::sync::Arc;
use thiserror::Error;
use yadori_core::capture::Copy;
use yadori_core::{Format, Mark, MillisSinceEpoch, Source, Stamp, format};
use yadori_store::StoreError;

/// Why nothing was added.
#[derive(Debug, Error)]
pub enum AddError {
    /// An attribute makes no sense.
    #[error(transparent)]
    Keep(#[from] KeepError),
    /// The drawer cannot be used.
    #[error(transparent)]
    Drawer(#[from] DrawerError),
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

/// What is to be known of a clip that is added, beside its content.
#[derive(Clone, Debug, Default)]
pub struct NewClip {
    /// Its title.
    pub title: Option<String>,
    /// When it was copied; now if not given.
    pub copied_at: Option<MillisSinceEpoch>,
    /// The application that it comes from.
    pub application: Option<String>,
    /// The title of the window that it comes from.
    pub window: Option<String>,
    /// Whether to pin it.
    pub pin: bool,
    /// The drawer to put it into.
    pub drawer: Option<String>,
    /// Its mark.
    pub mark: Option<Mark>,
    /// Its alias.
    pub alias: Option<String>,
    /// Whether its placeholders are filled in.
    pub fills: bool,
}

/// A clip that was added.
#[derive(Clone, Debug)]
pub struct Added {
    /// The clip.
    pub clip: Listed,
    /// Whether it was not there before.
    pub new: bool,
}

impl Keeping {
    /// Makes a clip of `data` of the given MIME type. A pause does not matter, nor do the rules but for the size:
    /// the person asks for it.
    pub async fn add(self: &Arc<Self>, mime: &str, data: bytes::Bytes, attributes: NewClip) -> Result<Added, AddError> {
        let _alone = self.changing.lock().await;
        let copied = match attributes.copied_at {
            Some(at) => {
                if at > now().plus(60_000) {
                    return Err(AddError::FromTheFuture);
                }
                Some(Stamp::at_start_of(at))
            }
            None => None,
        };
        let mut by_hand = ByHand { copied, fills: attributes.fills, ..ByHand::default() };
        by_hand.title = keep::title(attributes.title.as_deref().unwrap_or_default())?;
        by_hand.mark = attributes.mark;
        if let Some(name) = &attributes.drawer {
            let drawer = self.find_open_drawer(name).await?;
            by_hand.drawer = Some((drawer.number, self.last_place(drawer.number).await?));
        }
        let alias = keep::alias(attributes.alias.as_deref().unwrap_or_default())?;
        if let Some(alias) = &alias {
            self.check_alias(alias, None, false).await?;
        }
        if attributes.pin || (alias.is_some() && by_hand.drawer.is_none()) {
            by_hand.pin = Some(self.last_pin().await?);
        }
        by_hand.alias = alias.map(|alias| alias.as_str().to_owned());
        let source = Source { application: attributes.application, window: attributes.window, ..Source::default() };
        let mime = format::canonical_mime(mime);
        let words = match mime == format::HTML {
            true => self.history.cage.read_markup(&data).await.ok().map(|markup| markup.text),
            false => None,
        };
        let copy = Copy { formats: formats_of(mime, data, words), source };
        let captured = self.capture.capture(copy, &by_hand).await?;
        let record = self.history.store.clip(captured.id).await?.ok_or(StoreError::Damaged(captured.number))?;
        let position = self.history.ledger.read().await.position(captured.id);
        Ok(Added { clip: self.history.listed(&record, position), new: captured.new })
    }
}

/// The formats of a content that is given in one of them. What has other words can be pasted as plain text, too.
fn formats_of(mime: String, data: bytes::Bytes, words: Option<String>) -> Vec<Format> {
    let plain = words.filter(|words| !words.trim().is_empty()).map(Format::plain);
    plain.into_iter().chain([Format::new(mime, data)]).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_has_words_is_plain_text_too() {
        let mimes = |words: Option<&str>| -> Vec<String> {
            let formats = formats_of("text/html".into(), "<b>Lamp</b>".into(), words.map(str::to_owned));
            formats.into_iter().map(|format| format.mime).collect()
        };
        assert_eq!(mimes(Some("Lamp")), [format::PLAIN, "text/html"]);
        assert_eq!(mimes(Some(" \n")), ["text/html"]);
        assert_eq!(mimes(None), ["text/html"]);
    }
}
