//! What this device takes from a relay.

use super::WENT_BACK;
use super::state::{Posted, RelayState};
use super::{At, AtError};
use crate::clock::now;
use crate::sync::DeviceSync;
use crate::sync::peer::{Peer, PeerError};
use bytes::Bytes;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Duration;
use yadori_core::DeviceId;
use yadori_core::shared::{ContentPiece, Hash};
use yadori_link::connection::Records;
use yadori_link::envelope::{EnvelopeError, Letter, open_envelope};
use yadori_link::group::Outbox;
use yadori_link::identity::Pin;
use yadori_link::relay::{Arrivals, Delivered, PIECE, RelayClient};

/// How long one question for envelopes waits.
const WAIT: Duration = Duration::from_secs(110);

/// A relay that has nothing to give and does not wait is asked again after so long.
const HASTY: Duration = Duration::from_secs(1);

/// Milliseconds before a device is told the same anew.
const AGAIN: u64 = 600_000;

impl DeviceSync {
    /// Takes in what comes, whenever something does. `numbers` says how far the outboxes were numbered when this device came.
    pub(super) async fn fetch_all(
        self: &Arc<Self>,
        at: &At,
        numbers: &BTreeMap<Outbox, u64>,
    ) -> Result<Infallible, AtError> {
        // The other way is in use while this one waits.
        let client = RelayClient::new(&at.group.address, at.group.pin)?.patient();
        while self.fetch(at, &client, Duration::ZERO).await? {}
        self.look_again(at, &client, numbers).await?;
        self.fetch_contents(at).await?;
        loop {
            let asked = tokio::time::Instant::now();
            if self.fetch(at, &client, WAIT).await? {
                self.fetch_contents(at).await?;
            } else {
                tokio::time::sleep_until(asked + HASTY).await;
            }
        }
    }

    /// Looks through everything that lies there, if something is there that was not read: where a relay has gone back in time, arrivals
    /// have numbers that others had before.
    async fn look_again(
        self: &Arc<Self>,
        at: &At,
        client: &RelayClient,
        numbers: &BTreeMap<Outbox, u64>,
    ) -> Result<(), AtError> {
        let unread = {
            let mut state = self.relaying.state.lock().await;
            let unread = state.unread(numbers);
            if unread.is_empty() {
                return Ok(());
            }
            state.arrival = 0;
            unread
        };
        while self.fetch(at, client, Duration::ZERO).await? {}
        // The others were removed, or are of no device that is linked.
        let mut state = self.relaying.state.lock().await;
        for (outbox, number) in unread {
            let read = state.read.entry(outbox).or_default();
            *read = number.max(*read);
        }
        self.put_state(&state).await?;
        Ok(())
    }

    /// Takes in what has come; waits for so long until something does. Tells whether anything did.
    async fn fetch(self: &Arc<Self>, at: &At, client: &RelayClient, wait: Duration) -> Result<bool, AtError> {
        let own = at.group.outbox(&at.identity().pin());
        let (after, there) = {
            let state = self.relaying.state.lock().await;
            (state.arrival, state.there)
        };
        let Arrivals { found, latest, own: own_last } =
            at.unless_left(client.envelopes(&at.group, after, &own, wait)).await?;
        if !self.shares() {
            return Err(AtError::Other("sharing is paused".into()));
        }
        // It had all of this device's envelopes before it was asked.
        let forgets = latest < after || own_last < there;
        self.take_in(at, &found, (latest, own_last), forgets).await?;
        Ok(!found.is_empty())
    }

    /// The relay forgets what was acknowledged: what this device has put there may be gone as well, and is put there again.
    pub(super) async fn forgotten(&self, state: &mut RelayState, own_last: u64) -> Result<AtError, AtError> {
        self.note_lie(WENT_BACK);
        state.is_forgotten(own_last);
        self.put_state(state).await?;
        Ok(AtError::WentBack)
    }

    async fn take_in(
        self: &Arc<Self>,
        at: &At,
        found: &[Delivered],
        (latest, own_last): (u64, u64),
        forgets: bool,
    ) -> Result<(), AtError> {
        let linked = self.linked_pins().await?;
        let mut state = self.relaying.state.lock().await;
        if forgets {
            return Err(self.forgotten(&mut state, own_last).await?);
        }
        // Before it is heard what others have read: that may be of another time.
        if !state.knows_of(own_last) {
            return Err(self.brought_back(&mut state, own_last).await?);
        }
        for delivered in found {
            let outbox = data_encoding::HEXLOWER.encode(&delivered.place.outbox);
            let known = state.read.get(&outbox).copied().unwrap_or(0);
            if delivered.place.number > known {
                match open_envelope(&at.group, &linked, delivered.place, &delivered.envelope) {
                    Ok((sender, letter)) => {
                        self.read_letter(&mut state, &sender, letter).await?;
                        state.read.insert(outbox, delivered.place.number);
                    }
                    // Of a time before the group had this secret, or of a device that was removed meanwhile: no lie.
                    Err(EnvelopeError::OtherEpoch(..)) => {}
                    Err(EnvelopeError::Stranger) if !is_of_linked(at, &linked, &delivered.place.outbox) => {}
                    Err(error) => self.note_lie(&error.to_string()),
                }
            }
            state.arrival = state.arrival.max(delivered.arrival);
        }
        if found.is_empty() {
            state.arrival = state.arrival.max(latest);
        } else {
            self.note_relay(|status| status.fetched_at = Some(now()));
        }
        self.put_state(&state).await?;
        // The others hear how far they were read.
        self.relaying.say.notify_one();
        Ok(())
    }

    pub(super) fn note_lie(&self, what: &str) {
        tracing::warn!(what, "something is wrong with what the relay gives; it was not taken in");
        self.note_relay(|status| {
            status.lies += 1;
            status.last_lie = Some(what.to_owned());
        });
    }

    /// Reads a letter of a linked device.
    async fn read_letter(
        self: &Arc<Self>,
        state: &mut RelayState,
        sender: &Pin,
        letter: Letter,
    ) -> Result<(), AtError> {
        let device = DeviceId::of_key(sender);
        let store = &self.history.store;
        let Some(record) = store.device(device).await? else { return Ok(()) };
        if let Some(key) = &letter.key {
            state.note_key(device, key);
        }
        let own = self.links.endpoint_if_any().map(|endpoint| endpoint.identity().id());
        if let Some(read) = letter.reads.iter().find(|read| Some(read.device) == own) {
            self.hear_of_reading(state, device, *read).await?;
        }
        if letter.items.is_empty() {
            return Ok(());
        }
        let name = device.to_string();
        let after = (letter.feed, letter.upto);
        let goes_on = match record.read {
            Some((feed, upto)) if feed == letter.feed && letter.upto <= upto => return Ok(()),
            Some((feed, upto)) => (feed == letter.feed && letter.before <= upto) || letter.before == 0,
            None => letter.before == 0,
        };
        if !goes_on {
            // Something in between is missing: it is asked for.
            state.stuck.insert(name);
            return Ok(());
        }
        let peer = Peer::new(self.clone(), device, 0, record.read);
        match peer.apply(after, letter.items).await {
            Ok(applied) => {
                state.stuck.remove(&name);
                let mut fetching = self.links.fetching.lock();
                // Nobody on a connection was asked for them.
                applied.wants.iter().for_each(|(hash, _)| fetching.is_done(*hash));
                drop(fetching);
                let mut echoes = self.relaying.echoes.lock();
                applied.echoes.into_iter().for_each(|change| echoes.insert(change));
            }
            Err(PeerError::Store(error)) => return Err(error.into()),
            Err(error) => {
                tracing::warn!(%device, %error, "a letter was not taken in");
                state.stuck.insert(name);
            }
        }
        Ok(())
    }

    /// Another device says how far it has read this one.
    async fn hear_of_reading(
        &self,
        state: &mut RelayState,
        device: DeviceId,
        read: yadori_link::envelope::ReadUpTo,
    ) -> Result<(), AtError> {
        let store = &self.history.store;
        let feed = store.feed().await?;
        let latest = store.latest_change();
        if read.cursor.is_some_and(|(of, upto)| of == feed && upto > latest) {
            return self.tell_anew(state).await;
        }
        let upto = match read.cursor {
            Some((of, upto)) if of == feed => upto,
            _ => 0,
        };
        store.acknowledged(device, (feed, upto), now()).await?;
        self.links.note(device, |status_of| status_of.acknowledged = status_of.acknowledged.max(upto));
        // It is told anew from where it is, once in a while; what is told twice makes no difference.
        let asked = (upto, now().0);
        let known = state.again.get(&device.to_string());
        if read.stuck && known.is_none_or(|(from, at)| *from != upto || at + AGAIN < asked.1) {
            state.again.insert(device.to_string(), asked);
            state.posted = Some(Posted::nothing(feed, upto));
        }
        Ok(())
    }

    /// Fetches contents that are wanted, as far as the relay has them.
    async fn fetch_contents(self: &Arc<Self>, at: &At) -> Result<(), AtError> {
        for (hash, have) in self.history.store.wanted(self.links.policy().fetch_above).await? {
            self.fetch_content(at, hash, have).await?;
        }
        Ok(())
    }

    /// Fetches contents that somebody waits for.
    pub(super) async fn fetch_wanted(self: &Arc<Self>, at: &At) -> Result<Infallible, AtError> {
        loop {
            let next = async { Ok::<_, AtError>(self.links.from_relay.next().await) };
            let (hash, have) = at.unless_left(next).await?;
            let is_here = self.fetch_content(at, hash, have).await?;
            self.links.from_relay.is_done(hash, is_here);
            self.links.fetched.send_modify(|times| *times += 1);
        }
    }

    /// Fetches a content. Tells whether it is here now.
    async fn fetch_content(self: &Arc<Self>, at: &At, hash: Hash, have: u64) -> Result<bool, AtError> {
        let own = at.identity().id();
        let peer = Peer::new(self.clone(), own, 0, None);
        let mut have = have;
        loop {
            let piece = have / PIECE as u64;
            let start = piece * PIECE as u64;
            let Some(sealed) = at.unless_left(at.client.piece(&at.group, &hash, piece as u32)).await? else {
                return Ok(false);
            };
            let Some(bytes) = at.group.open_piece(&hash, start, &sealed) else {
                self.note_lie("a content is not what lay in this place");
                return Ok(false);
            };
            let Some(rest) = bytes.get((have - start) as usize..).filter(|rest| !rest.is_empty()) else {
                return Ok(false);
            };
            let piece = ContentPiece { hash, at: have, data: Bytes::copy_from_slice(rest) };
            match peer.store(vec![piece]).await.map(|mut stored| stored.pop().unwrap_or_default()) {
                Ok(stored) if stored.whole => {
                    let mut echoes = self.relaying.echoes.lock();
                    stored.moved.iter().for_each(|(_, change)| echoes.insert(*change));
                    return Ok(true);
                }
                Ok(stored) => have = stored.have,
                Err(PeerError::Store(error)) => return Err(error.into()),
                Err(error) => {
                    self.note_lie(&error.to_string());
                    return Ok(false);
                }
            }
        }
    }
}

/// Whether an outbox is that of a linked device.
fn is_of_linked(at: &At, linked: &[Pin], outbox: &Outbox) -> bool {
    linked.iter().any(|pin| at.group.outbox(pin) == *outbox)
}
