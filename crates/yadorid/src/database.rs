//! The database: a private server that is kept running, or the one that was given.

use crate::vault::{State, Vault, VaultError};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::sync::watch;
use yadori_database::{PrivateServer, ServerError, ServerState};
use yadori_store::{Claim, OpenError, Store};
use yadori_vault::KeyId;

/// How often to see whether the claim to a given database is still held.
const BETWEEN_CHECKS: Duration = Duration::from_secs(2);

/// How long to wait before claiming it once more.
const BETWEEN_CLAIMS: Duration = Duration::from_millis(250);

/// Why there is no database.
#[derive(Debug, Error)]
pub enum DatabaseError {
    /// The private server does not run.
    #[error(transparent)]
    Server(#[from] ServerError),
    /// The database cannot be used.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The keys cannot be written.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// No randomness for the device's id.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
}

/// An open database.
pub struct Database {
    /// Its records.
    pub store: Store,
    /// The private server, if it is ours.
    server: Option<Arc<PrivateServer>>,
    /// How it stands; that it runs, only when the records know where.
    state: Option<watch::Sender<ServerState>>,
    /// That a given one is used by this service only.
    claim: Option<Claim>,
}

impl Database {
    /// Opens the database at `url`, or the private one in `folder`.
    /// What is not encrypted with the key of the vault yet, is first.
    pub async fn open(
        url: Option<&str>,
        folder: &Path,
        device: &str,
        vault: &Arc<Vault>,
    ) -> Result<Self, DatabaseError> {
        let mut id = [0; 16];
        getrandom::fill(&mut id).map_err(DatabaseError::Randomness)?;
        if let Some(url) = url {
            let store = Store::open(url, (device, id)).await?;
            let claim = Some(store.claim().await?);
            return Ok(Self { store, server: None, state: None, claim });
        }
        encrypt(folder, vault).await?;
        let key = vault.keys().map(|keys| keys.current);
        let server = PrivateServer::start(folder, key.as_ref()).await?;
        let ServerState::Running { url, .. } = server.state().borrow().clone() else {
            return Err(ServerError::DidNotStart {
                reason: "it ended at once".into(),
                log: folder.join("server.log").display().to_string(),
            }
            .into());
        };
        match Store::open(&url, (device, id)).await {
            Ok(store) => {
                let state = Some(watch::Sender::new(server.state().borrow().clone()));
                Ok(Self { store, server: Some(Arc::new(server)), state, claim: None })
            }
            Err(error) => {
                server.stop().await;
                Err(error.into())
            }
        }
    }

    /// Follows the state of the private server: see [`Database::follow`].
    pub fn state(&self) -> Option<watch::Receiver<ServerState>> {
        self.state.as_ref().map(watch::Sender::subscribe)
    }

    /// Tells the store where the private server is whenever it has been started again, and then `is_back`. None if there is none.
    pub fn follow<F: Fn() + Send + 'static>(&self, is_back: F) -> Option<impl Future<Output = ()> + Send + use<F>> {
        let (mut state, tells, store) = (self.server.as_ref()?.state(), self.state.clone()?, self.store.clone());
        Some(async move {
            while state.changed().await.is_ok() {
                let now = state.borrow_and_update().clone();
                let url = if let ServerState::Running { url, .. } = &now { Some(url.clone()) } else { None };
                match url.map(|url| store.moved_to(&url)) {
                    Some(Err(error)) => tracing::error!(%error, "the database cannot be followed"),
                    moved => {
                        tells.send_replace(now);
                        if moved.is_some() {
                            is_back();
                        }
                    }
                }
            }
        })
    }

    /// The private server, if it is ours.
    pub fn server(&self) -> Option<Arc<PrivateServer>> {
        self.server.clone()
    }

    /// What keeps the database to this service, if it is not its own: see [`keep`].
    pub fn take_claim(&mut self) -> Option<Claim> {
        self.claim.take()
    }

    /// Closes the connections, and ends the private server.
    pub async fn close(self) {
        self.store.close().await;
        if let Some(server) = self.server {
            server.stop().await;
        }
    }
}

/// Encrypts the database with the key of the vault, if it is not encrypted yet. A change to another key that was broken off is
/// carried on while the history is open: see [`crate::rekeying`].
async fn encrypt(folder: &Path, vault: &Arc<Vault>) -> Result<(), DatabaseError> {
    let refused =
        |source: std::io::Error| ServerError::Folder { path: folder.display().to_string(), reason: source.to_string() };
    yadori_database::recover(folder).map_err(refused)?;
    let Some(keys) = vault.keys() else { return Ok(()) };
    if !yadori_database::exists(folder) {
        return Ok(vault.settle(&KeyId::of(&keys.current).to_string())?);
    }
    if yadori_database::key_id(folder).map_err(refused)?.is_none() {
        tracing::info!("the history is being encrypted");
        let progress = vault.clone();
        let tell = move |part| progress.stands(State::Encrypting(part));
        yadori_database::rebuild(folder, None, &keys.current, tell).await?;
        tracing::info!("the history is encrypted");
    }
    // Under a key that is neither, it is the server's start that says so.
    let id = yadori_database::key_id(folder).map_err(refused)?;
    match &keys.next {
        Some(next) if id == Some(KeyId::of(next).to_string()) => Ok(vault.settle(&KeyId::of(next).to_string())?),
        _ => Ok(()),
    }
}

/// Keeps the database to this service: claims it again whenever the claim has ended, as it does with a restart of the
/// server. Returns when another service has claimed it in the meantime.
pub async fn keep(store: Store, mut claim: Claim) -> OpenError {
    loop {
        tokio::time::sleep(BETWEEN_CHECKS).await;
        if claim.is_held().await {
            continue;
        }
        claim = loop {
            match store.claim().await {
                Ok(claim) => break claim,
                Err(OpenError::InUse) => return OpenError::InUse,
                Err(error) => tracing::debug!(%error, "the database cannot be claimed again yet"),
            }
            tokio::time::sleep(BETWEEN_CLAIMS).await;
        };
        tracing::info!("the database was claimed again, after its server had been restarted");
    }
}
