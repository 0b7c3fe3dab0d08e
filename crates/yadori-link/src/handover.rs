//! A group's new secret, for a device that has only the one before: it was away when another device was removed.
//!
//! The device that makes the new secret leaves it at the relay, once for each of the others, sealed to a key that the other has
//! told of in its letters. Whoever has the old secret may fetch it, but only the one it is for can open it: the device that was
//! removed cannot.

use crate::frame::{self, Frame, RelayPlace};
use crate::group::{Group, pad, unpad};
use crate::identity::{Identity, Pin};
use crate::signed::{Unverified, sign};
use thiserror::Error;
use yadori_vault::{Secret, boxes};

/// To what a new secret is sealed for a device: an X25519 key.
pub type HandoverKey = [u8; 32];

/// Largest handover that is made or read, in bytes: a place names at most 1,024 removed devices.
pub const LARGEST: usize = 40 * 1024;

/// Most handovers at once: one for each of the devices that may be linked.
pub const MOST: usize = 64;

/// Why a handover is not believed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum HandoverError {
    /// It is for another device or in place of another secret, or was changed.
    #[error("the key that lies there is not meant for this device, or was changed")]
    Changed,
    /// None of the linked devices has made it.
    #[error("the key that lies there is not from a linked device")]
    Stranger,
}

fn secret(identity: &Identity) -> Secret {
    Secret::take(&mut identity.secret_for("yadori 2026-11 relay: handover"))
}

/// The key to which handovers for this device are sealed: always the same.
pub fn key_of(identity: &Identity) -> HandoverKey {
    boxes::public(&secret(identity))
}

/// What a handover is for: the device that is to read it, and the secret that it has.
fn purpose(old: &Group, reader: &Pin) -> Vec<u8> {
    [&b"yadori 2026-11 handover"[..], &old.mailbox, &old.epoch.to_le_bytes(), &old.access_key(), reader].concat()
}

/// Seals a place for the device with the pin `reader` and this key, which knows the place `old`.
///
/// # Errors
/// When the system gives no random numbers.
pub fn seal_handover(
    old: &Group,
    identity: &Identity,
    (reader, key): (&Pin, HandoverKey),
    place: &RelayPlace,
) -> Result<Vec<u8>, getrandom::Error> {
    let purpose = purpose(old, reader);
    let said = frame::encode(&Frame::Relay(place.clone()));
    boxes::seal_to(key, &purpose, &pad(&sign(identity, &purpose, said)?))
}

/// Opens what lay at the place `old` for this device, if one of the linked ones has made it.
///
/// # Errors
/// When it is not to be believed.
pub fn open_handover(
    old: &Group,
    identity: &Identity,
    linked: &[Pin],
    handover: &[u8],
) -> Result<(Pin, RelayPlace), HandoverError> {
    let purpose = purpose(old, &identity.pin());
    let inside = boxes::open(&secret(identity), &purpose, handover).map_err(|_| HandoverError::Changed)?;
    let inside = unpad(inside).ok_or(HandoverError::Changed)?;
    let signed = Unverified::read(&inside).ok_or(HandoverError::Changed)?;
    let by = linked.iter().find_map(|pin| Some((*pin, signed.by(pin, &purpose)?)));
    let (maker, said) = by.ok_or(HandoverError::Stranger)?;
    match frame::decode(said) {
        // A mailbox is for ever: a place elsewhere is told by devices that meet.
        Ok(Frame::Relay(place)) if place.value.as_ref().is_some_and(|group| follows(group, old)) => Ok((maker, place)),
        _ => Err(HandoverError::Changed),
    }
}

/// Whether this is the same mailbox with a later secret.
fn follows(group: &Group, old: &Group) -> bool {
    let is_there = (&group.address, &group.pin, &group.mailbox) == (&old.address, &old.pin, &old.mailbox);
    is_there && group.epoch > old.epoch
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::group::GroupSecret;
    use yadori_core::Stamp;
    use yadori_core::merge::Register;

    #[test]
    fn a_new_secret_is_read_by_the_one_it_is_for_alone() {
        let old = Group {
            address: "https://relay.example.org".into(),
            pin: None,
            mailbox: [7; 16],
            epoch: 3,
            secret: GroupSecret::random().unwrap(),
            without: Default::default(),
        };
        let [workshop, van, shed] = std::array::from_fn(|_| Identity::new().unwrap());
        let linked = [workshop.pin(), van.pin()];
        let next = old.with_new_secret([shed.pin()]).unwrap();
        let place = Register::new(Stamp::from_bits(99), Some(next.clone()));
        let sealed = seal_handover(&old, &workshop, (&van.pin(), key_of(&van)), &place).unwrap();
        assert!(sealed.len() < LARGEST);
        assert_eq!(open_handover(&old, &van, &linked, &sealed), Ok((workshop.pin(), place.clone())));

        let changed = Err(HandoverError::Changed);
        assert_eq!(open_handover(&old, &shed, &linked, &sealed), changed, "the one that was removed");
        assert_eq!(open_handover(&next, &van, &linked, &sealed), changed, "in place of another secret");
        assert_eq!(open_handover(&old, &van, &linked, &sealed[..sealed.len() - 1]), changed);
        assert_eq!(open_handover(&old, &van, &linked, b""), changed);
        assert_eq!(open_handover(&old, &van, &linked[1..], &sealed), Err(HandoverError::Stranger));
        // The one that was removed has the old secret and knows everybody's key, but cannot sign as one of the others.
        let forged = seal_handover(&old, &shed, (&van.pin(), key_of(&van)), &place).unwrap();
        assert_eq!(open_handover(&old, &van, &linked, &forged), Err(HandoverError::Stranger));
        // Never back to an earlier secret, nor to another relay.
        let elsewhere = Group { address: "https://other.example.org".into(), ..next };
        for wrong in [Some(old.clone()), Some(elsewhere), None] {
            let place = Register::new(Stamp::from_bits(99), wrong);
            let sealed = seal_handover(&old, &workshop, (&van.pin(), key_of(&van)), &place).unwrap();
            assert_eq!(open_handover(&old, &van, &linked, &sealed), changed);
        }
    }
}
