//! What a person types: passphrases, and recovery keys.

use crate::secret::Secret;
use argon2::{Algorithm, Argon2, Params, Version};
use serde::{Deserialize, Serialize};
use thiserror::Error;
use unicode_normalization::UnicodeNormalization;
use zeroize::Zeroizing;

/// Fewest characters of a passphrase (NIST SP 800-63B, section 3.1.1.1, asks for at least eight).
pub const SHORTEST: usize = 8;

/// Most bytes of one.
pub const LONGEST: usize = 1024;

/// Bytes of a recovery key: 160 bits need no stretching.
const RECOVERY_BYTES: usize = 20;

/// Characters of a recovery key in a group.
const GROUP: usize = 4;

/// Why a passphrase is not taken.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum PhraseError {
    /// It is guessed too soon.
    #[error("a passphrase has at least {SHORTEST} characters; several words are easiest to remember")]
    Short,
    /// Nobody types so much.
    #[error("a passphrase has at most {LONGEST} bytes")]
    Long,
    /// The numbers that it is stretched by are none that we use.
    #[error("the passphrase's settings in the key file are damaged")]
    Settings,
}

/// How a passphrase is stretched: Argon2id, as the second recommended option of RFC 9106, section 4.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Stretch {
    /// Memory in KiB.
    pub memory_kib: u32,
    /// Passes over it.
    pub passes: u32,
    /// Lanes.
    pub lanes: u32,
    /// 128 random bits.
    #[serde(with = "crate::keyring::hex")]
    pub salt: [u8; 16],
}

/// More memory than this a damaged or forged file cannot make us take.
const MOST_KIB: u32 = 1 << 20;

impl Stretch {
    /// Today's, with a new salt.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn new() -> Result<Self, getrandom::Error> {
        let mut salt = [0; 16];
        getrandom::fill(&mut salt)?;
        Ok(Self { memory_kib: 64 * 1024, passes: 3, lanes: 4, salt })
    }

    /// The secret of a passphrase. Letters that look alike but are written differently count as the same (NFKC).
    ///
    /// # Errors
    /// When the passphrase is not one, or these settings are none.
    pub fn stretch(&self, passphrase: &str) -> Result<Secret, PhraseError> {
        let phrase = checked(passphrase)?;
        if self.memory_kib > MOST_KIB || self.passes > 64 {
            return Err(PhraseError::Settings);
        }
        let params = Params::new(self.memory_kib, self.passes, self.lanes, None).map_err(|_| PhraseError::Settings)?;
        let mut key = [0; 32];
        Argon2::new(Algorithm::Argon2id, Version::V0x13, params)
            .hash_password_into(phrase.as_bytes(), &self.salt, &mut key)
            .map_err(|_| PhraseError::Settings)?;
        Ok(Secret::take(&mut key))
    }
}

/// A passphrase as it is stretched.
///
/// # Errors
/// When it is too short or too long.
pub fn checked(passphrase: &str) -> Result<Zeroizing<String>, PhraseError> {
    if passphrase.len() > LONGEST {
        return Err(PhraseError::Long);
    }
    let phrase: Zeroizing<String> = Zeroizing::new(passphrase.nfkc().collect());
    if phrase.chars().count() < SHORTEST { Err(PhraseError::Short) } else { Ok(phrase) }
}

/// A new recovery key, as it is printed: eight groups of four letters and digits.
///
/// # Errors
/// When the system gives no random numbers.
pub fn new_recovery_key() -> Result<Zeroizing<String>, getrandom::Error> {
    let mut bytes = Zeroizing::new([0; RECOVERY_BYTES]);
    getrandom::fill(&mut bytes[..])?;
    let letters = Zeroizing::new(data_encoding::BASE32_NOPAD.encode(&bytes[..]).to_lowercase());
    let groups: Vec<&str> = (0..letters.len()).step_by(GROUP).map(|at| &letters[at..at + GROUP]).collect();
    Ok(Zeroizing::new(groups.join("-")))
}

/// The secret of a recovery key, however its groups are written; none if it is not one.
pub fn recovery_secret(typed: &str) -> Option<Secret> {
    let letters: Zeroizing<String> = Zeroizing::new(
        typed.chars().filter(|c| !c.is_whitespace() && *c != '-').map(|c| c.to_ascii_uppercase()).collect(),
    );
    let bytes = Zeroizing::new(data_encoding::BASE32_NOPAD.decode(letters.as_bytes()).ok()?);
    (bytes.len() == RECOVERY_BYTES)
        .then(|| Secret::take(&mut blake3::derive_key("yadori 2026-11 recovery key", &bytes)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_passphrase_is_the_same_however_its_letters_are_written() {
        let stretch = Stretch { memory_kib: 64, passes: 1, lanes: 1, salt: [1; 16] };
        let key = |phrase| *stretch.stretch(phrase).unwrap().bytes();
        assert_eq!(key("caf\u{e9} au lait"), key("cafe\u{301} au lait"));
        assert_ne!(key("caf\u{e9} au lait"), key("cafe au lait"));
        assert_ne!(key("lanterns"), *Stretch { salt: [2; 16], ..stretch }.stretch("lanterns").unwrap().bytes());
        assert_eq!(stretch.stretch("seven77").unwrap_err(), PhraseError::Short);
        assert_eq!(stretch.stretch(&"x".repeat(LONGEST + 1)).unwrap_err(), PhraseError::Long);
        for damaged in [Stretch { memory_kib: u32::MAX, ..stretch }, Stretch { passes: 0, ..stretch }] {
            assert_eq!(damaged.stretch("lanterns").unwrap_err(), PhraseError::Settings);
        }
    }

    #[test]
    fn a_recovery_key_is_read_as_it_is_typed() {
        let key = new_recovery_key().unwrap();
        assert_eq!((key.len(), key.split('-').count()), (39, 8));
        let secret = *recovery_secret(&key).unwrap().bytes();
        let typed = format!(" {} ", key.replace('-', " ").to_uppercase());
        assert_eq!(*recovery_secret(&typed).unwrap().bytes(), secret);
        assert!(recovery_secret(&key[..35]).is_none() && recovery_secret("0189").is_none());
    }
}
