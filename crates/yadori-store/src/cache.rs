//! What was read of clips lately, for as long as nothing is written.
//!
//! The same few clips are read again and again: by every window that shows the newest, by every letter of a search. Since nobody
//! but this program writes the records, what was read stays right until the next write begins. Then everything is let go of,
//! and nothing is taken from here, nor kept, until that write has ended: a reader never gets what is older than the records.
//! (This is why all that writes clips begins with [`Cache::begin`].)

use crate::clips::ClipRecord;
use crate::content::StoredFormat;
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
    /// Grows with every write that ends.
    generation: u64,
    unsure_until: Option<Instant>,
    clips: HashMap<u64, ClipRecord>,
    numbers: HashMap<ClipId, u64>,
    formats: HashMap<u64, Vec<StoredFormat>>,
    bytes: usize,
}

/// What may be kept of a read: nothing if a write has ended, or goes on, since it began.
#[derive(Clone, Copy)]
pub(crate) struct Ticket(Option<u64>);

impl Known {
    fn ticket(&mut self) -> Ticket {
        if self.unsure_until.is_some_and(|until| Instant::now() > until) {
            self.unsure_until = None;
        }
        Ticket((self.writing == 0 && self.unsure_until.is_none()).then_some(self.generation))
    }

    fn clear(&mut self) {
        self.clips.clear();
        self.numbers.clear();
        self.formats.clear();
        self.bytes = 0;
    }

    /// Makes room for so many bytes more, if they may be kept at all.
    fn admit(&mut self, ticket: Ticket, bytes: usize) -> bool {
        if ticket.0.is_none() || self.ticket().0 != ticket.0 || bytes > MOST_BYTES {
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
        known.writing += 1;
        known.clear();
        Writing { cache: self.clone(), is_unsure: false }
    }

    /// Waits until nobody else reads what begins with this clip.
    pub(crate) async fn reading(&self, first: u64) -> tokio::sync::MutexGuard<'_, ()> {
        self.reading[first as usize % READS].lock().await
    }

    /// The clips with these numbers that are known, and what may be kept of the others.
    pub(crate) fn clips(&self, numbers: &[u64]) -> (HashMap<u64, ClipRecord>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        if ticket.0.is_none() {
            return (HashMap::new(), ticket);
        }
        let found = numbers.iter().filter_map(|number| Some((*number, known.clips.get(number)?.clone())));
        (found.collect(), ticket)
    }

    /// The clip with this id, if it is known.
    pub(crate) fn clip(&self, id: ClipId) -> (Option<ClipRecord>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        let number = known.numbers.get(&id).filter(|_| ticket.0.is_some());
        (number.and_then(|number| known.clips.get(number)).cloned(), ticket)
    }

    /// Keeps clips that were read.
    pub(crate) fn keep_clips(&self, ticket: Ticket, clips: &[ClipRecord]) {
        let mut known = self.known.lock();
        for clip in clips {
            if !known.clips.contains_key(&clip.number) && known.admit(ticket, size_of::<ClipRecord>() + clip.text.len())
            {
                known.numbers.insert(clip.id, clip.number);
                known.clips.insert(clip.number, clip.clone());
            }
        }
    }

    /// The formats of a clip, if they are known.
    pub(crate) fn formats(&self, clip: u64) -> (Option<Vec<StoredFormat>>, Ticket) {
        let mut known = self.known.lock();
        let ticket = known.ticket();
        (known.formats.get(&clip).filter(|_| ticket.0.is_some()).cloned(), ticket)
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
}

impl Drop for Writing {
    fn drop(&mut self) {
        let mut known = self.cache.known.lock();
        known.writing -= 1;
        known.generation += 1;
        if self.is_unsure {
            known.unsure_until = Some(Instant::now() + UNSURE);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
        assert!(cache.formats(1).1.0.is_none());
        second.commits();
        second.is_done();
        drop(second);
        assert!(cache.formats(1).1.0.is_some());
        let mut third = cache.begin();
        third.commits();
        drop(third);
        assert!(cache.formats(1).1.0.is_none(), "the server may still do what was broken off");
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
