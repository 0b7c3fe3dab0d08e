//! Who waits for what is new in which mailbox.
//!
//! What comes by way of this node is told at once. What comes by way of another is found in the database, by one question for
//! all who wait here; a node that has the database for itself need not ask.

use crate::metrics::Metrics;
use crate::records::Records;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::sync::{Notify, watch};

/// Between two questions.
const TICK: Duration = Duration::from_millis(250);

/// Milliseconds of changes that are asked for once more: transactions end in another order than they began.
const OVERLAP: u64 = 5_000;

/// Those who wait.
#[derive(Clone, Default)]
pub struct Live(Arc<Inner>);

#[derive(Default)]
struct Inner {
    waiting: Mutex<HashMap<[u8; 16], watch::Sender<Known>>>,
    somebody: Notify,
}

/// What is known of a mailbox for which somebody waits.
#[derive(Clone, Copy, Default)]
struct Known {
    /// The number of the last arrival that was told.
    latest: u64,
    /// How often all who wait were to look again.
    stirred: u64,
}

/// Somebody who waits.
pub struct Waiting {
    live: Live,
    mailbox: [u8; 16],
    known: watch::Receiver<Known>,
    stirred: u64,
}

impl Live {
    /// Waits for what comes into a mailbox from now on.
    pub fn wait_for(&self, mailbox: [u8; 16]) -> Waiting {
        let known = self.0.waiting.lock().entry(mailbox).or_default().subscribe();
        self.0.somebody.notify_one();
        let stirred = known.borrow().stirred;
        Waiting { live: self.clone(), mailbox, known, stirred }
    }

    /// Tells that something has come, up to this arrival.
    pub fn tell(&self, mailbox: &[u8; 16], latest: u64) {
        if let Some(waiting) = self.0.waiting.lock().get(mailbox) {
            waiting.send_if_modified(|known| {
                let newer = latest > known.latest;
                known.latest = latest.max(known.latest);
                newer
            });
        }
    }

    /// Has all who wait for a mailbox look again: it was erased, or has another key.
    pub fn stir(&self, mailbox: &[u8; 16]) {
        if let Some(waiting) = self.0.waiting.lock().get(mailbox) {
            waiting.send_modify(|known| known.stirred += 1);
        }
    }

    /// Asks the database what has come by way of other nodes, as long as anybody waits. Goes on for ever.
    pub async fn follow(&self, records: &Records, metrics: &Metrics) {
        let mut since = 0;
        loop {
            if self.0.waiting.lock().is_empty() {
                self.0.somebody.notified().await;
                continue;
            }
            match records.changed_since(since).await {
                Ok((now, changed)) => {
                    since = now.saturating_sub(OVERLAP);
                    for (mailbox, latest) in changed {
                        self.tell(&mailbox, latest);
                    }
                }
                Err(error) => {
                    metrics.database_errors.fetch_add(1, Ordering::Relaxed);
                    tracing::warn!(%error, "what is new cannot be asked for at the moment");
                }
            }
            tokio::time::sleep(TICK).await;
        }
    }
}

impl Waiting {
    /// Returns when something has come after this arrival, or there is another reason to look again.
    pub async fn beyond(&mut self, after: u64) {
        let stirred = self.stirred;
        // The sender is in the table for as long as this is there.
        if let Ok(known) = self.known.wait_for(|known| known.latest > after || known.stirred != stirred).await {
            self.stirred = known.stirred;
        }
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        let mut waiting = self.live.0.waiting.lock();
        // This one still counts itself.
        if waiting.get(&self.mailbox).is_some_and(|others| others.receiver_count() <= 1) {
            waiting.remove(&self.mailbox);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn whoever_waits_hears_of_its_mailbox_alone_and_leaves_nothing() {
        let live = Live::default();
        let (mut one, mut two) = (live.wait_for([1; 16]), live.wait_for([1; 16]));
        let mut other = live.wait_for([2; 16]);
        live.tell(&[1; 16], 4);
        one.beyond(3).await;
        two.beyond(3).await;
        live.stir(&[1; 16]);
        one.beyond(9).await;
        let silent = tokio::time::timeout(Duration::from_millis(20), other.beyond(0)).await;
        assert!(silent.is_err());
        drop(one);
        assert_eq!(live.0.waiting.lock().len(), 2);
        drop((two, other));
        assert!(live.0.waiting.lock().is_empty());
    }
}
