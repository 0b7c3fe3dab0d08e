//! What a device has signed: its public key, a signature, and what it says.

use crate::identity::{Identity, Pin, public_point};
use ring::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use serde::{Deserialize, Serialize};
use serde_bytes::ByteBuf;

#[derive(Serialize, Deserialize)]
struct Signed(ByteBuf, ByteBuf, ByteBuf);

/// What is signed: what it is for, and the BLAKE3 hash of what is said.
fn message(purpose: &[u8], said: &[u8]) -> Vec<u8> {
    [purpose, blake3::hash(said).as_bytes()].concat()
}

/// Signs what a device says for this purpose: a CBOR array of public key, signature and `said`.
///
/// # Errors
/// When the system gives no random numbers.
pub(crate) fn sign(identity: &Identity, purpose: &[u8], said: Vec<u8>) -> Result<Vec<u8>, getrandom::Error> {
    let signature = identity.sign(&message(purpose, &said)).ok_or(getrandom::Error::UNSUPPORTED)?;
    let signed = Signed(ByteBuf::from(identity.public_key()), ByteBuf::from(signature), ByteBuf::from(said));
    Ok(minicbor_serde::to_vec(&signed).unwrap_or_default())
}

/// What a device said, before it is known which.
pub(crate) struct Unverified(Signed);

impl Unverified {
    /// Reads what [`sign`] wrote; nothing if it is something else.
    pub(crate) fn read(bytes: &[u8]) -> Option<Self> {
        minicbor_serde::from_slice(bytes).ok().map(Self)
    }

    /// What the device with this pin said for this purpose; nothing if it was another one, or was signed for something else.
    pub(crate) fn by(&self, pin: &Pin, purpose: &[u8]) -> Option<&[u8]> {
        let Signed(public, signature, said) = &self.0;
        let point = public_point(public, pin)?;
        let key = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point);
        key.verify(&message(purpose, said), signature).ok()?;
        Some(said)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_who_signed_it_said_it_and_only_for_that() {
        let (van, shed) = (Identity::new().unwrap(), Identity::new().unwrap());
        let signed = sign(&van, b"for this", b"Lamp 7".to_vec()).unwrap();
        let read = Unverified::read(&signed).unwrap();
        assert_eq!(read.by(&van.pin(), b"for this"), Some(&b"Lamp 7"[..]));
        assert!(read.by(&shed.pin(), b"for this").is_none() && read.by(&van.pin(), b"for that").is_none());
        // Somebody else's signature under this one's key.
        let Signed(public, _, said) = minicbor_serde::from_slice(&signed).unwrap();
        let signature = ByteBuf::from(shed.sign(&message(b"for this", &said)).unwrap());
        let forged = minicbor_serde::to_vec(Signed(public, signature, said)).unwrap();
        assert!(Unverified::read(&forged).unwrap().by(&van.pin(), b"for this").is_none());
        assert!(Unverified::read(b"x").is_none());
    }
}
