//! The file with the wraps of the data key.
//!
//! A *protector* is something by which the data key is unwrapped. Each has a secret of its own, from which its key pair is
//! made; the data key is sealed to the public key. So a new data key can be wrapped for all protectors without asking for
//! a passphrase, and changing one protector leaves the others alone.
//!
//! The whole is authenticated by a key that is derived from the data key: whoever can write the file, but not open it,
//! cannot slip in a protector of their own, which the next data key would be wrapped for.

use crate::boxes;
use crate::phrases::{PhraseError, Stretch, recovery_secret};
use crate::secret::Secret;
use serde::{Deserialize, Serialize};
use std::fmt;
use thiserror::Error;

/// Version of the file.
const FORMAT: u32 = 1;

/// The id of a data key, by which what it encrypts names it: a hash, which tells nothing of the key.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct KeyId(#[serde(with = "hex")] [u8; 8]);

impl KeyId {
    /// That of a key.
    pub fn of(key: &Secret) -> Self {
        let hash = blake3::derive_key("yadori 2026-11 key id", key.bytes());
        Self(hash.first_chunk().copied().unwrap_or_default())
    }
}

impl fmt::Display for KeyId {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(&data_encoding::HEXLOWER.encode(&self.0))
    }
}

/// What unwraps the data key.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProtectorKind {
    /// A secret in a file that the user alone can read.
    KeyFile,
    /// A secret that the desktop session keeps (freedesktop.org's Secret Service).
    SecretService,
    /// A passphrase.
    Passphrase,
    /// A recovery key on paper.
    Recovery,
}

impl ProtectorKind {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::KeyFile, Self::SecretService, Self::Passphrase, Self::Recovery];

    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::KeyFile => "key-file",
            Self::SecretService => "secret-service",
            Self::Passphrase => "passphrase",
            Self::Recovery => "recovery",
        }
    }

    /// Whether the service can use it without a person.
    pub const fn opens_by_itself(self) -> bool {
        matches!(self, Self::KeyFile | Self::SecretService)
    }
}

/// One protector.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Protector {
    /// What it is; there is one of each kind at most.
    pub kind: ProtectorKind,
    /// Its public key.
    #[serde(with = "base64_array")]
    public: [u8; 32],
    /// How its passphrase is stretched.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    argon2id: Option<Stretch>,
    /// The data key, sealed to it.
    #[serde(with = "base64")]
    wrap: Vec<u8>,
    /// The next one.
    #[serde(default, with = "base64", skip_serializing_if = "Vec::is_empty")]
    next_wrap: Vec<u8>,
}

/// What becomes of copies while the history is locked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WhileLocked {
    /// They are not kept.
    #[default]
    Drop,
    /// They are sealed, and filed when the history is unlocked.
    Seal,
}

/// When the history locks itself, and what happens then.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LockRules {
    /// After so many seconds without anything asked of the service; 0 for never.
    pub idle_seconds: u64,
    /// When the screen is locked.
    pub with_screen: bool,
    /// When the computer goes to sleep.
    pub with_sleep: bool,
    /// Whether the clipboard is emptied then.
    pub empty_clipboard: bool,
    /// What becomes of copies meanwhile.
    pub while_locked: WhileLocked,
}

/// Why a key file cannot be used.
#[derive(Debug, Error)]
pub enum KeyringError {
    /// It is damaged, or not ours.
    #[error("it is damaged, or no key file of this program: {0}")]
    NotOne(#[from] serde_json::Error),
    /// Written by a later version.
    #[error("it was written by a later version of this program (format {0})")]
    Newer(u32),
    /// The same protector twice, or none.
    #[error("it is damaged: {0}")]
    Damaged(&'static str),
}

/// Why it was not opened, or not changed.
#[derive(Debug, Error)]
pub enum OpenKeyringError {
    /// It has no such protector.
    #[error("there is no {}", .0.word())]
    NoSuchProtector(ProtectorKind),
    /// Not the right secret.
    #[error("that is not the right one")]
    Wrong,
    /// The passphrase is not one.
    #[error(transparent)]
    Phrase(#[from] PhraseError),
    /// Somebody changed the file.
    #[error("the key file was changed by somebody who could not open it; bring back a copy of it")]
    Forged,
    /// It would leave nothing to open the history with.
    #[error("it is the only one that is left; add another first")]
    Last,
    /// No randomness.
    #[error("the system gives no random numbers: {0}")]
    Randomness(#[from] getrandom::Error),
}

/// A new passphrase, stretched: that takes a moment, and much memory.
#[derive(Debug)]
pub struct Stretched {
    by: Stretch,
    secret: Secret,
}

impl Stretched {
    /// Stretches it with today's settings.
    ///
    /// # Errors
    /// When it is too short or too long, or the system gives no random numbers.
    pub fn new(passphrase: &str) -> Result<Self, OpenKeyringError> {
        let by = Stretch::new()?;
        Ok(Self { secret: by.stretch(passphrase)?, by })
    }
}

/// The keys that a protector unwraps.
#[derive(Clone, Debug)]
pub struct DataKeys {
    /// The key in use.
    pub current: Secret,
    /// The one that is to follow, while the database is encrypted anew.
    pub next: Option<Secret>,
}

impl DataKeys {
    /// The secret key of the inbox: see [`Keyring::inbox`].
    pub fn inbox(&self) -> Secret {
        self.current.derive(INBOX)
    }
}

/// The file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Keyring {
    format: u32,
    /// What the home is called, so that wraps of two homes cannot be exchanged.
    #[serde(with = "hex")]
    home: [u8; 16],
    /// Grows with each change.
    pub generation: u64,
    /// The key in use.
    pub key: KeyId,
    /// The one that is to follow.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<KeyId>,
    /// What unwraps it.
    pub protectors: Vec<Protector>,
    /// The public key to which copies are sealed while the history is locked.
    #[serde(with = "base64_array")]
    pub inbox: [u8; 32],
    /// When the history locks itself.
    #[serde(default)]
    pub lock: LockRules,
    /// Over all of the above.
    #[serde(with = "hex")]
    mac: [u8; 32],
}

/// Derives the secret key of the inbox from the data key.
const INBOX: &str = "yadori 2026-11 inbox";

impl Keyring {
    /// A new one around `key`, without protectors.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn new(key: &Secret) -> Result<Self, getrandom::Error> {
        let mut home = [0; 16];
        getrandom::fill(&mut home)?;
        Ok(Self {
            format: FORMAT,
            home,
            generation: 0,
            key: KeyId::of(key),
            next: None,
            protectors: Vec::new(),
            inbox: boxes::public(&key.derive(INBOX)),
            lock: LockRules::default(),
            mac: [0; 32],
        })
    }

    /// Reads it.
    ///
    /// # Errors
    /// When it is damaged, or was written by a later version.
    pub fn from_json(text: &[u8]) -> Result<Self, KeyringError> {
        /// What every version has.
        #[derive(Deserialize)]
        struct Any {
            format: u32,
        }
        let Any { format } = serde_json::from_slice(text)?;
        if format > FORMAT {
            return Err(KeyringError::Newer(format));
        }
        let keyring: Self = serde_json::from_slice(text)?;
        if keyring.protectors.is_empty() {
            return Err(KeyringError::Damaged("it has no protector"));
        }
        let twice = |kind| keyring.protectors.iter().filter(|protector| protector.kind == kind).count() > 1;
        if ProtectorKind::ALL.into_iter().any(twice) {
            return Err(KeyringError::Damaged("it has the same protector twice"));
        }
        Ok(keyring)
    }

    /// It is written as a later one than the one of this generation.
    pub fn rise_above(&mut self, generation: u64) {
        self.generation = self.generation.max(generation);
    }

    /// As it is written. To be called after the last change, with the key in use.
    ///
    /// # Panics
    /// If plain data cannot be written as JSON.
    pub fn to_json(&mut self, current: &Secret) -> Vec<u8> {
        self.generation += 1;
        self.mac = self.authentication(current);
        let mut text = serde_json::to_vec_pretty(self).expect("plain data");
        text.push(b'\n');
        text
    }

    fn authentication(&self, current: &Secret) -> [u8; 32] {
        let unsigned = Self { mac: [0; 32], ..self.clone() };
        let text = serde_json::to_vec(&unsigned).unwrap_or_default();
        let key = current.derive("yadori 2026-11 key file");
        *blake3::keyed_hash(key.bytes(), &text).as_bytes()
    }

    /// What the home is called, as a word.
    pub fn home(&self) -> String {
        data_encoding::HEXLOWER.encode(&self.home)
    }

    /// Whether it has a protector of this kind.
    pub fn has(&self, kind: ProtectorKind) -> bool {
        self.protector(kind).is_some()
    }

    fn protector(&self, kind: ProtectorKind) -> Option<&Protector> {
        self.protectors.iter().find(|protector| protector.kind == kind)
    }

    /// Unwraps the data key with a secret of 256 random bits: that of the key file, or of the secret service.
    ///
    /// # Errors
    /// When there is no such protector, it is another secret, or the file was forged.
    pub fn open(&self, kind: ProtectorKind, secret: &Secret) -> Result<DataKeys, OpenKeyringError> {
        let protector = self.protector(kind).ok_or(OpenKeyringError::NoSuchProtector(kind))?;
        let own = self.own_key(kind, secret);
        let unwrap = |wrap: &[u8], id: KeyId| {
            let plain = zeroize::Zeroizing::new(
                boxes::open(&own, &self.purpose(kind, id), wrap).map_err(|_| OpenKeyringError::Wrong)?,
            );
            let mut key: [u8; 32] = plain[..].try_into().map_err(|_| OpenKeyringError::Wrong)?;
            Ok::<_, OpenKeyringError>(Secret::take(&mut key))
        };
        let current = unwrap(&protector.wrap, self.key)?;
        // The hash of a MAC, so that comparing takes the same time wherever the first difference lies.
        if blake3::hash(&self.authentication(&current)) != blake3::hash(&self.mac) {
            return Err(OpenKeyringError::Forged);
        }
        let next = self.next.map(|id| unwrap(&protector.next_wrap, id)).transpose()?;
        Ok(DataKeys { current, next })
    }

    /// Unwraps the data key with what a person typed: the passphrase, or the recovery key.
    ///
    /// # Errors
    /// When there is no such protector, or it is not the right one.
    pub fn open_typed(&self, typed: &str) -> Result<DataKeys, OpenKeyringError> {
        if self.has(ProtectorKind::Recovery)
            && let Some(secret) = recovery_secret(typed)
        {
            return self.open(ProtectorKind::Recovery, &secret);
        }
        let kind = ProtectorKind::Passphrase;
        let protector = self.protector(kind).ok_or(OpenKeyringError::NoSuchProtector(kind))?;
        let stretch = protector.argon2id.ok_or(OpenKeyringError::Forged)?;
        // One that could never have been set is simply not the right one.
        let secret = stretch.stretch(typed).map_err(|error| match error {
            PhraseError::Settings => OpenKeyringError::Forged,
            PhraseError::Short | PhraseError::Long => OpenKeyringError::Wrong,
        })?;
        self.open(kind, &secret)
    }

    /// Adds a protector with this secret, or gives the one of its kind another.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn set(&mut self, kind: ProtectorKind, secret: &Secret, keys: &DataKeys) -> Result<(), OpenKeyringError> {
        self.set_with(kind, secret, None, keys)
    }

    /// The same with a passphrase that was stretched so.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn set_passphrase(&mut self, stretched: &Stretched, keys: &DataKeys) -> Result<(), OpenKeyringError> {
        self.set_with(ProtectorKind::Passphrase, &stretched.secret, Some(stretched.by), keys)
    }

    fn set_with(
        &mut self,
        kind: ProtectorKind,
        secret: &Secret,
        argon2id: Option<Stretch>,
        keys: &DataKeys,
    ) -> Result<(), OpenKeyringError> {
        let public = boxes::public(&self.own_key(kind, secret));
        let wrap = self.wrap(kind, public, &keys.current)?;
        let next_wrap = keys.next.as_ref().map(|next| self.wrap(kind, public, next)).transpose()?.unwrap_or_default();
        self.protectors.retain(|protector| protector.kind != kind);
        self.protectors.push(Protector { kind, public, argon2id, wrap, next_wrap });
        Ok(())
    }

    /// Removes a protector.
    ///
    /// # Errors
    /// When there is none, or nothing but a recovery key would be left.
    pub fn remove(&mut self, kind: ProtectorKind) -> Result<(), OpenKeyringError> {
        if !self.has(kind) {
            return Err(OpenKeyringError::NoSuchProtector(kind));
        }
        let stays = |protector: &&Protector| protector.kind != kind && protector.kind != ProtectorKind::Recovery;
        if kind != ProtectorKind::Recovery && !self.protectors.iter().any(|protector| stays(&protector)) {
            return Err(OpenKeyringError::Last);
        }
        self.protectors.retain(|protector| protector.kind != kind);
        Ok(())
    }

    /// Wraps another data key for every protector, to be used when all is encrypted with it: see [`Keyring::finish`].
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn begin(&mut self, next: &Secret) -> Result<(), OpenKeyringError> {
        let wraps: Result<Vec<_>, _> =
            self.protectors.iter().map(|protector| self.wrap(protector.kind, protector.public, next)).collect();
        for (protector, wrap) in self.protectors.iter_mut().zip(wraps?) {
            protector.next_wrap = wrap;
        }
        self.next = Some(KeyId::of(next));
        Ok(())
    }

    /// The next key is the one in use (it is given), or it is given up.
    pub fn finish(&mut self, next: Option<&Secret>) {
        for protector in &mut self.protectors {
            let wrap = std::mem::take(&mut protector.next_wrap);
            if next.is_some() {
                protector.wrap = wrap;
            }
        }
        self.next = None;
        if let Some(next) = next {
            self.key = KeyId::of(next);
            self.inbox = boxes::public(&next.derive(INBOX));
        }
    }

    /// The secret key of a protector.
    fn own_key(&self, kind: ProtectorKind, secret: &Secret) -> Secret {
        let purpose = format!("yadori 2026-11 protector {} {}", kind.word(), self.home());
        let mut key = *blake3::keyed_hash(secret.bytes(), purpose.as_bytes()).as_bytes();
        Secret::take(&mut key)
    }

    fn purpose(&self, kind: ProtectorKind, id: KeyId) -> Vec<u8> {
        format!("yadori 2026-11 wrap {} {} {id}", kind.word(), self.home()).into_bytes()
    }

    fn wrap(&self, kind: ProtectorKind, public: [u8; 32], key: &Secret) -> Result<Vec<u8>, getrandom::Error> {
        boxes::seal_to(public, &self.purpose(kind, KeyId::of(key)), key.bytes())
    }
}

/// Bytes as lower-case hexadecimal digits.
pub(crate) mod hex {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub(crate) fn serialize<S: Serializer, const N: usize>(bytes: &[u8; N], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&data_encoding::HEXLOWER.encode(bytes))
    }

    pub(crate) fn deserialize<'de, D: Deserializer<'de>, const N: usize>(from: D) -> Result<[u8; N], D::Error> {
        let text = String::deserialize(from)?;
        let bytes = data_encoding::HEXLOWER.decode(text.as_bytes()).map_err(D::Error::custom)?;
        bytes.try_into().map_err(|_| D::Error::custom("too short or too long"))
    }
}

mod base64 {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&data_encoding::BASE64.encode(bytes))
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        let text = String::deserialize(from)?;
        data_encoding::BASE64.decode(text.as_bytes()).map_err(D::Error::custom)
    }
}

mod base64_array {
    use serde::{Deserializer, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8; 32], to: S) -> Result<S::Ok, S::Error> {
        super::base64::serialize(bytes, to)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<[u8; 32], D::Error> {
        super::base64::deserialize(from)?.try_into().map_err(|_| D::Error::custom("too short or too long"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A key file with a key file's secret, and that secret.
    fn keyring() -> (Keyring, DataKeys, Secret) {
        let keys = DataKeys { current: Secret::random().unwrap(), next: None };
        let secret = Secret::random().unwrap();
        let mut keyring = Keyring::new(&keys.current).unwrap();
        keyring.set(ProtectorKind::KeyFile, &secret, &keys).unwrap();
        (keyring, keys, secret)
    }

    fn read(keyring: &mut Keyring, keys: &DataKeys) -> Keyring {
        Keyring::from_json(&keyring.to_json(&keys.current)).unwrap()
    }

    #[test]
    fn each_protector_opens_it_and_nothing_else_does() {
        let (mut keyring, keys, secret) = keyring();
        keyring.set_passphrase(&Stretched::new("lanterns on the pier").unwrap(), &keys).unwrap();
        let recovery = crate::phrases::new_recovery_key().unwrap();
        keyring.set(ProtectorKind::Recovery, &recovery_secret(&recovery).unwrap(), &keys).unwrap();
        let keyring = read(&mut keyring, &keys);
        let same = |opened: Result<DataKeys, OpenKeyringError>| opened.unwrap().current.bytes() == keys.current.bytes();
        assert!(same(keyring.open(ProtectorKind::KeyFile, &secret)));
        assert!(same(keyring.open_typed("lanterns on the pier")));
        assert!(same(keyring.open_typed(&recovery.to_uppercase())));
        for wrong in ["lanterns on the pier ", "", "x", &crate::phrases::new_recovery_key().unwrap()] {
            assert!(matches!(keyring.open_typed(wrong), Err(OpenKeyringError::Wrong)), "{wrong:?}");
        }
        let other = Secret::random().unwrap();
        assert!(matches!(keyring.open(ProtectorKind::KeyFile, &other), Err(OpenKeyringError::Wrong)));
        assert!(matches!(
            keyring.open(ProtectorKind::SecretService, &secret),
            Err(OpenKeyringError::NoSuchProtector(ProtectorKind::SecretService))
        ));
    }

    #[test]
    fn a_file_that_was_tampered_with_is_refused() {
        let (mut keyring, keys, secret) = keyring();
        keyring.set_passphrase(&Stretched::new("lanterns on the pier").unwrap(), &keys).unwrap();
        let text = keyring.to_json(&keys.current);
        for end in (0..text.len() - 2).step_by(7) {
            assert!(Keyring::from_json(&text[..end]).is_err(), "cut off at {end}");
        }
        let open = |keyring: &Keyring| keyring.open(ProtectorKind::KeyFile, &secret);
        assert!(open(&keyring).is_ok());
        // A stranger's protector is slipped in, so that the next key would be wrapped for it.
        let mut forged = keyring.clone();
        let stranger = Secret::random().unwrap();
        let theirs = DataKeys { current: Secret::random().unwrap(), next: None };
        forged.set(ProtectorKind::SecretService, &stranger, &theirs).unwrap();
        assert!(matches!(open(&forged), Err(OpenKeyringError::Forged)));
        // The wraps are exchanged, or taken from another home.
        let mut swapped = keyring.clone();
        let (first, second) = swapped.protectors.split_at_mut(1);
        std::mem::swap(&mut first[0].wrap, &mut second[0].wrap);
        assert!(matches!(open(&swapped), Err(OpenKeyringError::Wrong)));
        let mut moved = keyring.clone();
        moved.home = [0; 16];
        assert!(matches!(open(&moved), Err(OpenKeyringError::Wrong)));
        let mut quiet = keyring.clone();
        quiet.lock.idle_seconds = 1 << 40;
        assert!(matches!(open(&quiet), Err(OpenKeyringError::Forged)));
        let later = String::from_utf8(text).unwrap().replace("\"format\": 1", "\"format\": 2");
        assert!(matches!(Keyring::from_json(later.as_bytes()), Err(KeyringError::Newer(2))));
    }

    #[test]
    fn a_new_data_key_is_wrapped_for_all_without_asking_anybody() {
        let (mut keyring, keys, secret) = keyring();
        keyring.set_passphrase(&Stretched::new("lanterns on the pier").unwrap(), &keys).unwrap();
        let next = Secret::random().unwrap();
        keyring.begin(&next).unwrap();
        let between = read(&mut keyring, &keys);
        let opened = between.open_typed("lanterns on the pier").unwrap();
        assert_eq!(opened.current.bytes(), keys.current.bytes());
        assert_eq!(opened.next.as_ref().unwrap().bytes(), next.bytes());
        // A protector that is changed meanwhile opens both.
        let mut changed = between.clone();
        changed.set_passphrase(&Stretched::new("another pier").unwrap(), &opened).unwrap();
        let changed = read(&mut changed, &keys);
        assert_eq!(changed.open_typed("another pier").unwrap().next.unwrap().bytes(), next.bytes());

        let mut given_up = between.clone();
        given_up.finish(None);
        let opened = read(&mut given_up, &keys).open(ProtectorKind::KeyFile, &secret).unwrap();
        assert!(opened.next.is_none() && opened.current.bytes() == keys.current.bytes());

        let mut done = between;
        done.finish(Some(&next));
        let done = Keyring::from_json(&done.to_json(&next)).unwrap();
        let opened = done.open_typed("lanterns on the pier").unwrap();
        assert!(opened.next.is_none() && opened.current.bytes() == next.bytes());
        assert_eq!(done.inbox, boxes::public(&next.derive(INBOX)));
    }

    #[test]
    fn something_is_always_left_to_open_it_with() {
        let (mut keyring, keys, _) = keyring();
        keyring.set(ProtectorKind::Recovery, &Secret::random().unwrap(), &keys).unwrap();
        assert!(matches!(keyring.remove(ProtectorKind::KeyFile), Err(OpenKeyringError::Last)));
        assert!(matches!(keyring.remove(ProtectorKind::Passphrase), Err(OpenKeyringError::NoSuchProtector(_))));
        keyring.set_passphrase(&Stretched::new("lanterns on the pier").unwrap(), &keys).unwrap();
        keyring.remove(ProtectorKind::KeyFile).unwrap();
        keyring.remove(ProtectorKind::Recovery).unwrap();
        assert_eq!(keyring.protectors.len(), 1);
    }
}
