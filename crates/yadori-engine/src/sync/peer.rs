//! What an exchange with another device does to this device's records.

use crate::clock::{latest_believed, now};
use crate::history::index::Part;
use crate::sync::DeviceSync;
use bytes::Bytes;
use parking_lot::Mutex;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::shared::{Clip, ContentPiece, Hash, Item};
use yadori_core::{DeviceId, Stamp};
use yadori_link::connection::{Applied, Records, Stored};
use yadori_link::frame::{Hello, RelayPlace};
use yadori_store::{ApplyOutcome, Cursor, CursorAdvance, Piece, StoreError};

/// The records, as far as one other device is concerned.
pub(super) struct Peer {
    pub service: Arc<DeviceSync>,
    pub device: DeviceId,
    /// The number of the connection with it.
    pub connection: u64,
    /// How far its feed was read.
    pub read: Mutex<Option<Cursor>>,
}

/// Why an exchange cannot go on.
#[derive(Debug, Error)]
pub(super) enum PeerError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("it tells of something that happens in the future: its clock was wrong, or is (please set it)")]
    Future,
    #[error("it sent content that is not what it said it would be")]
    Lie,
    /// It was let go of, or everything is to be read again from it.
    #[error("it is about to be read anew")]
    Anew,
}

impl Peer {
    pub fn new(service: Arc<DeviceSync>, device: DeviceId, connection: u64, read: Option<Cursor>) -> Self {
        Self { service, device, connection, read: Mutex::new(read) }
    }

    /// Publishes what a batch changed: clock, index, linked devices, thumbnails.
    async fn note_outcome(&self, outcome: ApplyOutcome) -> Result<Applied, PeerError> {
        let service = &self.service;
        service.history.stamps.observe(outcome.latest);
        if let Some(change) = outcome.change {
            service.history.ledger.changed_to(outcome.records, change);
            // Those who show it go first.
            tokio::task::yield_now().await;
            service.history.forgetting.notify_one();
        }
        if outcome.devices {
            service.know_linked().await?;
        }
        if outcome.purged {
            service.retention.secure_erase();
        }
        service.draw(outcome.pictures);
        if let Some((number, copied)) = outcome.latest_copy {
            service.follow(number, copied);
        }
        // Skip what is being fetched from another device already.
        let mut fetching = service.links.fetching.lock();
        let wants =
            outcome.wants.into_iter().filter(|(hash, have)| fetching.claim(*hash, *have, self.device)).collect();
        Ok(Applied { wants, echoes: outcome.echoes })
    }

    fn check(items: &[Item]) -> Result<(), PeerError> {
        let limit = latest_believed();
        if items.iter().any(|item| item.latest() > limit) { Err(PeerError::Future) } else { Ok(()) }
    }
}

impl Records for Peer {
    type Error = PeerError;

    async fn greeted(&self, hello: &Hello) -> Result<(), PeerError> {
        let clock = hello.now.0 as i64 - now().0 as i64;
        self.service.links.note_greeted(self.device, self.connection);
        tracing::info!(device = %self.device, "connected with a device");
        self.service.links.note(self.device, |status_of| {
            status_of.latest = hello.latest;
            status_of.clock = clock;
            status_of.last_error = None;
        });
        self.service.repair_clock().await?;
        self.service.history.store.note_seen(self.device, now()).await?;
        self.service.history.ledger.part_changed(Part::Devices);
        self.service.history.ledger.status_changed();
        self.service.tell_of_relay(self.device).await?;
        // What a broken connection left half fetched.
        let wanted = self.service.history.store.wanted(self.service.links.policy().fetch_above).await?;
        let (service, device) = (self.service.clone(), self.device);
        // There may be more than can wait at once, and none of them is carried out before this is done.
        self.service.background.tasks.spawn(async move {
            let Some(commands) = service.links.commands(device) else { return };
            for (hash, have) in wanted {
                let mine = service.links.fetching.lock().claim(hash, have, device);
                if mine && commands.send(yadori_link::connection::ConnectionCommand::Fetch(hash, have)).await.is_err() {
                    return;
                }
            }
        });
        Ok(())
    }

    async fn read(&self, after: u64, until: u64, bytes: usize) -> Result<(u64, Vec<Item>), PeerError> {
        let policy = self.service.links.policy();
        let told = self.service.history.store.outgoing_since(after, until, bytes, &policy).await?;
        self.service.history.ledger.announce_again(&told.newly_shared).await?;
        Ok((told.upto, told.items))
    }

    async fn apply(&self, cursor: ([u8; 8], u64), items: Vec<Item>) -> Result<Applied, PeerError> {
        Self::check(&items)?;
        let advance = CursorAdvance { before: *self.read.lock(), after: cursor };
        let policy = || self.service.links.policy();
        let outcome = self.service.history.store.apply(self.device, Some(advance), &items, &policy, now()).await?;
        let outcome = outcome.ok_or(PeerError::Anew)?;
        *self.read.lock() = Some(cursor);
        // The clips are announced first: for them somebody may wait.
        let applied = self.note_outcome(outcome).await;
        let ledger = &self.service.history.ledger;
        if items.iter().any(|item| matches!(item, Item::Drawer(_) | Item::Heading(_))) {
            ledger.part_changed(Part::Drawers);
        }
        ledger.part_changed(Part::Devices);
        self.service.links.note(self.device, |status_of| {
            status_of.latest = status_of.latest.max(cursor.1);
            status_of.progress += 1;
        });
        applied
    }

    fn note_acknowledged(&self, upto: u64) {
        self.service.links.note(self.device, |status_of| {
            if upto > status_of.acknowledged {
                status_of.acknowledged = upto;
                status_of.progress += 1;
            }
        });
        self.service.history.ledger.part_changed(Part::Devices);
    }

    async fn acknowledged(&self, feed: [u8; 8], upto: u64) -> Result<(), PeerError> {
        self.service.history.store.acknowledged(self.device, (feed, upto), now()).await?;
        // What lies at a relay for it need not lie there any more.
        self.service.history.ledger.part_changed(Part::Devices);
        Ok(())
    }

    async fn content(&self, hash: Hash, from: u64, most: usize) -> Result<Option<Bytes>, PeerError> {
        let handed = self.service.links.was_handed(self.device, hash);
        Ok(self.service.history.store.content_by_hash(&hash, from, most, handed).await?)
    }

    async fn store(&self, pieces: Vec<ContentPiece>) -> Result<Vec<Stored>, PeerError> {
        let applied = self.service.history.store.apply_content(&pieces).await?;
        let links = &self.service.links;
        links.note(self.device, |status_of| status_of.progress += 1);
        let mut stored = Vec::with_capacity(pieces.len());
        for (piece, came) in pieces.iter().zip(&applied.pieces) {
            let (have, whole) = match came {
                Piece::More(have) => (*have, false),
                Piece::Whole => (piece.at + piece.data.len() as u64, true),
                Piece::Unwanted | Piece::Lie => (piece.at, true),
            };
            let mut fetching = links.fetching.lock();
            if whole {
                fetching.is_done(piece.hash);
            } else {
                fetching.has_come(piece.hash, have);
            }
            stored.push(Stored { have, whole, moved: Vec::new() });
        }
        if let Some(change) = applied.change {
            self.service.history.ledger.changed(change);
        }
        self.service.draw(applied.pictures);
        // What came whole beside a lie is here all the same.
        links.fetched.send_modify(|times| *times += 1);
        if applied.is_another_clip || applied.pieces.contains(&Piece::Lie) {
            return Err(PeerError::Lie);
        }
        if let Some(last) = stored.last_mut() {
            last.moved = applied.moved;
        }
        Ok(stored)
    }

    fn absent(&self, hash: Hash) {
        self.service.links.fetch_elsewhere(hash, self.device);
    }

    async fn told(&self, place: RelayPlace) -> Result<(), PeerError> {
        if place.stamp > latest_believed() {
            return Err(PeerError::Future);
        }
        Ok(self.service.hear_of_relay(place).await?)
    }

    async fn take_in(&self, clip: Clip, recall: bool) -> Result<(Option<String>, Applied), PeerError> {
        let items = [Item::Clip(Box::new(clip))];
        Self::check(&items)?;
        let [Item::Clip(clip)] = &items else { return Ok(Default::default()) };
        let policy = || self.service.links.policy();
        let outcome = self.service.history.store.apply(self.device, None, &items, &policy, now()).await?;
        let outcome = outcome.ok_or(PeerError::Anew)?;
        let applied = self.note_outcome(outcome).await?;
        if let Some(commands) = self.service.links.commands(self.device) {
            for (hash, have) in &applied.wants {
                let _ = commands.try_send(yadori_link::connection::ConnectionCommand::Fetch(*hash, *have));
            }
        }
        if !recall {
            return Ok((None, applied));
        }
        if !policy().may_be_put_on_clipboard {
            let refusal = "it has the clip, but does not let others put anything on its clipboard (there: yadori sync \
                           policy --allow-recall)";
            return Ok((Some(refusal.into()), applied));
        }
        // Its content may still be on its way; this is not the place to wait for it.
        let (service, id) = (self.service.clone(), clip.id);
        self.service.background.tasks.spawn(async move {
            if let Err(error) = service.recalling.recall_clip(id).await {
                tracing::warn!(%error, "what another device sent could not be put on the clipboard");
            }
        });
        Ok((None, applied))
    }
}

impl DeviceSync {
    /// What this device stamped while its clock was far ahead is brought back to now. That its clock is right at present
    /// is no guess where this is called: another device has just said the same.
    pub(super) async fn repair_clock(&self) -> Result<(), StoreError> {
        let believed = latest_believed();
        if self.history.stamps.latest() <= believed {
            return Ok(());
        }
        let (latest, change) = self.history.store.repair_clock(believed, now()).await?;
        self.history.stamps.go_back_to(latest);
        let mut newest = self.links.newest.lock();
        *newest = (*newest).min(latest);
        self.history.ledger.changed(change);
        tracing::warn!("this device's clock was far ahead for a while: what happened then is dated now");
        Ok(())
    }

    /// Puts the newest copy of the other devices on this clipboard, if that is wanted and nothing newer is there.
    fn follow(self: &Arc<Self>, number: u64, copied: Stamp) {
        {
            let mut newest = self.links.newest.lock();
            if !self.links.policy().follow || copied <= *newest {
                return;
            }
            *newest = copied;
        }
        let service = self.clone();
        self.background.tasks.spawn(async move {
            let followed = async {
                let Some(record) = service.history.store.clips(&[number]).await?.pop() else { return Ok(()) };
                service.fetching.fetch_whole(&record).await?;
                let formats = service.history.whole_formats(&service.history.store.formats(number).await?).await?;
                // Something may have been copied here meanwhile.
                if *service.links.newest.lock() == copied {
                    service.recalling.offer(formats).await?;
                }
                Ok::<(), crate::recalling::RecallError>(())
            };
            if let Err(error) = followed.await {
                tracing::info!(%error, "the newest copy of another device is not on this clipboard");
            }
        });
    }
}
