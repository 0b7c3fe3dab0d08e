//! Everything is encrypted with a new key, while the history is used.

use crate::opened::snapshot_key;
use crate::vault::{ChangeLockError, Vault};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use yadori_database::{PrivateServer, ServerError, key_id};
use yadori_engine::Engine;
use yadori_vault::Secret;

/// Encrypts everything with a new key whenever that is wanted, and first with one with which that was broken off. Ends with the
/// engine; what is not done then is carried on when the history is open again.
pub async fn rekey_when_wanted(vault: Arc<Vault>, engine: Arc<Engine>, server: Arc<PrivateServer>, folder: PathBuf) {
    let ending = engine.background.ending.clone();
    let next = || vault.keys().and_then(|keys| keys.next);
    let mut goes_on = next().is_some();
    loop {
        if !goes_on {
            tokio::select! {
                () = ending.cancelled() => return,
                () = vault.rekey_wanted() => {}
            }
        }
        // What fails is not tried again by itself before the next start.
        goes_on = false;
        vault.rekeys(Some(0.0));
        let rekeyed = match next().map_or_else(|| vault.begin_rekeying(), Ok) {
            Ok(key) => rekey(&vault, &engine, &server, (&folder, &key)).await,
            Err(error) => Err(error),
        };
        if ending.is_cancelled() {
            vault.rekeys(None);
            return;
        }
        if let Err(error) = rekeyed {
            tracing::error!(%error, "the history stays encrypted with the key that it has");
            vault.failed(Some(error.to_string()));
        }
        vault.rekeys(None);
        engine.history.ledger.status_changed();
    }
}

/// Encrypts the database in this folder with this key, and the vault follows. What goes wrong leaves both with the key they have,
/// unless the engine ends.
async fn rekey(
    vault: &Arc<Vault>,
    engine: &Engine,
    server: &PrivateServer,
    (folder, key): (&PathBuf, &Secret),
) -> Result<(), ChangeLockError> {
    tracing::info!("everything is being encrypted with a new key");
    let (progress, history) = (vault.clone(), engine.history.clone());
    let told = AtomicU8::new(0);
    let tell = move |part: f32| {
        progress.rekeys(Some(part));
        let percent = (part * 100.0) as u8;
        if told.swap(percent, Ordering::Relaxed) != percent {
            history.ledger.status_changed();
        }
    };
    let room = yadori_database::check_room_beside(folder);
    let rebuilt = match room {
        Ok(()) => server.rebuild(key, &engine.background.ending, tell).await,
        Err(error) => Err(error),
    };
    if engine.background.ending.is_cancelled() {
        return Ok(());
    }
    let id = key_id(folder).map_err(|error| ServerError::NotRebuilt(error.to_string()))?;
    vault.settle(&id.unwrap_or_default())?;
    rebuilt?;
    engine.seal_snapshots_with(snapshot_key(vault));
    // What was forgotten meanwhile was in the copy for a moment.
    if let Err(error) = engine.history.store.secure_erase().await {
        tracing::warn!(%error, "what was forgotten meanwhile was not written over");
    }
    tracing::info!("everything is encrypted with a new key");
    Ok(())
}
