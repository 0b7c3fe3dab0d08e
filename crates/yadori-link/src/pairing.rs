//! Two devices meet for the first time, by a short code that a person carries from one to the other.
//!
//! SPAKE2 in the form of the `spake2` package (the symmetric key of Abdalla and Pointcheval's exchange on
//! Ed25519, with the transcript that the package defines; it has the shape of RFC 9382, but is not bit by bit
//! that). Both TLS pins are its identities, so a man in the middle, who has other certificates, gets another
//! key. Each side then proves that it has the key before anything else is said: first the one that joins, so
//! that a wrong code tells it nothing but that it was wrong.

use crate::code::Code;
use crate::identity::Pin;
use spake2::{Ed25519Group, Password, Spake2};
use thiserror::Error;

/// Wrong codes in all before an invitation is void.
pub const TRIES: u32 = 5;

/// Wrong codes from one address before it is not listened to any more, so that no single stranger can use up an
/// invitation.
pub const TRIES_OF_ONE: u32 = 3;

/// Bytes of a proof.
pub const PROOF_BYTES: usize = 32;

/// Why two devices did not come together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum PairingError {
    /// The codes differ, or somebody stands in between.
    #[error("the code is wrong")]
    WrongCode,
    /// What came is nothing that belongs here.
    #[error("the other device said something that could not be understood")]
    Garbled,
}

/// Which side of the pairing this is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Side {
    /// It has the code from the other's screen.
    Joins,
    /// It showed the code.
    Invites,
}

/// One side of a pairing that has begun.
pub struct Pairing {
    exchange: Spake2<Ed25519Group>,
    message: Vec<u8>,
    side: Side,
}

/// What both sides know once they have each other's message: whether they have the same key is still to be
/// proved.
pub struct Agreed {
    key: [u8; 32],
    side: Side,
}

impl Pairing {
    /// Begins a pairing between the devices with these pins. Gives the message for the other.
    pub fn begin(side: Side, code: &Code, joins: &Pin, invites: &Pin) -> (Self, Vec<u8>) {
        let password = Password::new(code.as_bytes());
        let (joiner, inviter) = (spake2::Identity::new(joins), spake2::Identity::new(invites));
        let (exchange, message) = match side {
            Side::Joins => Spake2::<Ed25519Group>::start_a(&password, &joiner, &inviter),
            Side::Invites => Spake2::<Ed25519Group>::start_b(&password, &joiner, &inviter),
        };
        (Self { exchange, message: message.clone(), side }, message)
    }

    /// Takes the other's message.
    ///
    /// # Errors
    /// When it is none.
    pub fn agree(self, message: &[u8]) -> Result<Agreed, PairingError> {
        let shared = self.exchange.finish(message).map_err(|_| PairingError::Garbled)?;
        let (first, second) = match self.side {
            Side::Joins => (self.message.as_slice(), message),
            Side::Invites => (message, self.message.as_slice()),
        };
        let mut hasher = blake3::Hasher::new_derive_key("yadori 2026-11 pairing key");
        for part in [&shared[..], first, second] {
            hasher.update(&(part.len() as u64).to_le_bytes());
            hasher.update(part);
        }
        Ok(Agreed { key: *hasher.finalize().as_bytes(), side: self.side })
    }
}

impl Agreed {
    /// The proof that this side has the key.
    pub fn proof(&self) -> [u8; PROOF_BYTES] {
        *self.proof_of(self.side).as_bytes()
    }

    /// Checks the other's proof, in a time that does not depend on it.
    ///
    /// # Errors
    /// When it has another key.
    pub fn check(&self, proof: &[u8]) -> Result<(), PairingError> {
        let other = match self.side {
            Side::Joins => Side::Invites,
            Side::Invites => Side::Joins,
        };
        let proof: [u8; PROOF_BYTES] = proof.try_into().map_err(|_| PairingError::Garbled)?;
        // The comparison of this type takes the same time whatever is compared.
        if self.proof_of(other) == blake3::Hash::from_bytes(proof) { Ok(()) } else { Err(PairingError::WrongCode) }
    }

    fn proof_of(&self, side: Side) -> blake3::Hash {
        blake3::keyed_hash(&self.key, if side == Side::Joins { b"it joins" } else { b"it invites" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ONE: Pin = [1; 32];
    const TWO: Pin = [2; 32];

    fn meet(codes: [&Code; 2], seen: [(&Pin, &Pin); 2]) -> [Result<(), PairingError>; 2] {
        let (joins, first) = Pairing::begin(Side::Joins, codes[0], seen[0].0, seen[0].1);
        let (invites, second) = Pairing::begin(Side::Invites, codes[1], seen[1].0, seen[1].1);
        let (joins, invites) = (joins.agree(&second).unwrap(), invites.agree(&first).unwrap());
        [joins.check(&invites.proof()), invites.check(&joins.proof())]
    }

    #[test]
    fn the_same_code_brings_two_devices_together_and_another_does_not() {
        let (code, other) = (Code::new([1; 5]), Code::new([2; 5]));
        assert_eq!(meet([&code, &code], [(&ONE, &TWO), (&ONE, &TWO)]), [Ok(()), Ok(())]);
        let wrong = [Err(PairingError::WrongCode); 2];
        assert_eq!(meet([&code, &other], [(&ONE, &TWO), (&ONE, &TWO)]), wrong);
    }

    #[test]
    fn whoever_stands_in_between_gets_nothing_even_with_the_code() {
        let (code, between) = (Code::new([1; 5]), [9; 32]);
        let wrong = [Err(PairingError::WrongCode); 2];
        assert_eq!(meet([&code, &code], [(&ONE, &between), (&between, &TWO)]), wrong);
    }

    #[test]
    fn a_proof_is_not_sent_back_and_garbage_is_told() {
        let code = Code::new([1; 5]);
        let (joins, first) = Pairing::begin(Side::Joins, &code, &ONE, &TWO);
        let (invites, second) = Pairing::begin(Side::Invites, &code, &ONE, &TWO);
        // Its own message, or nothing at all, is no answer.
        let (again, mine) = Pairing::begin(Side::Joins, &code, &ONE, &TWO);
        assert!(again.agree(&mine).is_err());
        assert!(matches!(invites.agree(b"hello"), Err(PairingError::Garbled)));
        let joins = joins.agree(&second).unwrap();
        assert_eq!(joins.check(&joins.proof()), Err(PairingError::WrongCode));
        assert_eq!(joins.check(b"short"), Err(PairingError::Garbled));
        let _ = first;
    }
}
