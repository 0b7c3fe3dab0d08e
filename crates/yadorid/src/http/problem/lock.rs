//! What goes wrong with the lock.

use super::Problem;
use crate::vault::ChangeLockError;
use axum::http::header;
use yadori_api::ProblemKind;
use yadori_vault::OpenKeyringError;

impl Problem {
    pub(in crate::http) fn locked() -> Self {
        Self::new(ProblemKind::Locked, "the history is locked")
    }

    pub(in crate::http) fn cannot_open(reason: &str) -> Self {
        Self::new(ProblemKind::CannotOpen, reason)
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
            ChangeLockError::TooSoon(pause) => {
                let seconds = pause.as_secs() + 1;
                let problem = Self::new(ProblemKind::TooManyTries, detail).with("seconds", seconds);
                problem.header(header::RETRY_AFTER, &seconds.to_string())
            }
            ChangeLockError::NotOurs(_) => Self::new(ProblemKind::NotEncrypted, detail),
            ChangeLockError::CurrentNeeded => Self::new(ProblemKind::PassphraseNeeded, detail),
            ChangeLockError::NoPassphrase => Self::new(ProblemKind::NoPassphrase, detail),
            ChangeLockError::Locked => Self::locked(),
            ChangeLockError::SecretService(_) => Self::new(ProblemKind::NoSecretService, detail),
            ChangeLockError::Files(error) => {
                tracing::error!(%error, "the keys could not be written");
                Self::internal()
            }
        }
    }
}
