//! The numbers of the change feed, and whose turn it is to take them.
//!
//! One writes at a time: its changes are there for all to read before the next takes a number, so that whoever has read up to some
//! number has missed none before it. The numbers are counted here. On record is the last of them, or a clip that bears it: a copy
//! is one row, and to write its number a second time would cost a third as much again.

use parking_lot::Mutex;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use tokio::sync::OwnedMutexGuard;

/// Gives the last number that any record bears, and the last that the feed itself has on record.
pub(crate) const LAST_ON_RECORD: &str =
    "SELECT CAST(GREATEST(last, COALESCE((SELECT MAX(seq) FROM clips), 0)) AS UNSIGNED), last FROM feed WHERE one = 1";

/// The numbers.
#[derive(Debug, Default)]
pub(crate) struct Feed {
    turn: Arc<tokio::sync::Mutex<()>>,
    /// The last whose change can be read.
    last: AtomicU64,
    /// The last that the feed itself has on record.
    on_record: Mutex<u64>,
    /// Somebody else takes numbers, too: they are to be looked up.
    is_behind: AtomicBool,
}

impl Feed {
    /// The number of the latest change that can be read.
    pub fn last(&self) -> u64 {
        self.last.load(Ordering::SeqCst)
    }

    /// The records bear these numbers ([`LAST_ON_RECORD`]).
    pub fn is_at(&self, last: u64, on_record: u64) {
        self.last.fetch_max(last, Ordering::SeqCst);
        *self.on_record.lock() = on_record;
        self.is_behind.store(false, Ordering::SeqCst);
    }

    /// Whether the numbers are to be looked up before any is taken.
    pub fn is_behind(&self) -> bool {
        self.is_behind.load(Ordering::SeqCst)
    }

    /// A number was taken that some record bears already.
    pub fn is_found_behind(&self) {
        self.is_behind.store(true, Ordering::SeqCst);
    }

    /// Whether the feed itself has this number on record, or a later one.
    pub fn has_on_record(&self, change: u64) -> bool {
        *self.on_record.lock() >= change
    }

    /// It has this one on record from now on.
    pub fn records(&self, change: u64) {
        *self.on_record.lock() = change;
    }

    /// Waits until nobody else writes.
    pub async fn turn(self: &Arc<Self>) -> Turn {
        let alone = self.turn.clone().lock_owned().await;
        Turn { feed: self.clone(), upto: self.last(), _alone: alone }
    }
}

/// Nobody else writes until this is dropped.
#[derive(Debug)]
pub(crate) struct Turn {
    feed: Arc<Feed>,
    /// The last change that can be read after it.
    upto: u64,
    _alone: OwnedMutexGuard<()>,
}

impl Turn {
    /// All changes up to this number can be read after it, or perhaps: nobody takes any of these numbers again.
    pub fn leaves(&mut self, upto: u64) {
        self.upto = upto;
    }

    /// Nothing that was written can be read after it.
    pub fn leaves_nothing(&mut self) {
        self.upto = self.feed.last();
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        self.feed.last.fetch_max(self.upto, Ordering::SeqCst);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn each_begins_where_the_one_before_has_left_off() {
        let feed = Arc::new(Feed::default());
        feed.is_at(7, 5);
        let mut turn = feed.turn().await;
        turn.leaves(9);
        let mut next = Box::pin(feed.turn());
        assert!(futures_util::poll!(&mut next).is_pending());
        assert_eq!(feed.last(), 7, "it cannot be read yet");
        drop(turn);
        let mut turn = next.await;
        assert_eq!(feed.last(), 9);
        turn.leaves(12);
        turn.leaves_nothing();
        drop(turn);
        assert_eq!(feed.last(), 9);
        assert!(feed.has_on_record(5) && !feed.has_on_record(6));
    }
}
