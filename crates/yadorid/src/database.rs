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
    server: Option<PrivateServer>,
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
            return Ok(Self { store, server: None, claim });
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
            Ok(store) => Ok(Self { store, server: Some(server), claim: None }),
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

/// Encrypts the database with the key of the vault that is to be used, if it is not yet. A change to another key that fails
/// leaves it with the one before.
async fn encrypt(folder: &Path, vault: &Arc<Vault>) -> Result<(), DatabaseError> {
    let refused =
        |source: std::io::Error| ServerError::Folder { path: folder.display().to_string(), reason: source.to_string() };
    yadori_database::recover(folder).map_err(refused)?;
    let Some(keys) = vault.keys() else { return Ok(()) };
    if !yadori_database::exists(folder) {
        return Ok(vault.settle(&KeyId::of(&keys.current).to_string())?);
    }
    let id = yadori_database::key_id(folder).map_err(refused)?;
    let wanted = keys.next.as_ref().unwrap_or(&keys.current);
    let from = id.is_some().then_some(&keys.current);
    // Under a key that is neither, it is the server's start that says so.
    let known = id.as_ref().is_none_or(|id| *id == KeyId::of(&keys.current).to_string());
    if known && id != Some(KeyId::of(wanted).to_string()) {
        tracing::info!("the history is being encrypted");
        let progress = vault.clone();
        let tell = move |part| progress.stands(State::Encrypting(part));
        match yadori_database::rebuild(folder, from, wanted, tell).await {
            Ok(_) => tracing::info!("the history is encrypted"),
            Err(error) if from.is_some() => {
                tracing::error!(%error, "the history stays encrypted with the key that it has");
                vault.failed(Some(error.to_string()));
            }
            Err(error) => return Err(error.into()),
        }
    }
    let id = yadori_database::key_id(folder).map_err(refused)?;
    Ok(vault.settle(&id.unwrap_or_default())?)
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
