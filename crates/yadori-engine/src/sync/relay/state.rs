//! How far this device has come at a relay, as it is kept.

use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, VecDeque};
use yadori_core::Stamp;
use yadori_core::merge::Register;
use yadori_link::envelope::ReadUpTo;
use yadori_link::frame::RelayPlace;
use yadori_link::group::Group;

/// How far this device has come.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct RelayState {
    /// At which place: the mailbox and the number of the secret.
    place: Option<(String, u32)>,
    /// The secret before, while the relay may not know the new one yet.
    pub(super) before: Option<String>,
    /// The number of the last arrival that was fetched.
    pub(super) arrival: u64,
    /// The number of the last envelope that was read, of each outbox.
    pub(super) read: BTreeMap<String, u64>,
    /// Devices whose envelopes go on from further than they were read here: by the ids, as text.
    pub(super) stuck: BTreeSet<String>,
    /// The number of this device's last envelope.
    pub(super) number: u64,
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
}

impl Posted {
    /// Nothing lies there; it begins after this change.
    pub(super) fn nothing(feed: [u8; 8], from: u64) -> Self {
        Self { feed, from, upto: from, looked: from, known: None, envelopes: VecDeque::new() }
    }
}

impl RelayState {
    /// Nothing was done at this place yet; the relay may know the secret before.
    pub(super) fn of(group: &Group, before: Option<String>) -> Self {
        Self { place: Some(place(group)), before, ..Self::default() }
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

fn place(group: &Group) -> (String, u32) {
    (data_encoding::HEXLOWER.encode(&group.mailbox), group.epoch)
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
    use yadori_core::DeviceId;
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
        let state = RelayState::of(&group, None);
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
    fn what_was_said_is_no_news() {
        let mut state = RelayState::default();
        let read = ReadUpTo { device: DeviceId([1; 16]), cursor: Some(([2; 8], 3)), stuck: false };
        assert!(state.is_news(&[read]));
        state.note_said(&[read]);
        assert!(!state.is_news(&[read]) && state.is_news(&[ReadUpTo { stuck: true, ..read }]));
    }
}
