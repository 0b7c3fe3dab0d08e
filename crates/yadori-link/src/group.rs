//! What the linked devices share at a relay: where it is, which mailbox is theirs, and a secret that the relay does not have.
//!
//! All keys are derived from that secret. It is told over links of which both sides are known, and nowhere else, and
//! another one takes its place when a device is removed.

use crate::frame::Garbled;
use crate::identity::Pin;
use serde::{Deserialize, Serialize};
use serde_bytes::ByteArray;
use std::collections::BTreeSet;
use yadori_vault::{Secret, seal};

/// The number of a mailbox at a relay: random.
pub type Mailbox = [u8; 16];

/// The number of a device's outbox in a mailbox: nobody outside the group can tell whose it is.
pub type Outbox = [u8; 16];

/// Most removed devices that a place names: more than a person ever has.
const MOST_REMOVED: usize = 1024;

/// Longest address of a relay.
const LONGEST_ADDRESS: usize = 255;

/// A group's place at a relay.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Group {
    /// The address of the relay: `https://`, its name or number, and perhaps a port.
    pub address: String,
    /// The pin of its key; none if it shows a certificate of one of the public authorities.
    pub pin: Option<Pin>,
    /// Its mailbox there.
    pub mailbox: Mailbox,
    /// Which secret this is: each has a number above that of the one before.
    pub epoch: u32,
    /// The secret.
    pub secret: GroupSecret,
    /// Devices that were removed by the time the secret was made: nobody tells them of it, whether or not they have heard of
    /// the removal.
    pub without: BTreeSet<Pin>,
}

/// The secret of a group.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct GroupSecret([u8; 32]);

impl std::fmt::Debug for GroupSecret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("GroupSecret")
    }
}

impl Drop for GroupSecret {
    fn drop(&mut self) {
        zeroize::Zeroize::zeroize(&mut self.0);
    }
}

impl GroupSecret {
    /// A new one.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn random() -> Result<Self, getrandom::Error> {
        Ok(Self(*Secret::random()?.bytes()))
    }
}

#[derive(Serialize, Deserialize)]
struct Wire(String, Option<ByteArray<32>>, ByteArray<16>, u32, ByteArray<32>, Vec<ByteArray<32>>);

impl Group {
    /// As bytes: CBOR.
    pub fn to_bytes(&self) -> Vec<u8> {
        let wire = Wire(
            self.address.clone(),
            self.pin.map(ByteArray::new),
            ByteArray::new(self.mailbox),
            self.epoch,
            ByteArray::new(self.secret.0),
            self.without.iter().copied().map(ByteArray::new).collect(),
        );
        minicbor_serde::to_vec(&wire).unwrap_or_default()
    }

    /// Reads what [`Self::to_bytes`] wrote.
    ///
    /// # Errors
    /// When it is something else.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, Garbled> {
        let Wire(address, pin, mailbox, epoch, secret, without) =
            minicbor_serde::from_slice(bytes).map_err(|_| Garbled("it is no place at a relay"))?;
        if address.len() > LONGEST_ADDRESS || without.len() > MOST_REMOVED {
            return Err(Garbled("the address of a relay is too long, or too many devices were removed"));
        }
        Ok(Self {
            address,
            pin: pin.map(ByteArray::into_array),
            mailbox: mailbox.into_array(),
            epoch,
            secret: GroupSecret(secret.into_array()),
            without: without.into_iter().map(ByteArray::into_array).collect(),
        })
    }

    /// The same place with another secret, which these devices are never told.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn with_new_secret(&self, removed: impl IntoIterator<Item = Pin>) -> Result<Self, getrandom::Error> {
        let mut next = Self { epoch: self.epoch.saturating_add(1), secret: GroupSecret::random()?, ..self.clone() };
        next.without.extend(removed);
        Ok(next)
    }

    /// By this the relay lets the group in. It tells nothing of the other keys.
    pub fn access_key(&self) -> [u8; 32] {
        blake3::derive_key("yadori 2026-11 relay: access", &self.secret.0)
    }

    /// The outbox of the device with this pin.
    pub fn outbox(&self, device: &Pin) -> Outbox {
        let key = blake3::derive_key("yadori 2026-11 relay: outboxes", &self.secret.0);
        let mut outbox = [0; 16];
        outbox.copy_from_slice(&blake3::keyed_hash(&key, device).as_bytes()[..16]);
        outbox
    }

    /// Under what name a content lies at the relay: a hash of its hash, which nobody can guess who is not in the group.
    pub fn name_of_content(&self, hash: &[u8; 32]) -> [u8; 32] {
        let key = blake3::derive_key("yadori 2026-11 relay: names of contents", &self.secret.0);
        *blake3::keyed_hash(&key, hash).as_bytes()
    }

    pub(crate) fn envelope_key(&self) -> Secret {
        Secret::take(&mut blake3::derive_key("yadori 2026-11 relay: envelopes", &self.secret.0))
    }

    fn content_key(&self) -> Secret {
        Secret::take(&mut blake3::derive_key("yadori 2026-11 relay: contents", &self.secret.0))
    }

    fn purpose_of_piece(&self, hash: &[u8; 32], at: u64) -> Vec<u8> {
        [&b"yadori content"[..], &self.mailbox, hash, &at.to_le_bytes()].concat()
    }

    /// Seals a piece of a content, which begins at byte `at` of it.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn seal_piece(&self, hash: &[u8; 32], at: u64, piece: &[u8]) -> Result<Vec<u8>, getrandom::Error> {
        seal::seal(&self.content_key(), &self.purpose_of_piece(hash, at), &pad(piece))
    }

    /// Opens a piece of a content; nothing if it is not that piece, or was changed.
    pub fn open_piece(&self, hash: &[u8; 32], at: u64, sealed: &[u8]) -> Option<Vec<u8>> {
        unpad(seal::open(&self.content_key(), &self.purpose_of_piece(hash, at), sealed).ok()?)
    }
}

/// Fewest bytes of what is sealed.
const SMALLEST: usize = 256;

/// How many bytes `length` becomes with its padding: the next of sixteen steps between one power of two and the next, so
/// that at most a sixteenth is added, and little of the length is told.
fn padded(length: usize) -> usize {
    let length = length.max(SMALLEST);
    let step = (length.next_power_of_two() / 32).max(16);
    length.next_multiple_of(step)
}

/// Bytes with their length before them, and zeros after them up to the next step.
pub(crate) fn pad(bytes: &[u8]) -> Vec<u8> {
    let mut padded_bytes = Vec::with_capacity(padded(bytes.len() + 4));
    padded_bytes.extend((bytes.len() as u32).to_le_bytes());
    padded_bytes.extend(bytes);
    padded_bytes.resize(padded(bytes.len() + 4), 0);
    padded_bytes
}

/// The bytes within their padding.
pub(crate) fn unpad(mut padded: Vec<u8>) -> Option<Vec<u8>> {
    let (length, rest) = padded.split_first_chunk::<4>()?;
    let length = u32::from_le_bytes(*length) as usize;
    if length > rest.len() {
        return None;
    }
    padded.truncate(4 + length);
    padded.drain(..4);
    Some(padded)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    pub(crate) fn group() -> Group {
        Group {
            address: "https://relay.example.org:7438".into(),
            pin: Some([3; 32]),
            mailbox: [7; 16],
            epoch: 1,
            secret: GroupSecret::random().unwrap(),
            without: BTreeSet::new(),
        }
    }

    #[test]
    fn a_place_is_written_down_and_read_again() {
        let group = group();
        assert_eq!(Group::from_bytes(&group.to_bytes()).unwrap(), group);
        assert!(Group::from_bytes(b"\x85").is_err());
        let long = Group { address: "x".repeat(300), ..group.clone() };
        assert!(Group::from_bytes(&long.to_bytes()).is_err());
        assert!(!format!("{group:?}").contains(&format!("{:?}", group.secret.0)));
        let next = group.with_new_secret([[5; 32]]).unwrap();
        assert_eq!((next.epoch, next.without.contains(&[5; 32])), (2, true));
        assert_eq!(Group::from_bytes(&next.to_bytes()).unwrap(), next);
        assert_ne!(next.access_key(), group.access_key());
        assert_ne!(next.outbox(&[1; 32]), group.outbox(&[1; 32]));
        assert_ne!(group.outbox(&[2; 32]), group.outbox(&[1; 32]));
    }

    #[test]
    fn a_piece_is_opened_in_its_place_by_the_group_alone() {
        let group = group();
        let sealed = group.seal_piece(&[1; 32], 5, b"a picture").unwrap();
        assert_eq!(group.open_piece(&[1; 32], 5, &sealed).unwrap(), b"a picture");
        assert!(group.open_piece(&[1; 32], 6, &sealed).is_none() && group.open_piece(&[2; 32], 5, &sealed).is_none());
        let elsewhere = Group { mailbox: [8; 16], ..group.clone() };
        assert!(elsewhere.open_piece(&[1; 32], 5, &sealed).is_none());
        assert!(group.with_new_secret([[5; 32]]).unwrap().open_piece(&[1; 32], 5, &sealed).is_none());
    }

    proptest! {
        #[test]
        fn padding_tells_little_and_costs_little(bytes in prop::collection::vec(any::<u8>(), 0..5000)) {
            let wide = pad(&bytes);
            prop_assert!(wide.len() <= (bytes.len() + 4).max(SMALLEST) * 17 / 16 + 16, "{} for {}", wide.len(), bytes.len());
            prop_assert_eq!(unpad(wide.clone()), Some(bytes.clone()));
            let more = [&bytes[..], &[1]].concat();
            prop_assert!(pad(&more).len() >= wide.len());
        }
    }

    #[test]
    fn there_are_few_lengths() {
        let lengths: std::collections::BTreeSet<usize> = (0..1 << 20).map(padded).collect();
        assert!(lengths.len() < 250, "{}", lengths.len());
        assert_eq!(unpad(vec![9, 0, 0, 0, 1]), None);
        assert_eq!(unpad(vec![1]), None);
    }
}
