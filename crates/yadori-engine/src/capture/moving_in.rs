//! Clips that come from an archive are filed many at a time.

use super::{ByHand, Capture, CaptureError, decode, new_clip, read_markup};
use std::sync::Arc;
use yadori_cage::Decoded;
use yadori_core::capture::{self, Copy, Draft, Maker, Refusal};
use yadori_core::sensitive::Sensitive;
use yadori_core::{ClipId, Stamp};
use yadori_store::{FiledTogether, NewClip, StoreError};

/// A clip that is ready to be filed along with others.
pub(crate) struct Prepared {
    draft: Draft,
    by_hand: ByHand,
    id: ClipId,
    pixels: Option<(u32, u32)>,
    sensitive: Option<Sensitive>,
    decoded: Option<Decoded>,
    filed: Stamp,
}

impl Prepared {
    /// Its id.
    pub(crate) fn id(&self) -> ClipId {
        self.id
    }

    /// What it takes to file it by itself.
    pub(crate) fn into_copy(self) -> (Copy, ByHand) {
        (Copy { formats: self.draft.formats, source: self.draft.source }, self.by_hand)
    }

    fn new_clip(&self) -> NewClip<'_> {
        let copied = self.by_hand.copied.unwrap_or(self.filed);
        new_clip(&self.draft, Some(&self.by_hand), (self.id, self.pixels, self.sensitive), (copied, self.filed))
    }
}

impl Capture {
    /// Makes a clip ready that is said to have this id. Nothing if its picture is broken: it is to be filed by itself.
    pub(crate) async fn prepare(
        &self,
        copy: Copy,
        by_hand: ByHand,
        id: ClipId,
    ) -> Result<Option<Prepared>, CaptureError> {
        let markup = read_markup(&self.history.cage, &copy).await;
        let draft = capture::judge(copy, markup.as_ref(), &self.history.checked_rules(), Maker::Person)?;
        let Ok((decoded, size)) = decode(&self.history.cage, &draft).await else { return Ok(None) };
        if draft.id(decoded.as_ref().and_then(|decoded| decoded.picture.as_ref())) != id {
            return Err(Refusal::AnotherId.into());
        }
        let sensitive = match draft.sensitive {
            Some(_) if self.history.store.is_no_secret(id).await? => None,
            found => found,
        };
        let pixels = decoded.as_ref().map(|decoded| (decoded.width, decoded.height)).or(size);
        let filed = self.history.stamps.next();
        Ok(Some(Prepared { draft, by_hand, id, pixels, sensitive, decoded, filed }))
    }

    /// Files clips none of which is on record. What is given back was not filed, because one of them cannot be.
    pub(crate) async fn file_prepared(
        self: &Arc<Self>,
        clips: Vec<Prepared>,
    ) -> Result<(), (Vec<Prepared>, StoreError)> {
        let filed = {
            let clips: Vec<_> = clips.iter().map(|clip| (clip.new_clip(), clip.draft.formats.as_slice())).collect();
            self.history.store.file_all(&clips).await
        };
        let FiledTogether { numbers, change, records } = match filed {
            Ok(filed) => filed,
            Err(error) => return Err((clips, error)),
        };
        self.history.ledger.changed_to(records, change);
        self.history.forgetting.notify_one();
        let decoded = numbers.into_iter().zip(clips).filter_map(|(number, clip)| Some((number, clip.decoded?)));
        self.draw(decoded.collect());
        Ok(())
    }
}
