//! Sealing to a public key: who seals need not be able to open it.
//!
//! A fresh key pair for each box (X25519), the shared secret hashed together with both public keys (BLAKE3), and
//! XChaCha20-Poly1305. Before the sealed bytes is the public key of the fresh pair.

use crate::seal::{self, Unsealable};
use crate::secret::{KEY_BYTES, Secret};
use x25519_dalek::{PublicKey, StaticSecret};

/// What is derived from the shared secret.
const CONTEXT: &str = "yadori 2026-11 box";

/// Bytes by which what is sealed is longer.
pub const OVERHEAD: usize = KEY_BYTES + seal::OVERHEAD;

/// The public key that belongs to a secret one.
pub fn public(secret: &Secret) -> [u8; KEY_BYTES] {
    PublicKey::from(&scalar(secret)).to_bytes()
}

fn scalar(secret: &Secret) -> StaticSecret {
    StaticSecret::from(*secret.bytes())
}

fn agreed(own: &StaticSecret, theirs: [u8; KEY_BYTES], [fresh, public]: [[u8; KEY_BYTES]; 2]) -> Secret {
    let shared = own.diffie_hellman(&PublicKey::from(theirs));
    let mut all = [*shared.as_bytes(), fresh, public].concat();
    let key = Secret::take(&mut blake3::derive_key(CONTEXT, &all));
    zeroize::Zeroize::zeroize(&mut all);
    key
}

/// Seals `plain` for whoever has the secret key of `to`.
///
/// # Errors
/// When the system gives no random numbers.
pub fn seal_to(to: [u8; KEY_BYTES], purpose: &[u8], plain: &[u8]) -> Result<Vec<u8>, getrandom::Error> {
    let fresh = Secret::random()?;
    let own = public(&fresh);
    let key = agreed(&scalar(&fresh), to, [own, to]);
    Ok([&own[..], &seal::seal(&key, purpose, plain)?].concat())
}

/// Opens what was sealed to the public key of `secret`.
///
/// # Errors
/// When it was sealed to another key or for another purpose, or was changed.
pub fn open(secret: &Secret, purpose: &[u8], sealed: &[u8]) -> Result<Vec<u8>, Unsealable> {
    let (fresh, sealed) = sealed.split_first_chunk::<KEY_BYTES>().ok_or(Unsealable)?;
    let key = agreed(&scalar(secret), *fresh, [*fresh, public(secret)]);
    seal::open(&key, purpose, sealed)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_owner_of_the_key_opens_a_box() {
        let (owner, other) = (Secret::random().unwrap(), Secret::random().unwrap());
        let sealed = seal_to(public(&owner), b"a", b"load-in 14:30").unwrap();
        assert_eq!(sealed.len(), 13 + OVERHEAD);
        assert_eq!(open(&owner, b"a", &sealed).unwrap(), b"load-in 14:30");
        assert_eq!(open(&other, b"a", &sealed), Err(Unsealable));
        assert_eq!(open(&owner, b"b", &sealed), Err(Unsealable));
        assert_eq!(open(&owner, b"a", &sealed[..20]), Err(Unsealable));
        for at in 0..sealed.len() {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            // The highest bit of a public key is ignored (RFC 7748, section 5), but it is hashed.
            assert_eq!(open(&owner, b"a", &changed), Err(Unsealable), "byte {at}");
        }
    }
}
