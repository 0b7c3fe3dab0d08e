//! Edit and reshape: another clip takes the place of an old one.

use crate::capture::{ByHand, CaptureError};
use crate::history::listing::Listed;
use crate::history::names::{FindNameError, Found};
use crate::keeping::Keeping;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::capture::Copy;
use yadori_core::reshape::{self, ReshapeError};
use yadori_core::{Format, Kind, format};
use yadori_store::{Replaced, StoreError};

/// Why nothing was edited.
#[derive(Debug, Error)]
pub enum EditError {
    /// The name leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// Some of the content cannot be fetched.
    #[error(transparent)]
    Fetch(#[from] crate::fetching::FetchError),
    /// It has no words.
    #[error("clip {0} is {1}, whose words cannot be changed")]
    NoWords(String, &'static str),
    /// The text is not UTF-8.
    #[error("the new text is not UTF-8")]
    NotText,
    /// No way was named.
    #[error("name at least one way to reshape it")]
    NoWay,
    /// A way does not fit.
    #[error(transparent)]
    Reshape(#[from] ReshapeError),
    /// The new clip cannot be kept.
    #[error(transparent)]
    Capture(#[from] CaptureError),
}

impl From<StoreError> for EditError {
    fn from(error: StoreError) -> Self {
        Self::Name(error.into())
    }
}

/// A clip that was edited.
#[derive(Clone, Debug)]
pub struct Edited {
    /// The clip, as it is now.
    pub clip: Listed,
    /// Whether anything of it changed.
    pub changed: bool,
    /// Whether the old clip stays beside it.
    pub old_stays: bool,
}

/// A text that was reshaped.
#[derive(Clone, Debug)]
pub struct Reshaped {
    /// The text before.
    pub before: String,
    /// The text after.
    pub after: String,
    /// The clip that it was saved in.
    pub clip: Option<Listed>,
}

impl Keeping {
    /// Makes a new clip of the text, which takes the place and the attributes of the old one; the old one goes
    /// to the bin. If it has been copied more often than `copies` by now, it stays.
    pub async fn edit(self: &Arc<Self>, name: &str, text: &[u8], copies: Option<u32>) -> Result<Edited, EditError> {
        let text = std::str::from_utf8(text).map_err(|_| EditError::NotText)?;
        let found = self.history.find_clip(name).await?;
        self.fetching.fetch_whole(&found.0).await?;
        let old = self.words(&found).await?;
        if old == text {
            let clip = self.history.listed(&found.0, Some(found.1));
            return Ok(Edited { clip, changed: false, old_stays: true });
        }
        let old_stays = copies.is_some_and(|copies| found.0.copies > copies);
        let clip = self.replace(&found, text, old_stays).await?;
        Ok(Edited { clip, changed: true, old_stays })
    }

    async fn words(&self, (record, position): &Found) -> Result<String, EditError> {
        let what = match record.kind {
            Kind::Text | Kind::Link => None,
            Kind::Image => Some("an image"),
            Kind::Files => Some("a list of files"),
        };
        if let Some(what) = what {
            return Err(EditError::NoWords(position.to_string(), what));
        }
        let formats = self.history.store.formats(record.number).await?;
        Ok(self.history.plain_text(record, &formats).await?.unwrap_or_default())
    }

    async fn replace(self: &Arc<Self>, (record, _): &Found, text: &str, old_stays: bool) -> Result<Listed, EditError> {
        let _alone = self.changing.lock().await;
        let copy = Copy { formats: vec![Format::plain(text)], source: record.source.clone() };
        let replaced = Replaced { number: record.number, stamp: self.history.stamps.next(), retire: !old_stays };
        let by_hand = ByHand { copied: Some(record.life.copied), replaces: Some(replaced), ..ByHand::default() };
        let captured = self.capture.capture(copy, &by_hand).await?;
        self.history.forgetting.notify_one();
        let none = || EditError::Capture(StoreError::Damaged(captured.number).into());
        self.history.listed_now(&[captured.id]).await?.pop().ok_or_else(none)
    }

    /// Reshapes the text of a clip: shows what would come of it, or saves it in the clip's place.
    pub async fn reshape(self: &Arc<Self>, name: &str, ways: &[String], save: bool) -> Result<Reshaped, EditError> {
        let ways = reshape::ways(ways.iter().map(String::as_str))?;
        if ways.is_empty() {
            return Err(EditError::NoWay);
        }
        let found = self.history.find_clip(name).await?;
        self.fetching.fetch_whole(&found.0).await?;
        let before = self.words(&found).await?;
        let formats = self.history.store.formats(found.0.number).await?;
        let markup = self.history.stored_format(&formats, format::HTML).await?;
        let after = self.history.reshape(before.clone(), markup, &ways).await?;
        let clip = match save {
            true if after == before => Some(self.history.listed(&found.0, Some(found.1))),
            true => Some(self.replace(&found, &after, false).await?),
            false => None,
        };
        Ok(Reshaped { before, after, clip })
    }
}
