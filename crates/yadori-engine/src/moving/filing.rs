//! A clip as an archive describes it is filed as a copy that was made by hand.

use crate::capture::{ByHand, Capture, CaptureError};
use crate::clock::now;
use crate::history::History;
use crate::keeping::{self, Keeping};
use crate::moving::archive::Clip;
use std::sync::Arc;
use yadori_core::capture::Copy;
use yadori_core::{ClipId, Format, Mark, MillisSinceEpoch, Rank, Source, Stamp};
use yadori_store::{MovedIn, StoreError};

/// Why one clip is left out.
pub(crate) enum Fault {
    /// It is its own fault.
    Clip(String),
    /// Nothing can be filed.
    Store(StoreError),
}

impl From<String> for Fault {
    fn from(reason: String) -> Self {
        Self::Clip(reason)
    }
}

impl From<StoreError> for Fault {
    fn from(error: StoreError) -> Self {
        Self::Store(error)
    }
}

impl From<CaptureError> for Fault {
    fn from(error: CaptureError) -> Self {
        match error {
            CaptureError::Refused(refusal) => Self::Clip(refusal.to_string()),
            CaptureError::Store(error) => Self::Store(error),
        }
    }
}

/// Where a clip is kept from the beginning.
#[derive(Default)]
pub(crate) struct Kept {
    /// Its place among the pinned ones.
    pub(crate) pin: Option<Rank>,
    /// Its drawer, and the place in it.
    pub(crate) drawer: Option<(u32, Rank)>,
}

/// What a clip of an archive is to be filed as: a copy that was made by hand, and its id.
pub(crate) async fn as_copy(
    history: &History,
    keeping: &Keeping,
    clip: &Clip,
    formats: Vec<Format>,
    kept: Kept,
) -> Result<(Copy, ByHand, ClipId), Fault> {
    let id = ClipId::parse(&clip.id).ok_or_else(|| "its id is not one".to_owned())?;
    let millis = |at: jiff::Timestamp| MillisSinceEpoch(u64::try_from(at.as_millisecond()).unwrap_or(0));
    // Nothing was copied in the future.
    let copied = Stamp::at_start_of(millis(clip.copied_at).min(now()));
    let title = keeping::title(clip.title.as_deref().unwrap_or_default()).map_err(|error| error.to_string())?;
    let mark = mark(clip)?;
    let alias = keeping::alias(clip.alias.as_deref().unwrap_or_default()).map_err(|error| error.to_string())?;
    let free = match &alias {
        Some(alias) => keeping.check_alias(alias, None, false).await.is_ok(),
        None => true,
    };
    let by_hand = ByHand {
        title,
        copied: Some(copied),
        pin: kept.pin,
        drawer: kept.drawer,
        mark,
        alias: alias.filter(|_| free).map(|alias| alias.as_str().to_owned()),
        fills: clip.fills,
        moved_in: Some(MovedIn {
            copies: clip.copies.max(1),
            recalls: clip.recalls,
            recalled_at: clip.recalled_at.map(|at| millis(at).min(now())),
            at: history.stamps.next(),
        }),
        ..ByHand::default()
    };
    let source = Source {
        application: clip.source.application.clone(),
        window: clip.source.window.clone(),
        page: clip.source.page.clone(),
        selected: clip.source.selected,
    };
    Ok((Copy { formats, source }, by_hand, id))
}

/// Files a clip that is not here.
pub(crate) async fn file(
    history: &History,
    (capture, keeping): (&Arc<Capture>, &Keeping),
    clip: &Clip,
    formats: Vec<Format>,
    kept: Kept,
) -> Result<(), Fault> {
    let (copy, by_hand, id) = as_copy(history, keeping, clip, formats, kept).await?;
    capture.capture_as(copy, &by_hand, id).await.map(drop).map_err(Fault::from)
}

/// The mark that is named.
pub(crate) fn mark(clip: &Clip) -> Result<Option<Mark>, String> {
    let marks = || Mark::ALL.map(Mark::word).join(", ");
    match clip.mark.as_deref().filter(|word| !word.is_empty()) {
        Some(word) => {
            Mark::from_word(word).map(Some).ok_or_else(|| format!("“{word}” is not a mark; there are {}", marks()))
        }
        None => Ok(None),
    }
}
