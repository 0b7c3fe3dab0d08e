//! How this device is let in at a relay, also when the group has another key than before.
//!
//! Whoever makes another key gives it to the relay, and leaves it there for each of the others. Who comes with the old one finds it.

use super::state::{self, RelayState};
use super::{At, AtError};
use crate::sync::DeviceSync;
use std::collections::BTreeMap;
use yadori_link::group::{Group, Outbox};
use yadori_link::handover::{open_handover, seal_handover};
use yadori_link::identity::Pin;
use yadori_link::ranges::ChangeRanges;

impl DeviceSync {
    /// Comes to a place: perhaps for the first time, or with another secret. Tells how far the outboxes of the others were numbered.
    pub(super) async fn arrive(&self, at: &At) -> Result<BTreeMap<Outbox, u64>, AtError> {
        let mut state = self.relaying.state.lock().await;
        if !state.is_of(&at.group) {
            state.move_to(&at.group);
            *self.relaying.echoes.lock() = ChangeRanges::default();
        }
        let mut numbers = match at.unless_left(at.client.outboxes(&at.group)).await {
            Err(AtError::Relay(error)) if error.is("no-mailbox") => {
                // The key that the relay knows may still be that of the place before.
                let before = state.before.as_deref().and_then(state::read_group);
                let before = before.filter(|before| before.mailbox == at.group.mailbox && *before != at.group);
                let is_let_in = match &before {
                    Some(before) => self.change_access(at, before, &state).await?,
                    None => false,
                };
                if !is_let_in {
                    drop(state);
                    return Err(self.take_handover(at, before.as_ref().unwrap_or(&at.group)).await?);
                }
                // Nobody has put anything there with this key.
                BTreeMap::new()
            }
            known => known?,
        };
        state.before = None;
        self.put_state(&state).await?;
        // Before anything is put there, by which it could not be told any more.
        let own_last = numbers.remove(&at.group.outbox(&at.identity().pin())).unwrap_or(0);
        if own_last < state.there {
            return Err(self.forgotten(&mut state, own_last).await?);
        }
        if !state.knows_of(own_last) {
            return Err(self.brought_back(&mut state, own_last).await?);
        }
        drop(state);
        self.links.from_relay.is_there(true);
        self.note_relay(|status| {
            status.answers = true;
            status.last_error = None;
        });
        Ok(numbers)
    }

    /// Gives the relay the key of this place instead of that of the one before, and leaves it for the others. Tells whether the relay
    /// still knew the one before.
    async fn change_access(&self, at: &At, before: &Group, state: &RelayState) -> Result<bool, AtError> {
        let left = self.handovers(at, before, state).await?;
        let done = match at.unless_left(at.client.change_access(before, &at.group, &left)).await {
            // Who was removed is shut out all the same.
            Err(AtError::Relay(error)) if error.is("full") => {
                at.unless_left(at.client.change_access(before, &at.group, &[])).await
            }
            done => done,
        };
        match done {
            Err(AtError::Relay(error)) if error.is("no-mailbox") => Ok(false),
            done => done.map(|()| true),
        }
    }

    /// What is left for each of the others of which a key is known: its outbox at the place before, and what only it can open.
    async fn handovers(&self, at: &At, before: &Group, state: &RelayState) -> Result<Vec<(Outbox, Vec<u8>)>, AtError> {
        let place = self.place();
        if place.value.as_ref() != Some(&at.group) {
            return Err(AtError::Left);
        }
        let others = self.linked_records().await?.into_iter().filter_map(|record| record.device);
        let remaining = others.filter(|device| !at.group.without.contains(&device.key));
        let known = remaining.filter_map(|device| Some((device.key, state.key_of(device.id())?)));
        let handover = |(pin, key): (Pin, _)| {
            let sealed = seal_handover(before, at.identity(), (&pin, key), &place);
            Ok((before.outbox(&pin), sealed.map_err(|error| AtError::Other(error.to_string()))?))
        };
        known.map(handover).collect()
    }

    /// Takes up what was left for this device by the one that has changed the key after this place.
    async fn take_handover(&self, at: &At, before: &Group) -> Result<AtError, AtError> {
        let own = before.outbox(&at.identity().pin());
        let sealed = match at.unless_left(at.client.handover(before, &own)).await {
            Err(AtError::Relay(error)) if error.is("no-mailbox") => return Err(AtError::KeyMissed),
            found => found?,
        };
        let linked = self.linked_pins().await?;
        let place = match open_handover(before, at.identity(), &linked, &sealed) {
            Ok((_, place)) => place,
            Err(error) => {
                self.note_lie(&error.to_string());
                return Err(AtError::Other(error.to_string()));
            }
        };
        tracing::info!("the group has another key at the relay, and it was left there for this device");
        self.history.stamps.observe(place.stamp);
        // With this one the group was let in, if only until the next.
        let mut state = self.relaying.state.lock().await;
        state.before = place.value.as_ref().map(state::written_group);
        self.put_state(&state).await?;
        drop(state);
        // What was chosen here meanwhile is given up, even if that was later: nobody was let in with it.
        self.put_place(place).await?;
        self.shut_out_removed().await.map_err(|error| AtError::Other(error.to_string()))?;
        Ok(AtError::Left)
    }
}
