//! The key of a private drawer: a key pair of its own, the secret half of which is sealed with a passphrase.
//!
//! What lies in the drawer is sealed to the public half, so a drawer can be closed without its passphrase: when its time is
//! over, when the service ends, after a crash.

use crate::phrases::{PhraseError, Stretch};
use crate::seal;
use crate::secret::{KEY_BYTES, Secret};
use crate::{boxes, keyring::hex};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// What the secret half is sealed for.
const PURPOSE: &[u8] = b"yadori 2026-11 private drawer";

/// Why a private drawer has no key, or is not opened.
#[derive(Debug, Error)]
pub enum DrawerKeyError {
    /// Not the passphrase of this drawer, or its key is damaged: nobody can tell.
    #[error("this is not the passphrase of this drawer")]
    Wrong,
    /// Too short or too long.
    #[error(transparent)]
    Phrase(#[from] PhraseError),
    /// No random numbers.
    #[error("the system gives no random numbers: {0}")]
    Randomness(#[from] getrandom::Error),
}

/// The key of a drawer, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DrawerKey {
    /// To what its clips are sealed.
    #[serde(with = "hex")]
    pub public: [u8; KEY_BYTES],
    /// How the passphrase is stretched.
    stretch: Stretch,
    /// The secret half, sealed.
    #[serde(with = "hex")]
    sealed: [u8; KEY_BYTES + seal::OVERHEAD],
}

impl DrawerKey {
    /// A new key pair under this passphrase. Takes as long as stretching takes: some tenths of a second.
    ///
    /// # Errors
    /// When the passphrase is none, or there is no randomness.
    pub fn new(passphrase: &str) -> Result<Self, DrawerKeyError> {
        Self::of(&Secret::random()?, passphrase)
    }

    /// The same key pair under another passphrase.
    ///
    /// # Errors
    /// As [`Self::new`].
    pub fn of(secret: &Secret, passphrase: &str) -> Result<Self, DrawerKeyError> {
        let stretch = Stretch::new()?;
        let public = boxes::public(secret);
        let sealed = seal::seal(&stretch.stretch(passphrase)?, &purpose(&public), secret.bytes())?;
        Ok(Self { public, stretch, sealed: sealed.try_into().expect("a key and its overhead") })
    }

    /// The secret half.
    ///
    /// # Errors
    /// When it is not the passphrase.
    pub fn open(&self, passphrase: &str) -> Result<Secret, DrawerKeyError> {
        let key = match self.stretch.stretch(passphrase) {
            // How long a passphrase may be says nothing of this one.
            Err(PhraseError::Short | PhraseError::Long) => return Err(DrawerKeyError::Wrong),
            key => key?,
        };
        let opened = seal::open(&key, &purpose(&self.public), &self.sealed).map_err(|_| DrawerKeyError::Wrong)?;
        let mut bytes: [u8; KEY_BYTES] = opened.try_into().map_err(|_| DrawerKeyError::Wrong)?;
        let secret = Secret::take(&mut bytes);
        if boxes::public(&secret) == self.public { Ok(secret) } else { Err(DrawerKeyError::Wrong) }
    }
}

fn purpose(public: &[u8; KEY_BYTES]) -> Vec<u8> {
    [PURPOSE, public].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_its_passphrase_opens_a_drawer_and_another_one_can_be_set() {
        let key = DrawerKey::new("lantern bridge 12").unwrap();
        let secret = key.open("lantern bridge 12").unwrap();
        assert_eq!(boxes::public(&secret), key.public);
        for wrong in ["lantern bridge 13", "short", ""] {
            assert!(matches!(key.open(wrong), Err(DrawerKeyError::Wrong)), "{wrong}");
        }
        assert!(matches!(DrawerKey::new("short"), Err(DrawerKeyError::Phrase(PhraseError::Short))));

        let changed = DrawerKey::of(&secret, "another passphrase").unwrap();
        assert_eq!(changed.public, key.public, "what was sealed before is opened by it");
        assert_eq!(changed.open("another passphrase").unwrap().bytes(), secret.bytes());
        assert!(matches!(changed.open("lantern bridge 12"), Err(DrawerKeyError::Wrong)));

        let kept = serde_json::to_string(&changed).unwrap();
        let read: DrawerKey = serde_json::from_str(&kept).unwrap();
        assert_eq!(read, changed);
        // Another's public half, or sealed half: nobody is led to seal for somebody else.
        let other = DrawerKey::new("another passphrase").unwrap();
        for forged in [DrawerKey { public: other.public, ..read.clone() }, DrawerKey { sealed: other.sealed, ..read }] {
            assert!(matches!(forged.open("another passphrase"), Err(DrawerKeyError::Wrong)));
        }
    }
}
