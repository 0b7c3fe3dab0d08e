//! What is encrypted, and the lock.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether the history can be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum LockState {
    /// It can.
    Open,
    /// It is locked.
    Locked,
    /// It is being opened, locked or encrypted.
    Changing,
}

/// What opens the history.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Protector {
    /// A secret in a file that its owner alone can read.
    KeyFile,
    /// A secret that the desktop session keeps.
    SecretService,
    /// A passphrase.
    Passphrase,
    /// A recovery key on paper.
    Recovery,
}

impl Protector {
    /// The word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::KeyFile => "key-file",
            Self::SecretService => "secret-service",
            Self::Passphrase => "passphrase",
            Self::Recovery => "recovery",
        }
    }

    /// What it protects, and what it does not.
    pub const fn protects(self) -> &'static str {
        match self {
            Self::KeyFile => {
                "a key file: whoever gets a copy of the data folder alone reads nothing; whoever gets the whole disk reads everything"
            }
            Self::SecretService => {
                "the desktop session's secret service: whoever gets the disk reads nothing without your log-in password"
            }
            Self::Passphrase => "a passphrase: whoever gets the disk reads nothing without it",
            Self::Recovery => "a recovery key: keep it on paper, away from this computer",
        }
    }
}

/// What becomes of copies while the history is locked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum WhileLocked {
    /// They are not kept.
    Drop,
    /// They are sealed, and filed when the history is unlocked.
    Seal,
}

/// How the history is protected.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Lock {
    /// Whether it can be used.
    pub state: LockState,
    /// Whether what is kept is encrypted by the service.
    pub encrypted: bool,
    /// Why it is not.
    pub plain_because: Option<String>,
    /// What opens it.
    pub protectors: Vec<Protector>,
    /// How far it is encrypted, from 0 to 1, while it is: with a new key if it is open, and else for the first time.
    pub encrypting: Option<f32>,
    /// Why it could not be opened, or encrypted with a new key, the last time that was tried.
    pub failure: Option<String>,
    /// Whether `keys.json` is an older one than the history has seen: a passphrase or a key that was changed or removed since
    /// may open the history again. Setting a passphrase settles that.
    pub older_keys: bool,
    /// It locks itself after so many seconds in which nothing is copied or asked of it; 0 for never.
    pub idle_seconds: u64,
    /// Whether it locks itself when the screen is locked.
    pub with_screen: bool,
    /// Whether it locks itself when the computer goes to sleep.
    pub with_sleep: bool,
    /// Whether the clipboard is emptied then.
    pub empty_clipboard: bool,
    /// What becomes of copies meanwhile.
    pub while_locked: WhileLocked,
}

/// A change of when the history locks itself; what is left out stays as it is.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LockChange {
    /// After so many seconds in which nothing is copied or asked of it; 0 for never.
    #[schema(maximum = 31_536_000)]
    pub idle_seconds: Option<u64>,
    /// When the screen is locked.
    pub with_screen: Option<bool>,
    /// When the computer goes to sleep.
    pub with_sleep: Option<bool>,
    /// Whether the clipboard is emptied then.
    pub empty_clipboard: Option<bool>,
    /// What becomes of copies meanwhile.
    pub while_locked: Option<WhileLocked>,
}

/// What unlocks the history.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Unlock {
    /// The passphrase, or the recovery key.
    #[schema(max_length = 1024, format = Password)]
    pub passphrase: String,
}

/// A new passphrase.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewPassphrase {
    /// At least eight characters.
    #[schema(min_length = 8, max_length = 1024, format = Password)]
    pub passphrase: String,
    /// The one that is set, or the recovery key; needed if a passphrase is set.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(format = Password)]
    pub current: Option<String>,
}

/// The passphrase that is set.
#[derive(Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CurrentPassphrase {
    /// The one that is set, or the recovery key; needed if a passphrase is set.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(format = Password)]
    pub current: Option<String>,
}

/// A recovery key, which is told once.
#[derive(Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RecoveryKey {
    /// Eight groups of four letters and digits.
    pub key: String,
}
