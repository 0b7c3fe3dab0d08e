//! What is due is shredded: sensitive clips after ten minutes, the bin's after a day.

use crate::moment::now;
use crate::service::Service;
use std::time::Duration;
use yadori_store::StoreError;

/// Longest sleep. A sleep does not count the time in which the machine was suspended.
const LONGEST: Duration = Duration::from_secs(3600);

/// Pause after the database has failed to answer.
const PAUSE: Duration = Duration::from_secs(5);

impl Service {
    /// Shreds what is due, and sleeps until the next is. Ends when the task is dropped.
    pub async fn forget_when_due(&self) {
        loop {
            let pause = match self.forget_due().await {
                Ok(None) => {
                    self.forgetting.notified().await;
                    continue;
                }
                Ok(Some(left)) => left.min(LONGEST),
                Err(error) => {
                    tracing::warn!(%error, "what is due cannot be forgotten at the moment");
                    PAUSE
                }
            };
            tokio::select! {
                () = self.forgetting.notified() => {}
                () = tokio::time::sleep(pause) => {}
            }
        }
    }

    /// Shreds what is due; tells how long it is until the next.
    async fn forget_due(&self) -> Result<Option<Duration>, StoreError> {
        while let Some(change) = self.store.shred_due(now()).await? {
            self.ledger.changed(change);
        }
        let next = self.store.next_due().await?;
        Ok(next.map(|at| Duration::from_millis(at.0.saturating_sub(now().0).max(1))))
    }
}
