//! Sealing with a key that both sides have: XChaCha20-Poly1305, with a random nonce of 192 bits before the sealed bytes.

use crate::Secret;
use chacha20poly1305::XChaCha20Poly1305;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use thiserror::Error;

/// Bytes of a nonce.
const NONCE: usize = 24;

/// Bytes by which what is sealed is longer: the nonce, and the tag of Poly1305.
pub const OVERHEAD: usize = NONCE + 16;

/// Not sealed with this key for this purpose, or changed since.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("it was not sealed with this key, or it was changed")]
pub struct Unsealable;

/// Seals `plain`. `purpose` is not kept; it must be the same when it is opened.
///
/// # Errors
/// When the system gives no random numbers.
///
/// # Panics
/// Above 256 GiB, which XChaCha20 cannot take.
pub fn seal(key: &Secret, purpose: &[u8], plain: &[u8]) -> Result<Vec<u8>, getrandom::Error> {
    let mut nonce = [0; NONCE];
    getrandom::fill(&mut nonce)?;
    let sealed = cipher(key).encrypt(&nonce.into(), Payload { msg: plain, aad: purpose });
    Ok([&nonce[..], &sealed.expect("shorter than 256 GiB")].concat())
}

/// Opens what [`seal`] made.
///
/// # Errors
/// When it was sealed with another key or for another purpose, or was changed.
pub fn open(key: &Secret, purpose: &[u8], sealed: &[u8]) -> Result<Vec<u8>, Unsealable> {
    let (nonce, sealed) = sealed.split_first_chunk::<NONCE>().ok_or(Unsealable)?;
    cipher(key).decrypt(&(*nonce).into(), Payload { msg: sealed, aad: purpose }).map_err(|_| Unsealable)
}

pub(crate) fn cipher(key: &Secret) -> XChaCha20Poly1305 {
    XChaCha20Poly1305::new(key.bytes().into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_cipher_is_that_of_the_draft() {
        // draft-irtf-cfrg-xchacha-03, appendix A.3.1.
        let hex = |text: &str| data_encoding::HEXLOWER.decode(text.as_bytes()).unwrap();
        let plain = b"Ladies and Gentlemen of the class of '99: If I could offer you only one tip for the future, sunscreen would be it.";
        let mut key: [u8; 32] = std::array::from_fn(|at| 0x80 + at as u8);
        let nonce: [u8; NONCE] = hex("404142434445464748494a4b4c4d4e4f5051525354555657").try_into().unwrap();
        let aad = hex("50515253c0c1c2c3c4c5c6c7");
        let sealed = cipher(&Secret::take(&mut key)).encrypt(&nonce.into(), Payload { msg: plain, aad: &aad }).unwrap();
        assert_eq!(sealed[..16], hex("bd6d179d3e83d43b9576579493c0e939")[..]);
        assert_eq!(sealed[sealed.len() - 16..], hex("c0875924c1c7987947deafd8780acf49")[..]);
    }

    proptest! {
        #[test]
        fn what_is_sealed_is_opened_whole_or_not_at_all(plain in proptest::collection::vec(any::<u8>(), 0..200), flip in any::<prop::sample::Index>()) {
            let key = Secret::random().unwrap();
            let mut sealed = seal(&key, b"a", &plain).unwrap();
            prop_assert_eq!(sealed.len(), plain.len() + OVERHEAD);
            prop_assert_eq!(open(&key, b"a", &sealed).unwrap(), plain);
            prop_assert_eq!(open(&key, b"b", &sealed), Err(Unsealable));
            prop_assert_eq!(open(&key, b"a", &sealed[..sealed.len() - 1]), Err(Unsealable));
            let at = flip.index(sealed.len());
            sealed[at] ^= 1;
            prop_assert_eq!(open(&key, b"a", &sealed), Err(Unsealable));
        }
    }
}
