//! Pause and resume capture. A pause outlasts the service.

use crate::capture::Capture;
use crate::capture::journal::PauseState;
use crate::clock::now;
use thiserror::Error;
use yadori_store::StoreError;

const SETTING: &str = "pause";

/// Longest pause with an end: a year.
const LONGEST_SECONDS: u64 = 365 * 86_400;

/// Why capture was not paused.
#[derive(Debug, Error)]
pub enum PauseError {
    /// No time at all, or too much.
    #[error("a pause lasts from a second to a year; leave the time out to pause until you resume")]
    Length,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Capture {
    /// Pauses capture for so many seconds, or until it is resumed.
    pub async fn pause(&self, seconds: Option<u64>) -> Result<(), PauseError> {
        if seconds.is_some_and(|seconds| !(1..=LONGEST_SECONDS).contains(&seconds)) {
            return Err(PauseError::Length);
        }
        let since = now();
        let pause = PauseState { since, until: seconds.map(|seconds| since.plus(seconds * 1000)) };
        let value = serde_json::to_string(&pause).unwrap_or_default();
        self.history.store.set_setting(SETTING, Some(&value)).await?;
        self.set_pause(Some(pause));
        Ok(())
    }

    /// Whether capture is paused.
    pub fn is_paused(&self) -> bool {
        self.journal().pause.is_some()
    }

    /// Captures again.
    pub async fn resume(&self) -> Result<(), StoreError> {
        self.history.store.set_setting(SETTING, None).await?;
        self.set_pause(None);
        Ok(())
    }

    /// Goes on with a pause that was under way when the service ended.
    pub async fn restore_pause(&self) -> Result<(), StoreError> {
        let stored = self.history.store.setting(SETTING).await?;
        if let Some(pause) = stored.and_then(|value| serde_json::from_str(&value).ok()) {
            self.set_pause(Some(pause));
        }
        Ok(())
    }

    fn set_pause(&self, pause: Option<PauseState>) {
        {
            let mut journal = self.journal();
            journal.since = pause.map_or_else(now, |pause| pause.since);
            journal.pause = pause;
        }
        self.reading.listen(pause.is_none());
        self.pausing.notify_one();
        self.history.ledger.status_changed();
    }

    /// Resumes when a pause is over. Sleeps until there is one with an end.
    pub async fn end_pauses(&self) {
        loop {
            let until = self.journal().pause.and_then(|pause| pause.until);
            let Some(until) = until else {
                self.pausing.notified().await;
                continue;
            };
            let left = std::time::Duration::from_millis(until.0.saturating_sub(now().0));
            tokio::select! {
                () = self.pausing.notified() => {}
                () = tokio::time::sleep(left) => {
                    self.set_pause(None);
                    if let Err(error) = self.history.store.set_setting(SETTING, None).await {
                        tracing::warn!(%error, "the end of a pause could not be noted");
                    }
                }
            }
        }
    }
}
