//! What was read of clips lately, or filed last, for as long as nothing is written.
//!
//! The same few clips are read again and again: by every window that shows the newest, by every letter of a search. Since nobody
//! but this program writes the records, what was read stays right until the next write begins. Then everything is let go of,
//! and nothing is taken from here, nor kept, until that write has ended: a reader never gets what is older than the records.
//! (This is why all that writes clips begins with [`Cache::begin`].) A write that only notes something in the records of a few
//! clips ([`Cache::begin_notes`]), as each recall does, has those let go of and nothing else; until it has ended, no records are kept.

use crate::content::StoredFormat;
use crate::fresh::{Fresh, FreshClip};
use crate::outbox::OutgoingBatch;
use crate::read_clip::ReadClip;
use bytes::Bytes;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use yadori_core::ClipId;

/// Most bytes of the words and the small formats of what is kept.
const MOST_BYTES: usize = 1 << 20;

/// How long it is not known what a write has done that was broken off: the server may still do it.
const UNSURE: Duration = Duration::from_secs(10);

/// Reads of different clips that go on beside one another at most.
const READS: usize = 16;

/// The cache of one store.
#[derive(Default)]
pub(crate) struct Cache {
    known: Mutex<Known>,
    reading: [tokio::sync::Mutex<()>; READS],
}

#[derive(Default)]
struct Known {
    /// Writes that have begun and not ended.
    writing: usize,
    /// Those of them that only note something in the records of some clips.
    noting: usize,
    /// Grows with every write that ends.
    generation: u64,
    /// Grows with every one that notes.
    notes: u64,
    unsure_until: Option<Instant>,
    clips: HashMap<u64, Arc<ReadClip>>,
    numbers: HashMap<ClipId, u64>,
    formats: HashMap<u64, Vec<StoredFormat>>,
    bytes: usize,
    fresh: Fresh,
}

/// What may be kept of a read: nothing if a write has ended, or goes on, since it began; no records if one has that notes something.
#[derive(Clone, Copy)]
pub(crate) struct Ticket {
    generation: Option<u64>,
    notes: Option<u64>,
}

impl Known {
    fn ticket(&mut self) -> Ticket {
        if self.unsure_until.is_some_and(|until| Instant::now() > until) {
            self.unsure_until = None;
        }
        Ticket {
            generation: (self.writing == self.noting && self.unsure_until.is_none()).then_some(self.generation),
            notes: (self.noting == 0).then_some(self.notes),
        }
    }

    fn clear(&mut self) {
        self.clips.clear();
        self.numbers.clear();
        self.formats.clear();
        self.bytes = 0;
    }

    /// Makes room for so many bytes more, if they may be kept at all.
    fn admit(&mut self, ticket: Ticket, bytes: usize) -> bool {
        if ticket.generation.is_none() || self.ticket().generation != ticket.generation || bytes > MOST_BYTES {
            return false;
        }
        if self.bytes + bytes > MOST_BYTES {
            self.clear();
        }
        self.bytes += bytes;
        true
    }
}

impl Cache {
    /// Begins a write.
    pub(crate) fn begin(self: &Arc<Self>) -> Writing {
        let mut known = self.known.lock();
        known.fresh.clear();
        self.begin_in(&mut known)
    }

    /// Begins a write that does nothing to what is there already: see [`Writing::changes_more`].
    pub(crate) fn begin_insert(self: &Arc<Self>) -> Writing {
        self.begin_in(&mut self.known.lock())
    }

    fn begin_in(self: &Arc<Self>, known: &mut Known) -> Writing {
        known.writing += 1;
        known.clear();
        Writing { cache: self.clone(), is_unsure: false, notes: false, before: (known.generation, known.notes) }
    }

    /// Begins a write that changes nothing but the records of these clips.
    pub(crate) fn begin_notes(self: &Arc<Self>, clips: &[u64]) -> Writing {
        let mut known = self.known.lock();
        known.writing += 1;
        known.noting += 1;
        known.fresh.clear();
        for clip in clips {
            known.clips.remove(clip);
        }
        Writing { cache: self.clone(), is_unsure: false, notes: true, before: (known.generation, known.notes) }
    }

    /// Waits until nobody else reads what begins with this clip.
    pub(crate) async fn reading(&self, first: u64) -> tokio::sync::MutexGuard<'_, ()> {
        self.reading[first as usize % READS].lock().await
    }

    /// The clips with these numbers that are known, and what may be kept of the others.
    pub(crate) fn clips(&self, numbers: &[u64]) -> (HashMap<u64, Arc<ReadClip>>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        if ticket.generation.is_none() {
            return (HashMap::new(), ticket);
        }
        let found = numbers.iter().filter_map(|number| Some((*number, known.clips.get(number)?.clone())));
        (found.collect(), ticket)
    }

    /// The clip with this id, if it is known.
    pub(crate) fn clip(&self, id: ClipId) -> (Option<Arc<ReadClip>>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        let number = known.numbers.get(&id).filter(|_| ticket.generation.is_some());
        (number.and_then(|number| known.clips.get(number)).cloned(), ticket)
    }

    /// Keeps clips that were read.
    pub(crate) fn keep_clips(&self, ticket: Ticket, clips: &[Arc<ReadClip>]) {
        let mut known = self.known.lock();
        if ticket.notes.is_none() || known.ticket().notes != ticket.notes {
            return;
        }
        for clip in clips {
            if !known.clips.contains_key(&clip.number) && known.admit(ticket, clip.bytes()) {
                known.numbers.insert(clip.id, clip.number);
                known.clips.insert(clip.number, clip.clone());
            }
        }
    }

    /// The formats of a clip, if they are known.
    pub(crate) fn formats(&self, clip: u64) -> (Option<Vec<StoredFormat>>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        (known.formats.get(&clip).filter(|_| ticket.generation.is_some()).cloned(), ticket)
    }

    /// What other devices are told of the changes after `after`, if it need not be read: see [`Fresh::since`].
    pub(crate) fn outgoing_since(&self, after: u64, until: u64, most: usize) -> Option<OutgoingBatch> {
        self.known.lock().fresh.since(after, until, most)
    }

    /// Keeps the formats of a clip that were read.
    pub(crate) fn keep_formats(&self, ticket: Ticket, clip: u64, formats: &[StoredFormat]) {
        let bytes = formats
            .iter()
            .map(|format| size_of::<StoredFormat>() + format.mime.len() + format.here().map_or(0, Bytes::len))
            .sum();
        let mut known = self.known.lock();
        if !known.formats.contains_key(&clip) && known.admit(ticket, bytes) {
            known.formats.insert(clip, formats.to_vec());
        }
    }
}

/// A write that goes on; it ends when this is dropped. Until it is made durable, that undoes it.
pub(crate) struct Writing {
    cache: Arc<Cache>,
    is_unsure: bool,
    notes: bool,
    /// How many writes had ended when it began, and how many that note something.
    before: (u64, u64),
}

impl Writing {
    /// The server is told to make it durable: from now on it may be, whether its answer is heard or not.
    pub(crate) fn commits(&mut self) {
        self.is_unsure = true;
    }

    /// The server has answered.
    pub(crate) fn is_done(&mut self) {
        self.is_unsure = false;
    }

    /// A write that was begun as one that only inserts does something to what was there, too.
    pub(crate) fn changes_more(&self) {
        self.cache.known.lock().fresh.clear();
    }

    /// Ends it, and keeps a clip that it has made: what was just copied is read next. If anybody else has written meanwhile, it
    /// may be another by now, and is not kept.
    pub(crate) fn end_with(self, clip: Arc<ReadClip>, formats: &[StoredFormat], fresh: Option<FreshClip>) {
        let cache = self.cache.clone();
        let as_left = self.end_with_fresh(fresh);
        cache.keep_clips(as_left, std::slice::from_ref(&clip));
        cache.keep_formats(as_left, clip.number, formats);
    }

    /// Ends it, and keeps what other devices are told of the clips that it has made, under the same condition.
    pub(crate) fn end_with_fresh(self, fresh: impl IntoIterator<Item = FreshClip>) -> Ticket {
        let cache = self.cache.clone();
        let (generation, notes) = self.before;
        drop(self);
        let mut known = cache.known.lock();
        if known.ticket().generation == Some(generation + 1) && known.notes == notes {
            fresh.into_iter().for_each(|fresh| known.fresh.add(fresh));
        } else {
            known.fresh.clear();
        }
        Ticket { generation: Some(generation + 1), notes: Some(notes) }
    }
}

impl Drop for Writing {
    fn drop(&mut self) {
        let mut known = self.cache.known.lock();
        known.writing -= 1;
        if self.notes {
            known.noting -= 1;
            known.notes += 1;
        } else {
            known.generation += 1;
        }
        if self.is_unsure {
            known.fresh.clear();
            known.unsure_until = Some(Instant::now() + UNSURE);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::clips::ClipRecord;

    fn format(words: &'static str) -> Vec<StoredFormat> {
        vec![StoredFormat::read("text/plain".into(), words.len() as u64, None, Some(words.into()))]
    }

    #[test]
    fn what_was_read_is_known_until_a_write_begins() {
        let cache = Arc::<Cache>::default();
        let (none, ticket) = cache.formats(1);
        assert_eq!(none, None);
        cache.keep_formats(ticket, 1, &format("before"));
        assert_eq!(cache.formats(1).0, Some(format("before")));
        let writing = cache.begin();
        let (none, during) = cache.formats(1);
        assert_eq!(none, None);
        // What is read while it goes on may be older than it, and so may be what was read before.
        cache.keep_formats(during, 1, &format("during"));
        cache.keep_formats(ticket, 1, &format("before"));
        drop(writing);
        cache.keep_formats(during, 1, &format("during"));
        cache.keep_formats(ticket, 1, &format("before"));
        let (none, ticket) = cache.formats(1);
        assert_eq!(none, None);
        cache.keep_formats(ticket, 1, &format("after"));
        assert_eq!(cache.formats(1).0, Some(format("after")));
    }

    #[test]
    fn an_end_that_was_not_heard_makes_it_unsure_and_one_of_two_is_not_the_end() {
        let cache = Arc::<Cache>::default();
        let (first, mut second) = (cache.begin(), cache.begin());
        drop(first);
        assert!(cache.formats(1).1.generation.is_none());
        second.commits();
        second.is_done();
        drop(second);
        assert!(cache.formats(1).1.generation.is_some());
        let mut third = cache.begin();
        third.commits();
        drop(third);
        assert!(cache.formats(1).1.generation.is_none(), "the server may still do what was broken off");
    }

    fn clip(number: u64, recalls: u32) -> Arc<ReadClip> {
        let id = ClipId([number as u8; 16]);
        let once = ClipRecord::copied_once(number, (id, yadori_core::Kind::Text), "lamp".into(), "workshop".into());
        ClipRecord { recalls, ..once }.into()
    }

    #[test]
    fn a_note_takes_the_records_of_its_clips_and_nothing_else() {
        let cache = Arc::<Cache>::default();
        let (_, ticket) = cache.clips(&[1, 2]);
        cache.keep_clips(ticket, &[clip(1, 0), clip(2, 0)]);
        cache.keep_formats(ticket, 1, &format("whole"));
        let noting = cache.begin_notes(&[1]);
        let (known, during) = cache.clips(&[1, 2]);
        assert_eq!(known.keys().copied().collect::<Vec<_>>(), [2]);
        assert_eq!(cache.formats(1).0, Some(format("whole")));
        // What is read while it goes on may be older than it.
        cache.keep_clips(during, &[clip(1, 0)]);
        cache.keep_clips(ticket, &[clip(1, 0)]);
        cache.keep_formats(during, 2, &format("also"));
        drop(noting);
        cache.keep_clips(during, &[clip(1, 0)]);
        cache.keep_clips(ticket, &[clip(1, 0)]);
        let (known, after) = cache.clips(&[1]);
        assert!(known.is_empty());
        cache.keep_clips(after, &[clip(1, 1)]);
        assert_eq!(cache.clips(&[1]).0[&1].recalls, 1);
        assert_eq!(cache.formats(2).0, Some(format("also")));
        // One that changes more, beside one that notes, is believed nothing of.
        let (noting, writing) = (cache.begin_notes(&[1]), cache.begin());
        assert_eq!((cache.clips(&[1, 2]).0.len(), cache.formats(1).0), (0, None));
        drop(noting);
        assert!(cache.formats(1).1.generation.is_none());
        drop(writing);
        assert!(cache.formats(1).1.generation.is_some());
    }

    #[test]
    fn what_a_write_has_made_is_known_if_it_was_the_only_one() {
        let cache = Arc::<Cache>::default();
        let end = |writing: Writing, number| writing.end_with(clip(number, 0), &format("made"), None);
        let is_known = |number| (cache.clips(&[number]).0.len(), cache.formats(number).0.is_some());
        end(cache.begin(), 1);
        assert_eq!(is_known(1), (1, true));
        // One that goes on, one that ended meanwhile, one that went on before, one that notes.
        let writing = cache.begin();
        let other = cache.begin();
        end(writing, 2);
        drop(other);
        assert_eq!(is_known(2), (0, false));
        let writing = cache.begin();
        drop(cache.begin());
        end(writing, 3);
        assert_eq!(is_known(3), (0, false));
        let other = cache.begin();
        let writing = cache.begin();
        drop(other);
        end(writing, 4);
        assert_eq!(is_known(4), (0, false));
        let writing = cache.begin();
        drop(cache.begin_notes(&[5]));
        end(writing, 5);
        assert_eq!(is_known(5), (0, true), "its formats are as they were");
        // Of one whose end was not heard, nothing is known.
        let mut writing = cache.begin();
        writing.commits();
        end(writing, 6);
        assert_eq!(is_known(6), (0, false));
    }

    #[test]
    fn it_stays_small() {
        let cache = Arc::<Cache>::default();
        for number in 0..10_000 {
            let (_, ticket) = cache.formats(number);
            cache.keep_formats(ticket, number, &format("a small text of some words, as most are"));
            assert!(cache.known.lock().bytes <= MOST_BYTES);
        }
        assert!(cache.formats(9_999).0.is_some());
    }
}
