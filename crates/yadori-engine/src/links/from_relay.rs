//! Content that somebody waits for and no connected device has: it may lie at the relay.

use parking_lot::Mutex;
use std::collections::{BTreeMap, BTreeSet};
use tokio::sync::Notify;
use yadori_core::shared::Hash;

/// What is asked for.
#[derive(Default)]
pub(crate) struct FromRelay {
    inner: Mutex<Inner>,
    asked: Notify,
}

#[derive(Default)]
struct Inner {
    /// Whether there is a relay that answers.
    is_there: bool,
    /// What is wanted, and how much of it is here.
    wanted: BTreeMap<Hash, u64>,
    /// What it is being asked for.
    asking: BTreeSet<Hash>,
    /// What it does not have.
    absent: BTreeSet<Hash>,
}

impl FromRelay {
    /// Asks for content; `afresh` if somebody has just begun to wait for it. Tells whether it may come.
    pub(crate) fn ask(&self, hash: Hash, have: u64, afresh: bool) -> bool {
        let mut inner = self.inner.lock();
        if afresh {
            inner.absent.remove(&hash);
        }
        if !inner.is_there || inner.absent.contains(&hash) {
            return false;
        }
        if !inner.asking.contains(&hash) {
            inner.wanted.insert(hash, have);
            self.asked.notify_one();
        }
        true
    }

    /// The relay answers, or does not any more: then nobody waits for it.
    pub(crate) fn is_there(&self, is_there: bool) {
        *self.inner.lock() = Inner { is_there, ..Inner::default() };
    }

    /// Waits for something that is wanted.
    pub(crate) async fn next(&self) -> (Hash, u64) {
        loop {
            {
                let mut inner = self.inner.lock();
                if let Some((hash, have)) = inner.wanted.pop_first() {
                    inner.asking.insert(hash);
                    return (hash, have);
                }
            }
            self.asked.notified().await;
        }
    }

    /// That is here now, or the relay does not have it.
    pub(crate) fn is_done(&self, hash: Hash, is_here: bool) {
        let mut inner = self.inner.lock();
        inner.asking.remove(&hash);
        if !is_here {
            inner.absent.insert(hash);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_it_does_not_have_is_not_asked_for_again_by_who_has_waited() {
        let from_relay = FromRelay::default();
        assert!(!from_relay.ask([1; 32], 0, true), "there is no relay");
        from_relay.is_there(true);
        assert!(from_relay.ask([1; 32], 5, true));
        assert_eq!(from_relay.next().await, ([1; 32], 5));
        assert!(from_relay.ask([1; 32], 5, false), "it is being asked");
        from_relay.is_done([1; 32], false);
        assert!(!from_relay.ask([1; 32], 5, false));
        assert!(from_relay.ask([1; 32], 5, true));
        from_relay.is_there(false);
        assert!(!from_relay.ask([1; 32], 5, true));
    }
}
