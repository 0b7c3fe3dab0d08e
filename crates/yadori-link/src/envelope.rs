//! Letters that wait at a relay until the other devices fetch them, and the envelopes they are in.
//!
//! A device puts its feed into its outbox, letter by letter, just as it would tell it on a connection: each goes on where the
//! one before ended. Beside that a letter says how far its sender has read the others, which is the acknowledgement.
//!
//! An envelope is a letter, signed by the device and sealed for the group. What an envelope is for (its mailbox, outbox, number and
//! the number of the group's secret) is sealed and signed along, so that one in another place is none.

use crate::frame::{self, Frame, Garbled, LONGEST};
use crate::group::{Group, Outbox, pad, unpad};
use crate::handover::HandoverKey;
use crate::identity::{Identity, Pin};
use crate::signed::{Unverified, sign};
use serde::{Deserialize, Serialize};
use serde_bytes::{ByteArray, ByteBuf};
use thiserror::Error;
use yadori_core::shared::Item;
use yadori_core::{DeviceId, MillisSinceEpoch};
use yadori_vault::seal;

/// Largest envelope that is made or read, in bytes: 5 MiB, since what can be said on a connection can be said in a letter.
pub const LARGEST: usize = LONGEST + 1024 * 1024;

/// Most devices of which a letter says how far they were read.
const MOST_READ: usize = 64;

/// A letter.
#[derive(Clone, Debug, PartialEq)]
pub struct Letter {
    /// What the sender's clock says.
    pub now: MillisSinceEpoch,
    /// Which feed it is from.
    pub feed: [u8; 8],
    /// Everything up to this change was told before.
    pub before: u64,
    /// Everything up to this one is told with it.
    pub upto: u64,
    /// What has changed in between.
    pub items: Vec<Item>,
    /// How far the sender has read the others.
    pub reads: Vec<ReadUpTo>,
    /// To what a new secret of the group is sealed for the sender; earlier versions do not say it.
    pub key: Option<HandoverKey>,
}

/// How far a device was read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ReadUpTo {
    /// Which device.
    pub device: DeviceId,
    /// Which feed of it, and up to which change; nothing if it was never read.
    pub cursor: Option<([u8; 8], u64)>,
    /// Whether the reader cannot go on from there: what lies at the relay begins later.
    pub stuck: bool,
}

/// Where an envelope lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    /// In whose outbox.
    pub outbox: Outbox,
    /// Which of that device's envelopes it is. Each has a number above that of the one before.
    pub number: u64,
}

/// Why an envelope is not believed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum EnvelopeError {
    /// It was sealed with another secret of the group.
    #[error("it was sealed with key {0} of the group, and this device has key {1}")]
    OtherEpoch(u32, u32),
    /// It is not that envelope, or was changed.
    #[error("it is not what lay in this place: it was changed, or comes from elsewhere")]
    Changed,
    /// None of the linked devices has sent it.
    #[error("it is not from a linked device")]
    Stranger,
    /// What is in it makes no sense.
    #[error(transparent)]
    Garbled(#[from] Garbled),
}

#[derive(Serialize, Deserialize)]
struct Wire(u64, ByteArray<8>, u64, ByteBuf, Vec<WireRead>, Option<ByteArray<32>>);

/// A letter without a key.
#[derive(Deserialize)]
struct EarlierWire(u64, ByteArray<8>, u64, ByteBuf, Vec<WireRead>);

impl From<EarlierWire> for Wire {
    fn from(EarlierWire(now, feed, before, states, reads): EarlierWire) -> Self {
        Self(now, feed, before, states, reads, None)
    }
}

#[derive(Serialize, Deserialize)]
struct WireRead(ByteArray<16>, Option<(ByteArray<8>, u64)>, bool);

impl Letter {
    /// As bytes: CBOR.
    pub fn to_bytes(&self) -> Vec<u8> {
        let states = frame::encode(&Frame::States { upto: self.upto, items: self.items.clone() });
        let read = |read: &ReadUpTo| {
            let cursor = read.cursor.map(|(feed, upto)| (ByteArray::new(feed), upto));
            WireRead(ByteArray::new(read.device.0), cursor, read.stuck)
        };
        let reads = self.reads.iter().map(read).collect();
        let feed = ByteArray::new(self.feed);
        let wire = Wire(self.now.0, feed, self.before, ByteBuf::from(states), reads, self.key.map(ByteArray::new));
        minicbor_serde::to_vec(&wire).unwrap_or_default()
    }

    /// Reads a letter.
    ///
    /// # Errors
    /// When it is none.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, Garbled> {
        let earlier = |_| minicbor_serde::from_slice::<EarlierWire>(bytes).map(Wire::from);
        let wire = minicbor_serde::from_slice(bytes).or_else(earlier).map_err(|_| Garbled("it is not a letter"))?;
        let Wire(now, feed, before, states, reads, key) = wire;
        let Frame::States { upto, items } = frame::decode(&states)? else {
            return Err(Garbled("there is something else in the letter"));
        };
        if before > upto || (before == upto && !items.is_empty()) || reads.len() > MOST_READ {
            return Err(Garbled("the letter contradicts itself"));
        }
        let read = |WireRead(device, cursor, stuck)| ReadUpTo {
            device: DeviceId(device.into_array()),
            cursor: cursor.map(|(feed, upto)| (feed.into_array(), upto)),
            stuck,
        };
        let reads = reads.into_iter().map(read).collect();
        let key = key.map(ByteArray::into_array);
        Ok(Self { now: MillisSinceEpoch(now), feed: feed.into_array(), before, upto, items, reads, key })
    }
}

/// What an envelope is for.
fn purpose(group: &Group, place: Place) -> Vec<u8> {
    let numbers = [&place.number.to_le_bytes()[..], &group.epoch.to_le_bytes()].concat();
    [&b"yadori 2026-11 envelope"[..], &group.mailbox, &place.outbox, &numbers].concat()
}

/// Signs a letter and seals it for the group, as the `number`th of this device.
///
/// # Errors
/// When the system gives no random numbers.
pub fn seal_letter(
    group: &Group,
    identity: &Identity,
    number: u64,
    letter: &Letter,
) -> Result<Vec<u8>, getrandom::Error> {
    let purpose = purpose(group, Place { outbox: group.outbox(&identity.pin()), number });
    let inside = sign(identity, &purpose, letter.to_bytes())?;
    let sealed = seal::seal(&group.envelope_key(), &purpose, &pad(&inside))?;
    Ok([&group.epoch.to_le_bytes()[..], &sealed].concat())
}

/// Opens an envelope that lay in this place; tells from which of the linked devices it is.
///
/// # Errors
/// When it is not to be believed.
pub fn open_envelope(
    group: &Group,
    linked: &[Pin],
    place: Place,
    envelope: &[u8],
) -> Result<(Pin, Letter), EnvelopeError> {
    let (epoch, sealed) = envelope.split_first_chunk::<4>().ok_or(EnvelopeError::Changed)?;
    let epoch = u32::from_le_bytes(*epoch);
    if epoch != group.epoch {
        return Err(EnvelopeError::OtherEpoch(epoch, group.epoch));
    }
    let purpose = purpose(group, place);
    let inside = seal::open(&group.envelope_key(), &purpose, sealed).map_err(|_| EnvelopeError::Changed)?;
    let inside = unpad(inside).ok_or(EnvelopeError::Changed)?;
    let signed = Unverified::read(&inside).ok_or(Garbled("there is no letter in it"))?;
    let sender = linked.iter().find(|pin| group.outbox(pin) == place.outbox).ok_or(EnvelopeError::Stranger)?;
    let letter = signed.by(sender, &purpose).ok_or(EnvelopeError::Stranger)?;
    Ok((*sender, Letter::from_bytes(letter)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::group::GroupSecret;
    use yadori_core::shared::Device;

    fn group() -> Group {
        let secret = GroupSecret::random().unwrap();
        Group {
            address: "https://relay.example.org".into(),
            pin: None,
            mailbox: [7; 16],
            epoch: 3,
            secret,
            without: Default::default(),
        }
    }

    fn letter() -> Letter {
        let read = ReadUpTo { device: DeviceId([4; 16]), cursor: Some(([9; 8], 77)), stuck: false };
        Letter {
            now: MillisSinceEpoch(1_790_000_000_000),
            feed: [1; 8],
            before: 40,
            upto: 42,
            items: vec![Item::Device(Device::default())],
            reads: vec![read, ReadUpTo { cursor: None, stuck: true, ..read }],
            key: Some([6; 32]),
        }
    }

    #[test]
    fn a_letter_is_read_by_the_group_in_its_place_alone() {
        let (group, van, shed) = (group(), Identity::new().unwrap(), Identity::new().unwrap());
        let sealed = seal_letter(&group, &van, 5, &letter()).unwrap();
        let place = Place { outbox: group.outbox(&van.pin()), number: 5 };
        let linked = [shed.pin(), van.pin()];
        assert_eq!(open_envelope(&group, &linked, place, &sealed), Ok((van.pin(), letter())));

        let changed = Err(EnvelopeError::Changed);
        assert_eq!(open_envelope(&group, &linked, Place { number: 6, ..place }, &sealed), changed);
        let of_shed = Place { outbox: group.outbox(&shed.pin()), ..place };
        assert_eq!(open_envelope(&group, &linked, of_shed, &sealed), changed);
        let elsewhere = Group { mailbox: [8; 16], ..group.clone() };
        assert_eq!(open_envelope(&elsewhere, &linked, place, &sealed), changed);
        assert_eq!(open_envelope(&group, &linked, place, &sealed[..sealed.len() - 1]), changed);
        assert_eq!(open_envelope(&group, &linked, place, &sealed[..3]), changed);
        for at in (0..sealed.len()).step_by(7) {
            let mut flipped = sealed.clone();
            flipped[at] ^= 1;
            assert!(open_envelope(&group, &linked, place, &flipped).is_err(), "byte {at}");
        }
        // After a removal there is another secret, and who was removed is no sender any more.
        let next = group.with_new_secret([]).unwrap();
        assert_eq!(open_envelope(&next, &linked, place, &sealed), Err(EnvelopeError::OtherEpoch(3, 4)));
        assert_eq!(open_envelope(&group, &linked[..1], place, &sealed), Err(EnvelopeError::Stranger));
    }

    /// Whoever has the group's secret cannot write in another device's name.
    #[test]
    fn a_device_of_the_group_cannot_forge_the_letters_of_another() {
        let (group, van, shed) = (group(), Identity::new().unwrap(), Identity::new().unwrap());
        let place = Place { outbox: group.outbox(&van.pin()), number: 1 };
        let purpose = purpose(&group, place);
        let letter = letter().to_bytes();
        for writer in [&shed, &van] {
            // Signed by another, or for another place.
            let mut purpose = purpose.clone();
            purpose[0] ^= u8::from(writer.pin() == van.pin());
            let inside = sign(writer, &purpose, letter.clone()).unwrap();
            let sealed = seal::seal(&group.envelope_key(), &super::purpose(&group, place), &pad(&inside)).unwrap();
            let forged = [&group.epoch.to_le_bytes()[..], &sealed].concat();
            let opened = open_envelope(&group, &[shed.pin(), van.pin()], place, &forged);
            assert_eq!(opened, Err(EnvelopeError::Stranger));
        }
    }

    #[test]
    fn letters_that_contradict_themselves_are_none() {
        let read = |letter: Letter| Letter::from_bytes(&letter.to_bytes());
        assert_eq!(read(letter()), Ok(letter()));
        assert!(read(Letter { before: 43, ..letter() }).is_err());
        assert!(read(Letter { before: 42, ..letter() }).is_err());
        assert!(read(Letter { before: 42, items: Vec::new(), ..letter() }).is_ok());
        assert!(read(Letter { reads: vec![letter().reads[0]; MOST_READ + 1], ..letter() }).is_err());
        assert!(Letter::from_bytes(b"").is_err());
        // As an earlier version wrote it.
        let reads: Vec<WireRead> = Vec::new();
        let states = frame::encode(&Frame::States { upto: 4, items: Vec::new() });
        let five = (7u64, ByteArray::new([1u8; 8]), 4u64, ByteBuf::from(states), reads);
        let read = Letter::from_bytes(&minicbor_serde::to_vec(&five).unwrap()).unwrap();
        assert_eq!((read.now.0, read.upto, read.key), (7, 4, None));
    }
}
