//! The history while it is open: its database, its engine, and the work beside.

use crate::config::Config;
use crate::database::{self, Database, DatabaseError};
use crate::desk::Desk;
use crate::http::Gate;
use crate::http::auth::Authenticator;
use crate::picker::Picker;
use crate::service::{Service, StartError};
use crate::vault::Vault;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;
use tokio::task::{JoinHandle, JoinSet};
use yadori_cage::Cage;
use yadori_desktop::simulated::Simulated;
use yadori_desktop::{Clipboard, Event, Keyboard, Reading, Shortcoming};
use yadori_engine::Engine;
use yadori_engine::availability::Availability;
use yadori_engine::engine::Setup;
use yadori_engine::history::snapshot::{SnapshotPlace, Snapshots};
use yadori_engine::links::LinkConfig;
use yadori_files::Places;
use yadori_store::{OpenError, Store};
use yadori_vault::{KeyId, Secret};

/// What the key of snapshots is derived for.
const SNAPSHOT_KEY: &str = "yadori 2026-11 snapshots of the index";

/// The key of snapshots of the index.
pub(crate) fn snapshot_key(vault: &Vault) -> Option<Secret> {
    vault.keys().map(|keys| keys.current.derive(SNAPSHOT_KEY))
}

/// The setting with the latest generation of the keyring that the history has seen.
const KEYRING_SEEN: &str = "keyring_seen";

/// Notes each generation of the keyring after this one in the records, so that an older one is known when it comes back.
async fn note_keyrings(vault: Arc<Vault>, store: Store, seen: u64) {
    let Some(mut generations) = vault.generations() else { return };
    let mut noted = seen;
    loop {
        let generation = *generations.borrow_and_update();
        if generation > noted {
            match store.set_setting(KEYRING_SEEN, Some(&generation.to_string())).await {
                Ok(()) => noted = generation,
                Err(error) => tracing::warn!(%error, "that keys.json has changed could not be noted"),
            }
        }
        if generations.changed().await.is_err() {
            return;
        }
    }
}

/// What stays when the history is locked.
pub(crate) struct House {
    pub gate: Arc<Gate>,
    pub authenticator: Arc<Authenticator>,
    pub vault: Arc<Vault>,
    pub places: Places,
    pub config: Config,
    pub clipboard: Option<Arc<dyn Clipboard>>,
    pub keyboard: Option<Arc<dyn Keyboard>>,
    pub simulated: Option<Simulated>,
    pub cage: Cage,
    pub reading: Arc<Reading>,
    /// Why there is no clipboard, until one is told of.
    pub off: Shortcoming,
}

impl House {
    /// Opens the history, with the keys of the vault.
    pub async fn open(&self, desk: Option<&Desk>) -> Result<Opened, StartError> {
        let device = self.config.device_name();
        let key = || self.vault.keys().map(|keys| KeyId::of(&keys.current));
        let (read_with, mut snapshots) = (key(), Snapshots::new(self.snapshots()));
        let database = Database::open(
            self.config.database_url.as_deref(),
            &self.places.data.join("database"),
            &device,
            &self.vault,
        )
        .await?;
        if key() != read_with {
            // With a new key that was there already, one that is sealed with the key of before must not stay.
            snapshots = Snapshots::new(self.snapshots());
        }
        let engine = Engine::open(Setup {
            store: database.store.clone(),
            cage: self.cage.clone(),
            server: Availability::of(database.state()),
            device,
            folder: &self.places.data,
            snapshots,
            encrypted: self.vault.is_encrypted(),
            clipboard: self.clipboard.clone(),
            keyboard: self.keyboard.clone(),
            reading: self.reading.clone(),
            off: self.off.clone(),
            link: LinkConfig {
                listen: self.config.link.listen,
                find: self.config.link.find,
                direct: self.config.link.direct,
            },
        });
        let engine = match engine.await {
            Ok(engine) => engine,
            Err(error) => {
                database.close().await;
                return Err(error.into());
            }
        };
        let keyring_seen = match database.store.setting(KEYRING_SEEN).await {
            Ok(seen) => Some(seen.and_then(|seen| seen.parse().ok()).unwrap_or(0)),
            Err(error) => {
                tracing::warn!(%error, "whether keys.json is an older one cannot be told");
                None
            }
        };
        self.vault.compare_with(keyring_seen.unwrap_or(0));
        for event in desk.map(Desk::standing).into_iter().flatten() {
            engine.capture.note_desktop(event);
        }
        let service =
            Service::new(Arc::new(engine), self.authenticator.clone(), self.vault.clone(), self.simulated.clone());
        Ok(Opened { service, database, keyring_seen })
    }

    /// Where snapshots of the index are kept. Of a database that is not ours there are none: it may be changed behind our back.
    fn snapshots(&self) -> Option<SnapshotPlace> {
        self.config
            .database_url
            .is_none()
            .then(|| SnapshotPlace { path: self.places.data.join("index.snapshot"), key: snapshot_key(&self.vault) })
    }

    /// Nobody is told any more how to reach the service.
    pub fn unreachable(&self) {
        let _ = std::fs::remove_file(self.places.reach());
        let _ = std::fs::remove_file(self.places.authorization());
    }

    /// Notes the browsers that are let in, for as long as the records cannot be asked.
    pub async fn remember_browsers(&self, living: &Living) {
        let now = yadori_engine::clock::now();
        let browsers = living.service.engine.history.store.console_keys(now).await.unwrap_or_default();
        crate::browsers::write(&self.places, &browsers);
        self.authenticator.remember(browsers);
    }
}

/// A history that is open, and nobody works on it yet.
pub(crate) struct Opened {
    service: Arc<Service>,
    database: Database,
    /// The latest generation of the keyring that is on record; none if the records did not tell.
    keyring_seen: Option<u64>,
}

impl Opened {
    /// Begins the work beside what is asked for.
    pub fn live(self, house: &House, desk: Option<&Desk>) -> (Living, Lost) {
        let Self { service, mut database, keyring_seen } = self;
        let mut background = service.engine.start();
        let of_engine = service.clone();
        if let Some(following) = database.follow(move || of_engine.engine.wake_up()) {
            background.spawn(following);
        }
        if let Some(seen) = keyring_seen {
            background.spawn(note_keyrings(house.vault.clone(), database.store.clone(), seen));
        }
        let claim = database.take_claim();
        let store = database.store.clone();
        let lost = tokio::spawn(async move {
            match claim {
                Some(claim) => database::keep(store, claim).await,
                None => std::future::pending().await,
            }
        });
        let capturing = desk.map(|desk| {
            let (to_engine, events) = mpsc::channel::<Event>(1);
            let (waiting, desk, vault) = (desk.waiting(), desk.clone(), house.vault.clone());
            let service = service.clone();
            tokio::spawn(async move {
                let count = waiting.len();
                for copy in waiting {
                    if to_engine.send(copy).await.is_err() {
                        return;
                    }
                }
                if count > 0 {
                    // One event has room to wait: when the second is sent, the first was taken, and all before it is filed.
                    let _ = to_engine.send(Event::Uncontested).await;
                    let _ = to_engine.send(Event::Uncontested).await;
                    desk.filed();
                }
                if vault.keys().is_some() || !vault.is_encrypted() {
                    desk.lead_to(Some(to_engine));
                }
            });
            tokio::spawn(async move { service.engine.capture_all(events).await })
        });
        let ending = service.engine.background.ending.clone();
        let picker = tokio::spawn({
            let (engine, mut picker) = (service.engine.clone(), Picker::new(house.places.clone()));
            async move {
                tokio::select! {
                    () = ending.cancelled() => {}
                    () = picker.show_when_wanted(engine) => {}
                }
                picker.end().await;
            }
        });
        let rekeying = database.server().map(|server| {
            let folder = house.places.data.join("database");
            tokio::spawn(crate::rekeying::rekey_when_wanted(
                house.vault.clone(),
                service.engine.clone(),
                server,
                folder,
            ))
        });
        if capturing.is_some() && service.simulated.is_none() {
            background.spawn(crate::signs::show(service.clone(), house.places.run.clone()));
        }
        (Living { service, database, background, capturing, picker, rekeying }, Lost(lost))
    }
}

/// Tells when another service has taken the database.
pub(crate) struct Lost(JoinHandle<OpenError>);

impl Lost {
    /// Done when the database is lost: two services in one database would overwrite each other's key, and miss each other's
    /// changes.
    pub async fn lost(&mut self) -> StartError {
        match (&mut self.0).await {
            Ok(error) => {
                tracing::error!(%error, "the database is lost to another service");
                DatabaseError::Open(error).into()
            }
            Err(_) => std::future::pending().await,
        }
    }
}

impl Drop for Lost {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// A history that is open.
pub(crate) struct Living {
    service: Arc<Service>,
    database: Database,
    background: JoinSet<()>,
    capturing: Option<JoinHandle<()>>,
    picker: JoinHandle<()>,
    rekeying: Option<JoinHandle<()>>,
}

impl Living {
    pub fn service(&self) -> &Arc<Service> {
        &self.service
    }

    /// Ends it in good order: what was copied is filed, what was asked is answered, the database ends. If it is locked, nothing of
    /// it is left in memory.
    pub async fn end(self, house: &House, locked: bool) {
        let Self { service, database, mut background, capturing, picker, rekeying } = self;
        service.engine.background.ending.cancel();
        service.door.close();
        if locked {
            if let Some(keyboard) = &house.keyboard {
                let _ = keyboard.grab(Vec::new()).await;
            }
            if let (true, Some(clipboard)) = (house.vault.rules().empty_clipboard, &house.clipboard) {
                clipboard.let_go();
                let _ = clipboard.offer(Vec::new()).await;
            }
        }
        if let Some(capturing) = capturing {
            let _ = capturing.await;
        }
        let _ = picker.await;
        if let Some(rekeying) = rekeying {
            let _ = rekeying.await;
        }
        service.engine.end().await;
        background.shutdown().await;
        database.close().await;
        if !locked {
            return;
        }
        let last = Arc::downgrade(&service);
        drop(service);
        // Requests that are still being answered hold it for a moment.
        let gone = async {
            while last.strong_count() > 0 {
                tokio::time::sleep(LOOK).await;
            }
        };
        if tokio::time::timeout(LAST_HOLD, gone).await.is_err() {
            tracing::warn!("somebody still holds the history in memory");
        }
    }
}

/// How long somebody may hold a history that has ended, and how often to look.
const LAST_HOLD: Duration = Duration::from_secs(3);
const LOOK: Duration = Duration::from_millis(2);
