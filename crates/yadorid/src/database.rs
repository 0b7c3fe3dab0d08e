//! The database: a private server that is kept running, or the one that was given.

use std::path::Path;
use thiserror::Error;
use tokio::sync::watch;
use yadori_store::private::{PrivateServer, ServerError, ServerState};
use yadori_store::{Claim, OpenError, Store};

/// Why there is no database.
#[derive(Debug, Error)]
pub enum DatabaseError {
    /// The private server does not run.
    #[error(transparent)]
    Server(#[from] ServerError),
    /// The database cannot be used.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// No randomness for the device's id.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
}

/// An open database.
pub struct Database {
    /// Its records.
    pub store: Store,
    /// The private server, if it is ours.
    server: Option<PrivateServer>,
    /// That a given one is used by this service only.
    _claim: Option<Claim>,
}

impl Database {
    /// Opens the database at `url`, or the private one in `folder`.
    pub async fn open(url: Option<&str>, folder: &Path, device: &str) -> Result<Self, DatabaseError> {
        let mut id = [0; 16];
        getrandom::fill(&mut id).map_err(DatabaseError::Randomness)?;
        if let Some(url) = url {
            let store = Store::open(url, (device, id)).await?;
            let claim = Some(store.claim().await?);
            return Ok(Self { store, server: None, _claim: claim });
        }
        let server = PrivateServer::start(folder).await?;
        let ServerState::Running { url, .. } = server.state().borrow().clone() else {
            return Err(ServerError::DidNotStart {
                reason: "it ended at once".into(),
                log: folder.join("server.log").display().to_string(),
            }
            .into());
        };
        match Store::open(&url, (device, id)).await {
            Ok(store) => Ok(Self { store, server: Some(server), _claim: None }),
            Err(error) => {
                server.stop().await;
                Err(error.into())
            }
        }
    }

    /// Follows the state of the private server.
    pub fn state(&self) -> Option<watch::Receiver<ServerState>> {
        self.server.as_ref().map(PrivateServer::state)
    }

    /// Closes the connections, and ends the private server.
    pub async fn close(self) {
        self.store.close().await;
        if let Some(server) = self.server {
            server.stop().await;
        }
    }
}

/// Tells the store where the private server is whenever it has been started again, and then `is_back`.
pub async fn follow(store: Store, mut state: watch::Receiver<ServerState>, is_back: impl Fn()) {
    while state.changed().await.is_ok() {
        let now = state.borrow_and_update().clone();
        if let ServerState::Running { url, .. } = now {
            match store.moved_to(&url) {
                Ok(()) => is_back(),
                Err(error) => tracing::error!(%error, "the database cannot be followed"),
            }
        }
    }
}
