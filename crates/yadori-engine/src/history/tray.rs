//! The clips that line up in the tray: what copies join, and what no rule sweeps.

use super::History;
use std::collections::HashSet;
use tokio::sync::OwnedMutexGuard;
use yadori_core::ClipId;
use yadori_core::tray::Tray;

/// The tray as it is put on record.
pub(crate) fn written(tray: &Tray) -> String {
    serde_json::to_string(tray).unwrap_or_default()
}

impl History {
    /// The clips that wait in the tray: no rule sweeps them.
    pub(crate) async fn waiting_in_tray(&self) -> HashSet<ClipId> {
        self.tray.lock().await.waiting().iter().copied().collect()
    }

    /// The tray with this clip added, if copies join it: to be put on record together with the clip.
    /// Nobody else changes it until that is done.
    pub(crate) async fn tray_with(&self, clip: ClipId) -> Option<(OwnedMutexGuard<Tray>, Tray, String)> {
        let held = self.tray.clone().lock_owned().await;
        if !held.open {
            return None;
        }
        let mut tray = held.clone();
        match tray.add(&[clip]) {
            Ok(()) => {
                let text = written(&tray);
                Some((held, tray, text))
            }
            Err(error) => {
                tracing::warn!(%error, "a copy does not join the tray");
                None
            }
        }
    }
}
