//! What goes wrong with the lock, and with drawers that have one of their own.

use super::Problem;
use crate::log_in::LogInError;
use crate::vault::ChangeLockError;
use axum::http::header;
use std::time::Duration;
use yadori_api::ProblemKind;
use yadori_engine::private_drawers::PrivateDrawerError;
use yadori_vault::OpenKeyringError;

impl Problem {
    pub(in crate::http) fn locked() -> Self {
        Self::new(ProblemKind::Locked, "the history is locked")
    }

    pub(in crate::http) fn cannot_open(reason: &str) -> Self {
        Self::new(ProblemKind::CannotOpen, reason)
    }

    /// A private drawer is to be erased, and its clips are to go somewhere.
    pub(in crate::http) fn erased_into() -> Self {
        Self::new(ProblemKind::BadDrawer, "what is erased for good goes into no other drawer; leave out one of the two")
    }

    /// After several wrong passphrases.
    fn too_soon(pause: Duration, detail: String) -> Self {
        let seconds = pause.as_secs() + 1;
        let problem = Self::new(ProblemKind::TooManyTries, detail).with("seconds", seconds);
        problem.header(header::RETRY_AFTER, &seconds.to_string())
    }
}

impl From<PrivateDrawerError> for Problem {
    fn from(error: PrivateDrawerError) -> Self {
        let detail = error.to_string();
        match error {
            PrivateDrawerError::Drawer(error) => error.into(),
            PrivateDrawerError::NotPrivate(_) => Self::new(ProblemKind::NotPrivate, detail),
            PrivateDrawerError::Wrong(_) => Self::new(ProblemKind::WrongPassphrase, detail),
            PrivateDrawerError::TooSoon(pause) => Self::too_soon(pause, detail),
            PrivateDrawerError::Phrase(_) => Self::new(ProblemKind::BadPassphrase, detail),
            PrivateDrawerError::Length => Self::new(ProblemKind::BadLength, detail),
            PrivateDrawerError::Damaged(_) => Self::new(ProblemKind::CannotOpen, detail),
            PrivateDrawerError::Randomness(_) => Self::internal(),
        }
    }
}

impl From<LogInError> for Problem {
    fn from(error: LogInError) -> Self {
        Self::new(ProblemKind::NoLogIn, error.to_string())
    }
}

impl From<ChangeLockError> for Problem {
    fn from(error: ChangeLockError) -> Self {
        let detail = error.to_string();
        match error {
            ChangeLockError::Keyring(error) => match error {
                OpenKeyringError::Wrong => {
                    Self::new(ProblemKind::WrongPassphrase, "that is neither the passphrase nor the recovery key")
                }
                OpenKeyringError::Phrase(_) => Self::new(ProblemKind::BadPassphrase, detail),
                OpenKeyringError::NoSuchProtector(_) | OpenKeyringError::Last => {
                    Self::new(ProblemKind::NoProtector, detail)
                }
                OpenKeyringError::Forged => Self::new(ProblemKind::CannotOpen, detail),
                OpenKeyringError::Randomness(_) => Self::internal(),
            },
            ChangeLockError::TooSoon(pause) => Self::too_soon(pause, detail),
            ChangeLockError::NotOurs(_) => Self::new(ProblemKind::NotEncrypted, detail),
            ChangeLockError::CurrentNeeded => Self::new(ProblemKind::PassphraseNeeded, detail),
            ChangeLockError::NoPassphrase => Self::new(ProblemKind::NoPassphrase, detail),
            ChangeLockError::Locked => Self::locked(),
            ChangeLockError::NoRoom(_) => Self::new(ProblemKind::DiskFull, detail),
            ChangeLockError::SecretService(_) => Self::new(ProblemKind::NoSecretService, detail),
            ChangeLockError::Files(error) => {
                tracing::error!(%error, "the keys could not be written");
                Self::internal()
            }
        }
    }
}
