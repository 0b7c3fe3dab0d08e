//! What this device puts into its outbox at a relay.

use super::state::{Posted, RelayState};
use super::{At, AtError};
use crate::clock::now;
use crate::sync::DeviceSync;
use std::convert::Infallible;
use yadori_core::shared::{Hash, Item};
use yadori_link::envelope::{Letter, Place, ReadUpTo, seal_letter};
use yadori_link::handover;
use yadori_link::relay::{PIECE, RelayError};
use yadori_store::DeviceRecord;

/// Bytes of the items of one letter, about.
const LETTER: usize = 256 * 1024;

/// Largest content that is put there: 64 MiB.
const LARGEST_CONTENT: u64 = 64 * 1024 * 1024;

impl DeviceSync {
    /// Puts what is new into the outbox, whenever something is.
    pub(super) async fn post_all(&self, at: &At) -> Result<Infallible, AtError> {
        let mut changes = self.history.ledger.changes();
        let mut connections = self.links.connections_changed.subscribe();
        let mut news = self.links.news.subscribe();
        loop {
            changes.borrow_and_update();
            connections.borrow_and_update();
            news.borrow_and_update();
            self.post(at).await?;
            tokio::select! {
                () = at.left.cancelled() => return Err(AtError::Left),
                changed = changes.changed() => changed.map_err(|_| AtError::Left)?,
                _ = connections.changed() => {}
                // What others have acknowledged need not lie there any more.
                _ = news.changed() => {}
                () = self.relaying.say.notified() => {}
            }
        }
    }

    async fn post(&self, at: &At) -> Result<(), AtError> {
        let mut state = self.relaying.state.lock().await;
        let others = self.linked_records().await?;
        let feed = self.history.store.feed().await?;
        let acknowledged = others.iter().map(|record| record.acknowledged).min();
        // Those that are connected hear of everything there.
        let all_are_connected = others
            .iter()
            .filter_map(|record| record.device.as_ref())
            .all(|device| self.links.is_connected(device.id()));
        if let Some(acknowledged) = acknowledged {
            begin(at, &mut state, feed, acknowledged).await?;
            // The others know this one's key from its first letter, whether or not they need to be told anything in one.
            if let Some(upto) = state.posted.as_ref().map(|posted| posted.upto).filter(|_| state.number == 0) {
                self.put_letter(at, &mut state, &others, (feed, upto, upto), Vec::new()).await?;
            }
        }
        let Some(acknowledged) = acknowledged.filter(|_| !all_are_connected) else {
            self.clear(at, &mut state, acknowledged.unwrap_or(u64::MAX)).await?;
            let latest = *self.history.ledger.changes().borrow();
            self.note_relay(|status| status.posted_upto = latest);
            return Ok(());
        };
        let latest = *self.history.ledger.changes().borrow();
        while let Some(posted) = &mut state.posted {
            let passed = self.relaying.echoes.lock().pass_over(posted.looked);
            posted.looked = posted.looked.max(passed);
            if acknowledged > *posted.known.get_or_insert(acknowledged) {
                posted.looked = posted.looked.max(acknowledged);
                if posted.envelopes.is_empty() {
                    // Nothing lies there, and everybody knows what comes before.
                    posted.from = posted.from.max(acknowledged);
                    posted.upto = posted.upto.max(acknowledged);
                }
            }
            if posted.looked >= latest {
                break;
            }
            let until = self.relaying.echoes.lock().next_gap_ends(posted.looked);
            let policy = self.links.policy();
            let told = self.history.store.outgoing_since(posted.looked, until, LETTER, &policy).await?;
            self.history.ledger.announce_again(&told.newly_shared).await?;
            if told.items.is_empty() {
                posted.looked = told.upto;
                continue;
            }
            let before = posted.upto;
            // First, so that they are there when the letter is read. It is of use without them.
            for (hash, size) in contents_of(&told.items) {
                match self.put_content(at, &hash, size).await {
                    Err(AtError::Relay(error)) if error.is("full") => {
                        let error = AtError::Relay(error);
                        self.note_relay(|status| status.last_error = Some((&error).into()));
                    }
                    done => done?,
                }
            }
            self.put_letter(at, &mut state, &others, (feed, before, told.upto), told.items).await?;
        }
        let looked = state.posted.as_mut().map_or(0, |posted| {
            posted.is_told();
            posted.looked
        });
        self.note_relay(|status| status.posted_upto = looked);
        let reads = self.reads(&others, &state);
        if state.is_news(&reads) {
            let upto = state.posted.as_ref().map_or(0, |posted| posted.upto);
            self.put_letter(at, &mut state, &others, (feed, upto, upto), Vec::new()).await?;
        }
        self.clear(at, &mut state, acknowledged).await?;
        Ok(())
    }

    /// How far the others were read here.
    fn reads(&self, others: &[DeviceRecord], state: &RelayState) -> Vec<ReadUpTo> {
        let read = |record: &DeviceRecord| {
            let device = record.device.as_ref()?.id();
            let stuck = state.stuck.contains(&device.to_string());
            Some(ReadUpTo { device, cursor: record.read, stuck })
        };
        let mut reads: Vec<ReadUpTo> = others.iter().filter_map(read).collect();
        reads.sort_unstable();
        reads
    }

    async fn put_letter(
        &self,
        at: &At,
        state: &mut RelayState,
        others: &[DeviceRecord],
        (feed, before, upto): ([u8; 8], u64, u64),
        items: Vec<Item>,
    ) -> Result<(), AtError> {
        let reads = self.reads(others, state);
        let key = Some(handover::key_of(at.identity()));
        let letter = Letter { now: now(), feed, before, upto, items, reads: reads.clone(), key };
        let outbox = at.group.outbox(&at.identity().pin());
        let bytes = loop {
            // What a relay says of the last number may be anything.
            let next = state.number.checked_add(1);
            let number = next.ok_or(RelayError::Garbled("there is no number after the last one"))?;
            let sealed = seal_letter(&at.group, at.identity(), number, &letter);
            let sealed = sealed.map_err(|error| AtError::Other(error.to_string()))?;
            let bytes = sealed.len();
            let sent_before = state.sending == Some(number);
            if !sent_before {
                state.sending = Some(number);
                self.put_state(state).await?;
            }
            match at.unless_left(at.client.put_envelope(&at.group, Place { outbox, number }, sealed)).await {
                // Only from here on it is known to be there: a relay that does not know it then has forgotten it.
                Ok(_) => {
                    state.is_there(number);
                    break bytes;
                }
                // The answer to it was lost, and it is there. There may be more to say by now: what is said twice does no harm.
                Err(AtError::Relay(RelayError::Refused { last: Some(last), .. })) if sent_before && last == number => {
                    state.is_there(number);
                }
                Err(AtError::Relay(RelayError::Refused { last: Some(last), .. })) if last >= number => {
                    return Err(self.brought_back(state, last).await?);
                }
                Err(error) => return Err(error),
            }
        };
        if let Some(posted) = &mut state.posted {
            posted.put(state.number, upto, bytes);
        }
        state.note_said(&reads);
        self.put_state(state).await?;
        self.note_posted(state.posted.as_ref().map_or(0, |posted| posted.envelopes.len() as u64));
        Ok(())
    }

    /// The relay has an envelope of this device that these records know nothing of: others have read of a time that they do not know.
    pub(super) async fn brought_back(&self, state: &mut RelayState, last: u64) -> Result<AtError, AtError> {
        state.is_there(last);
        self.tell_anew(state).await?;
        Ok(AtError::Other("this device was brought back from a copy: everything is told anew".into()))
    }

    /// The others are told everything from the beginning: this device was brought back from a copy.
    pub(super) async fn tell_anew(&self, state: &mut RelayState) -> Result<(), AtError> {
        tracing::warn!("this device was brought back from a copy; the others are told everything anew");
        state.posted = None;
        self.put_state(state).await?;
        self.history.store.begin_new_feed().await?;
        self.end_lines();
        Ok(())
    }

    /// Removes what everybody has.
    async fn clear(&self, at: &At, state: &mut RelayState, acknowledged: u64) -> Result<(), AtError> {
        let Some(posted) = &mut state.posted else { return Ok(()) };
        if let Some(number) = posted.take_upto(acknowledged) {
            let outbox = at.group.outbox(&at.identity().pin());
            at.unless_left(at.client.remove_envelopes(&at.group, Place { outbox, number })).await?;
            let waiting = posted.envelopes.len() as u64;
            self.put_state(state).await?;
            self.note_relay(|status| status.waiting = waiting);
        }
        Ok(())
    }

    /// Puts a content there, sealed, unless it is.
    async fn put_content(&self, at: &At, hash: &Hash, size: u64) -> Result<(), AtError> {
        let pieces = size.div_ceil(PIECE as u64);
        if size > LARGEST_CONTENT || at.unless_left(at.client.pieces(&at.group, hash)).await? >= pieces {
            return Ok(());
        }
        for piece in 0..pieces as u32 {
            let from = u64::from(piece) * PIECE as u64;
            // Not all of it is here, or it is gone by now.
            let Some(bytes) = self.history.store.content_by_hash(hash, from, PIECE, false).await? else {
                return Ok(());
            };
            let sealed = at.group.seal_piece(hash, from, &bytes).map_err(|error| AtError::Other(error.to_string()))?;
            at.unless_left(at.client.put_piece(&at.group, hash, piece, sealed)).await?;
        }
        Ok(())
    }
}

/// Begins the outbox, or begins it anew: what lies there is of no use if the feed is another one, or somebody cannot go on
/// from there; and it is told anew when it has grown.
async fn begin(at: &At, state: &mut RelayState, feed: [u8; 8], acknowledged: u64) -> Result<(), AtError> {
    match &state.posted {
        Some(posted) if posted.feed == feed && posted.from <= acknowledged && !posted.is_grown() => return Ok(()),
        Some(_) if state.number > 0 => {
            let place = Place { outbox: at.group.outbox(&at.identity().pin()), number: state.number };
            at.unless_left(at.client.remove_envelopes(&at.group, place)).await?;
        }
        _ => {}
    }
    state.posted = Some(Posted::nothing(feed, acknowledged));
    Ok(())
}

/// The contents that do not travel with their clips, and their sizes.
fn contents_of(items: &[Item]) -> Vec<(Hash, u64)> {
    let clips = items.iter().filter_map(|item| match item {
        Item::Clip(clip) => clip.body.as_ref(),
        _ => None,
    });
    let formats = clips.flat_map(|body| &body.formats).filter(|format| format.data.is_none());
    formats.map(|format| (format.hash, format.size)).collect()
}
