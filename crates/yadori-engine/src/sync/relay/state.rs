//! How far this device has come at a relay, as it is kept.

use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use yadori_core::merge::Register;
use yadori_core::{DeviceId, Stamp};
use yadori_link::envelope::ReadUpTo;
use yadori_link::frame::RelayPlace;
use yadori_link::group::{Group, Outbox};
use yadori_link::handover::HandoverKey;

/// How far this device has come.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct RelayState {
    /// At which place.
    place: Option<String>,
    /// The last place at which this device was let in, while the relay may not know the new secret yet.
    pub(super) before: Option<String>,
    /// To what a new secret is sealed for the others: by the ids, as text.
    keys: BTreeMap<String, String>,
    /// The number of the last arrival that was fetched.
    pub(super) arrival: u64,
    /// The number of the last envelope that was read, of each outbox.
    pub(super) read: BTreeMap<String, u64>,
    /// Devices whose envelopes go on from further than they were read here: by the ids, as text.
    pub(super) stuck: BTreeSet<String>,
    /// The number of this device's last envelope.
    pub(super) number: u64,
    /// The number of this device's last envelope that the relay is known to have.
    pub(super) there: u64,
    /// The number of the envelope that is being put there: whether it has arrived is not known.
    pub(super) sending: Option<u64>,
    /// What was put there.
    pub(super) posted: Option<Posted>,
    /// For whom the outbox was last begun anew, from which change, and when.
    pub(super) again: BTreeMap<String, (u64, u64)>,
    /// What the last letter said of the others.
    said: Vec<Said>,
}

/// What a letter says of one device: which, the cursor in its feed, and whether that is stuck.
type Said = (String, Option<(String, u64)>, bool);

/// What lies in this device's outbox: its feed, from one change to another without a gap.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Posted {
    /// Which feed.
    pub(super) feed: [u8; 8],
    /// Everything up to this change was told before.
    pub(super) from: u64,
    /// Up to where the last letter goes.
    pub(super) upto: u64,
    /// Up to where there is nothing else to tell.
    pub(super) looked: u64,
    /// What everybody had acknowledged when this was begun: only what is acknowledged after that need not be told. (Of a
    /// device that was brought back from a copy, what it had acknowledged before says nothing. And what a device has told itself
    /// counts as acknowledged, though it has not read so far.)
    pub(super) known: Option<u64>,
    /// The envelopes: the number of each, and up to where it goes.
    pub(super) envelopes: VecDeque<(u64, u64)>,
    /// The bytes of each envelope.
    #[serde(default)]
    sizes: VecDeque<u64>,
    /// The bytes of all of them when everything had been told for the first time.
    #[serde(default)]
    fresh: Option<u64>,
}

/// Bytes by which an outbox may grow before it is told anew, beside as much as it had at first.
const ROOM: u64 = 1024 * 1024;

impl Posted {
    /// Nothing lies there; it begins after this change.
    pub(super) fn nothing(feed: [u8; 8], from: u64) -> Self {
        let (envelopes, sizes) = Default::default();
        Self { feed, from, upto: from, looked: from, known: None, envelopes, sizes, fresh: None }
    }

    /// An envelope of so many bytes was put there, that goes up to this change.
    pub(super) fn put(&mut self, number: u64, upto: u64, bytes: usize) {
        (self.upto, self.looked) = (upto, self.looked.max(upto));
        self.envelopes.push_back((number, upto));
        self.sizes.push_back(bytes as u64);
    }

    /// Forgets the first envelopes, up to this change: they are to be removed. Gives the number of the last one of them.
    pub(super) fn take_upto(&mut self, acknowledged: u64) -> Option<u64> {
        let mut last = None;
        // The last one stays: it says how far this device has read the others.
        while let Some((number, upto)) = self.envelopes.front().copied().filter(|(_, upto)| *upto <= acknowledged)
            && self.envelopes.len() > 1
        {
            (last, self.from) = (Some(number), upto);
            self.envelopes.pop_front();
            self.sizes.pop_front();
        }
        last
    }

    /// There is nothing more to be told at the moment.
    pub(super) fn is_told(&mut self) {
        let bytes = self.bytes();
        self.fresh.get_or_insert(bytes);
    }

    /// Whether it has grown so much that it is worth telling anew: what was changed more than once is told once then. Since it has to
    /// become twice as large, what is told anew is never more than what was told.
    pub(super) fn is_grown(&self) -> bool {
        self.fresh.is_some_and(|fresh| self.bytes() > 2 * fresh + ROOM)
    }

    fn bytes(&self) -> u64 {
        self.sizes.iter().sum()
    }
}

impl RelayState {
    /// Nothing was done at this place yet; the relay may know the secret of the one before.
    pub(super) fn move_to(&mut self, group: &Group) {
        let Self { before, keys, .. } = std::mem::take(self);
        *self = Self { place: Some(place(group)), before, keys, ..Self::default() };
    }

    /// This place is left for another one. If the relay does not know that one yet, it knows this one, or the one before it in the same
    /// mailbox.
    pub(super) fn leave(&mut self, group: &Group) {
        let before = self.before.as_deref().and_then(read_group);
        if before.is_none_or(|before| before.mailbox != group.mailbox) {
            self.before = Some(written_group(group));
        }
    }

    /// To what a new secret is sealed for another device, if that has told.
    pub(super) fn key_of(&self, device: DeviceId) -> Option<HandoverKey> {
        let key = self.keys.get(&device.to_string())?;
        data_encoding::HEXLOWER.decode(key.as_bytes()).ok()?.try_into().ok()
    }

    /// Another device has told of its key.
    pub(super) fn note_key(&mut self, device: DeviceId, key: &HandoverKey) {
        self.keys.insert(device.to_string(), data_encoding::HEXLOWER.encode(key));
    }

    /// Whether this is of that place.
    pub(super) fn is_of(&self, group: &Group) -> bool {
        self.place == Some(place(group))
    }

    /// Whether these records know of this device's envelope of that number, the last one that the relay has. If they do not, others
    /// have read of a time that they know nothing of: they were brought back from a copy.
    pub(super) fn knows_of(&self, last: u64) -> bool {
        last <= self.number || self.sending == Some(last)
    }

    /// An envelope of this number is known to be at the relay.
    pub(super) fn is_there(&mut self, number: u64) {
        (self.number, self.there, self.sending) = (number, number, None);
    }

    /// The relay has gone back to an earlier time, and has this device's envelopes up to this one only: what came since may be
    /// gone. The next number is above all that were ever read.
    pub(super) fn is_forgotten(&mut self, there: u64) {
        (self.arrival, self.posted, self.there) = (0, None, there);
    }

    /// Of which outboxes there are envelopes that were not read, though everything was read that came after the last arrival.
    pub(super) fn unread(&self, numbers: &BTreeMap<Outbox, u64>) -> Vec<(String, u64)> {
        let named = numbers.iter().map(|(outbox, number)| (data_encoding::HEXLOWER.encode(outbox), *number));
        named.filter(|(outbox, number)| self.read.get(outbox) < Some(number)).collect()
    }

    /// Whether the last letter said something else of the others.
    pub(super) fn is_news(&self, reads: &[ReadUpTo]) -> bool {
        self.said != said(reads)
    }

    /// Notes what a letter says of the others.
    pub(super) fn note_said(&mut self, reads: &[ReadUpTo]) {
        self.said = said(reads);
    }
}

fn said(reads: &[ReadUpTo]) -> Vec<Said> {
    let word = |read: &ReadUpTo| {
        let cursor = read.cursor.map(|(feed, upto)| (data_encoding::HEXLOWER.encode(&feed), upto));
        (read.device.to_string(), cursor, read.stuck)
    };
    reads.iter().map(word).collect()
}

/// The mailbox and the key by which it lets in, of which nothing is to be learned from this.
fn place(group: &Group) -> String {
    let access = blake3::hash(&group.access_key());
    data_encoding::HEXLOWER.encode(&[&group.mailbox[..], &access.as_bytes()[..16]].concat())
}

/// A group's place as it is written in a setting.
pub(super) fn written_group(group: &Group) -> String {
    data_encoding::BASE64.encode(&group.to_bytes())
}

/// Reads it.
pub(super) fn read_group(written: &str) -> Option<Group> {
    Group::from_bytes(&data_encoding::BASE64.decode(written.as_bytes()).ok()?).ok()
}

/// The choice of a place as it is written in a setting.
pub(super) fn written_place(place: &RelayPlace) -> String {
    let group = place.value.as_ref().map(written_group).unwrap_or_default();
    format!("{} {group}", place.stamp.to_bits())
}

/// Reads it.
pub(super) fn read_place(written: &str) -> Option<RelayPlace> {
    let (stamp, group) = written.split_once(' ')?;
    let group = if group.is_empty() { None } else { Some(read_group(group)?) };
    Some(Register::new(Stamp::from_bits(stamp.parse().ok()?), group))
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_link::group::GroupSecret;

    #[test]
    fn a_place_is_kept_and_found_again() {
        let group = Group {
            address: "https://relay.example.org".into(),
            pin: None,
            mailbox: [7; 16],
            epoch: 2,
            secret: GroupSecret::random().unwrap(),
            without: BTreeSet::new(),
        };
        let place = Register::new(Stamp::from_bits(99), Some(group.clone()));
        assert_eq!(read_place(&written_place(&place)), Some(place));
        let none: RelayPlace = Register::new(Stamp::from_bits(99), None);
        assert_eq!(read_place(&written_place(&none)), Some(none));
        assert_eq!(read_place("99 x"), None);
        let mut state = RelayState::default();
        let elsewhere = Group { mailbox: [8; 16], ..group.clone() };
        for (left, before) in
            [(&elsewhere, &elsewhere), (&group, &group), (&group.with_new_secret([]).unwrap(), &group)]
        {
            state.leave(left);
            assert_eq!(state.before, Some(written_group(before)), "the last one that the relay knows");
        }
        state.note_key(DeviceId([1; 16]), &[8; 32]);
        (state.before, state.number) = (Some("before".into()), 7);
        state.move_to(&group);
        assert_eq!((state.before.as_deref(), state.number), (Some("before"), 0));
        assert_eq!((state.key_of(DeviceId([1; 16])), state.key_of(DeviceId([2; 16]))), (Some([8; 32]), None));
        assert!(state.is_of(&group) && !state.is_of(&group.with_new_secret([]).unwrap()));
        let kept = serde_json::to_string(&state).unwrap();
        assert_eq!(serde_json::from_str::<RelayState>(&kept).unwrap(), state);
    }

    #[test]
    fn what_was_sent_is_known_even_if_nobody_said_that_it_came() {
        let mut state = RelayState { number: 4, ..RelayState::default() };
        assert!(state.knows_of(3) && state.knows_of(4) && !state.knows_of(5));
        state.sending = Some(5);
        assert!(state.knows_of(5) && !state.knows_of(6));
    }

    #[test]
    fn what_a_relay_that_has_gone_back_has_again_is_told_from_what_was_read() {
        let mut state = RelayState::default();
        state.is_there(7);
        state.is_forgotten(3);
        assert_eq!((state.number, state.there, state.arrival), (7, 3, 0));
        state.is_there(8);
        assert_eq!((state.number, state.there), (8, 8));
        state.read.insert(data_encoding::HEXLOWER.encode(&[1; 16]), 4);
        let numbers = |number| BTreeMap::from([([1; 16], number)]);
        assert!(state.unread(&numbers(3)).is_empty() && state.unread(&numbers(4)).is_empty());
        assert_eq!(state.unread(&numbers(5)).len(), 1);
        assert_eq!(state.unread(&BTreeMap::from([([2; 16], 1)])).len(), 1);
    }

    #[test]
    fn an_outbox_is_told_anew_when_it_has_grown_and_not_while_it_is_told() {
        let mut posted = Posted::nothing([1; 8], 10);
        posted.put(1, 20, 3_000_000);
        posted.put(2, 30, 1_000_000);
        assert!(!posted.is_grown(), "it is being told");
        posted.is_told();
        posted.put(3, 40, 5_000_000);
        assert!(!posted.is_grown());
        posted.put(4, 50, 100_000);
        assert!(posted.is_grown());
        // What was removed does not count.
        assert_eq!((posted.take_upto(35), posted.from, posted.envelopes.len()), (Some(2), 30, 2));
        assert!(!posted.is_grown());
        assert_eq!((posted.take_upto(99), posted.take_upto(99), posted.upto), (Some(3), None, 50));
    }

    #[test]
    fn what_was_said_is_no_news() {
        let mut state = RelayState::default();
        let read = ReadUpTo { device: DeviceId([1; 16]), cursor: Some(([2; 8], 3)), stuck: false };
        assert!(state.is_news(&[read]));
        state.note_said(&[read]);
        assert!(!state.is_news(&[read]) && state.is_news(&[ReadUpTo { stuck: true, ..read }]));
    }
}
