//! How the service stands.

use super::listing;
use crate::http::console;
use crate::moment::timestamp;
use crate::service::Service;
use yadori_api as api;
use yadori_store::private::ServerState;

impl Service {
    /// Everything that a person wants to know when something seems wrong. Answers even when the database
    /// does not.
    pub async fn status(&self) -> api::Status {
        let journal = self.journal().clone();
        let (clips, last) = {
            let index = self.ledger.read().await;
            // After a start, the newest clip is the last copy that is known.
            let last = journal.last_copy.or_else(|| index.at(1));
            (index.len() as u64, last.map(|id| (id, index.position(id))))
        };
        let bytes = self.store.bytes_on_disk().await;
        let last_copy = match last {
            Some((id, position)) => self
                .store
                .clip(id)
                .await
                .ok()
                .flatten()
                .filter(|record| record.is_live())
                .map(|record| listing::clip(&record, position, None)),
            None => None,
        };
        let server = self.server.as_ref().map(|state| state.borrow().clone());
        let (pid, restarts) = match &server {
            Some(ServerState::Running { pid, restarts, .. }) => (Some(*pid), *restarts),
            _ => (None, 0),
        };
        let contested = journal.contested.as_ref().map(|name| {
            format!("another program ({name}) takes the clipboard each time something is put on it, and is let have it")
        });
        let state = match (&journal.off, &journal.pause) {
            (Some(_), _) => api::CaptureState::Off,
            (None, Some(_)) => api::CaptureState::Paused,
            (None, None) => api::CaptureState::On,
        };
        api::Status {
            version: env!("CARGO_PKG_VERSION").into(),
            device: self.device.clone(),
            started_at: timestamp(self.started),
            pid: std::process::id(),
            home: self.home.clone(),
            capture: api::Capture {
                state,
                since: timestamp(journal.since),
                until: journal.pause.and_then(|pause| pause.until).map(timestamp),
                clipboard: journal.clipboard.into(),
                reason: journal.off,
                notes: journal.notes.into_iter().chain(contested).collect(),
                waiting: journal.waiting as u64,
            },
            clips,
            last_copy,
            refused: journal
                .refused
                .into_iter()
                .map(|(reason, refused)| api::Refused {
                    reason: reason.into(),
                    message: refused.last.to_string(),
                    count: refused.count,
                    last_at: timestamp(refused.last_at),
                    last_application: refused.last_application,
                })
                .collect(),
            database: api::Database {
                private: server.is_some(),
                answers: bytes.is_ok(),
                restarts,
                pid,
                bytes: bytes.ok(),
            },
            console: console::is_built_in(),
            size_limit: self.reading.size_limit,
        }
    }
}
