//! The browsers that were let in to the console, and shutting them out.

use crate::service::Service;
use thiserror::Error;
use yadori_api as api;
use yadori_engine::clock::{now, timestamp};
use yadori_store::{ConsoleSession, StoreError};

/// Bytes of a session's id: enough to tell a few apart.
const ID_BYTES: usize = 5;

/// The word for every session.
const ALL: &str = "all";

/// Why no browser was shut out.
#[derive(Debug, Error)]
pub enum SessionError {
    /// There is no such session.
    #[error("no browser has the session “{0}”")]
    None(String),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn shown(session: &ConsoleSession) -> api::ConsoleSession {
    api::ConsoleSession {
        id: data_encoding::HEXLOWER.encode(&session.hash[..ID_BYTES]),
        browser: session.browser.clone(),
        created_at: timestamp(session.created_at),
        used_at: timestamp(session.used_at),
        expires_at: timestamp(session.expires_at),
    }
}

impl Service {
    /// The browsers that were let in.
    pub async fn console_sessions(&self) -> Result<Vec<api::ConsoleSession>, StoreError> {
        Ok(self.engine.history.store.console_sessions(now()).await?.iter().map(shown).collect())
    }

    /// Shuts out the browsers whose id begins so, or all. Gives them.
    pub async fn shut_out(&self, id: &str) -> Result<Vec<api::ConsoleSession>, SessionError> {
        let known = self.engine.history.store.console_sessions(now()).await?;
        let meant = |session: &&ConsoleSession| id == ALL || (!id.is_empty() && shown(session).id.starts_with(id));
        let going: Vec<&ConsoleSession> = known.iter().filter(meant).collect();
        if going.is_empty() && id != ALL {
            return Err(SessionError::None(id.to_owned()));
        }
        for session in &going {
            self.engine.history.store.remove_console_session(&session.hash).await?;
            self.authenticator.shut_out(&session.hash);
        }
        Ok(going.into_iter().map(shown).collect())
    }
}
