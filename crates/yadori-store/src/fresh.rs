//! The latest changes as other devices are told of them, as long as each was nothing but that a clip came to be.
//!
//! Most of what a connected device is told was copied a moment ago: it need not be read again for each device that hears of it.
//! They are forgotten as soon as anything else is written (see [`Cache`](crate::cache::Cache)), so that nothing is told from here
//! that has been changed or forgotten since.

use crate::clips::ClipRecord;
use crate::columns::Columns;
use crate::content::StoredFormat;
use crate::outbox::{OutgoingBatch, tell_words_once, weight};
use std::collections::VecDeque;
use std::sync::Arc;
use yadori_core::shared::{Body, BodyFormat, Clip, Item};
use yadori_core::{DeviceId, Stamp};

/// Most bytes of the contents of all of them, and most of them.
const MOST_BYTES: usize = 1 << 20;
const MOST_CLIPS: usize = 500;

/// A clip that other devices may know.
#[derive(Clone, Debug)]
pub(crate) struct FreshClip {
    /// The number of the change with which it came to be.
    pub change: u64,
    /// What they are told.
    pub clip: Arc<Clip>,
}

impl FreshClip {
    /// A clip that was just filed by the device `origin`, with all its formats.
    pub fn filed(record: &ClipRecord, title_stamp: Stamp, formats: &[StoredFormat], origin: DeviceId) -> Option<Self> {
        let formats = formats.iter().map(|format| {
            let data = format.here()?.clone();
            let hash = *blake3::hash(&data).as_bytes();
            Some(BodyFormat { mime: format.mime.clone(), size: format.size, hash, data: Some(data) })
        });
        let formats: Vec<BodyFormat> = formats.collect::<Option<_>>()?;
        let columns = Columns {
            copied: record.life.copied.to_bits(),
            copies: record.copies,
            title: record.title.clone(),
            title_stamp: record.title.as_ref().map(|_| title_stamp.to_bits()),
            ..Columns::default()
        };
        let mut body = Body {
            size: record.size,
            pixels: record.pixels,
            extent: record.extent,
            text: Some(record.text.clone()).filter(|text| !text.is_empty()),
            caption: record.caption.clone(),
            source: record.source.clone(),
            formats,
        };
        tell_words_once(&mut body);
        let clip = Clip { id: record.id, kind: record.kind, state: columns.state(origin, None), body: Some(body) };
        Some(Self { change: record.change, clip: Arc::new(clip) })
    }
}

/// The latest of them, each of which is the change after the one before.
#[derive(Default)]
pub(crate) struct Fresh {
    clips: VecDeque<FreshClip>,
    bytes: usize,
}

impl Fresh {
    pub fn clear(&mut self) {
        *self = Self::default();
    }

    /// Adds one; those before it are forgotten if there is something between.
    pub fn add(&mut self, fresh: FreshClip) {
        if self.clips.back().is_some_and(|last| last.change + 1 != fresh.change) {
            self.clear();
        }
        self.bytes += weight_of(&fresh);
        self.clips.push_back(fresh);
        while self.bytes > MOST_BYTES || self.clips.len() > MOST_CLIPS {
            self.bytes -= self.clips.pop_front().as_ref().map_or(0, weight_of);
        }
    }

    /// The batch after a change, up to `until` and of about so many bytes at most; nothing if the change that follows is not here.
    pub fn since(&self, after: u64, until: u64, most: usize) -> Option<OutgoingBatch> {
        let first = self.clips.front()?.change;
        let skipped = usize::try_from((after + 1).checked_sub(first)?).ok()?;
        let (mut items, mut upto, mut bytes) = (Vec::new(), after, 0);
        for fresh in self.clips.iter().skip(skipped).take_while(|fresh| fresh.change <= until) {
            items.push(Item::Clip(Box::new(Clip::clone(&fresh.clip))));
            upto = fresh.change;
            bytes += weight_of(fresh) + 200;
            if bytes >= most {
                break;
            }
        }
        (upto > after).then_some(OutgoingBatch { upto, items, newly_shared: Vec::new() })
    }
}

fn weight_of(fresh: &FreshClip) -> usize {
    fresh.clip.body.as_ref().map_or(0, weight)
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_core::format::{Format, PLAIN};
    use yadori_core::{ClipId, Kind, MillisSinceEpoch};

    fn fresh(change: u64, text: &str) -> FreshClip {
        let id = ClipId::of(Kind::Text, text.as_bytes());
        let mut record = ClipRecord::copied_once(change, (id, Kind::Text), text.into(), "workshop".into());
        record.change = change;
        record.life.copied = Stamp::at_start_of(MillisSinceEpoch(change));
        let formats = [StoredFormat::small(&Format::new(PLAIN, text.as_bytes().to_vec()))];
        FreshClip::filed(&record, Stamp::NEVER, &formats, DeviceId([7; 16])).unwrap()
    }

    fn told(fresh: &Fresh, after: u64, until: u64, most: usize) -> Option<(u64, usize)> {
        fresh.since(after, until, most).map(|batch| (batch.upto, batch.items.len()))
    }

    #[test]
    fn what_follows_a_change_is_told_if_nothing_is_missing() {
        let mut known = Fresh::default();
        assert_eq!(told(&known, 0, u64::MAX, 1000), None);
        for change in 5..9 {
            known.add(fresh(change, "lamp"));
        }
        assert_eq!(told(&known, 3, u64::MAX, 10_000), None, "change 4 is not here");
        assert_eq!(told(&known, 4, u64::MAX, 10_000), Some((8, 4)));
        assert_eq!(told(&known, 6, u64::MAX, 10_000), Some((8, 2)));
        assert_eq!(told(&known, 4, 6, 10_000), Some((6, 2)));
        assert_eq!(told(&known, 4, u64::MAX, 300), Some((6, 2)), "the rest is for the next batch");
        assert_eq!(told(&known, 8, u64::MAX, 10_000), None);
        assert_eq!(told(&known, 99, u64::MAX, 10_000), None);
        known.add(fresh(10, "lamp"));
        assert_eq!(told(&known, 8, u64::MAX, 10_000), None, "change 9 is not here");
        assert_eq!(told(&known, 9, u64::MAX, 10_000), Some((10, 1)));
    }

    #[test]
    fn it_stays_small() {
        let (mut known, text) = (Fresh::default(), "x".repeat(10_000));
        for change in 1..=1000 {
            known.add(fresh(change, &text));
            assert!(known.bytes <= MOST_BYTES && known.clips.len() <= MOST_CLIPS);
        }
        assert_eq!(told(&known, 999, u64::MAX, 10_000), Some((1000, 1)));
    }
}
