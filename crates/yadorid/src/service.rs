//! The parts of the service, put together, and their life from start to end.

use crate::config::{ClipboardChoice, Config};
use crate::database::{self, Database, DatabaseError};
use crate::http::{self, auth::Doors};
use crate::journal::Journal;
use crate::ledger::Ledger;
use crate::links::{LinkError, Links};
use crate::moment::{Stamps, now};
use crate::use_cases::forget::SweepState;
use crate::use_cases::rules::InForce;
use std::collections::BTreeMap;
use std::fs::{self, DirBuilder, File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::net::SocketAddr;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::path::Path;
use std::sync::atomic::AtomicBool;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::sync::{Notify, mpsc, watch};
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;
use yadori_api::Reach;
use yadori_api::places::Places;
use yadori_core::rules::DEFAULT_SIZE_LIMIT;
use yadori_core::tray::Tray;
use yadori_core::{ClipId, MillisSinceEpoch, with_causes};
use yadori_desktop::simulated::Simulated;
use yadori_desktop::{Clipboard, ConnectError, Desktop, Event, PATIENCE, Reading, simulated, wayland, x11};
use yadori_store::private::{ServerError, ServerState};
use yadori_store::{QUICK, Store, StoreError};

/// Why the service did not start.
#[derive(Debug, Error)]
pub enum StartError {
    /// Another one runs on the same home.
    #[error(
        "another Yadori service (process {pid}) already runs with {home}; stop it first, or give this one a home of its own with --home"
    )]
    AlreadyRunning {
        /// Its process id, as far as known.
        pid: String,
        /// The folder.
        home: String,
    },
    /// A folder or file cannot be used.
    #[error("{path} cannot be used")]
    Folder {
        /// The path.
        path: String,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// No database.
    #[error(transparent)]
    Database(#[from] DatabaseError),
    /// The database does not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// No clipboard, though one was asked for.
    #[error("there is no clipboard: {0}; start with --clipboard none to run without one")]
    Clipboard(String),
    /// The address cannot be listened at.
    #[error(
        "cannot listen at {address}: {source}; choose another address in config.toml: [api] listen = \"127.0.0.1:0\""
    )]
    Listen {
        /// The address.
        address: SocketAddr,
        /// Why.
        source: std::io::Error,
    },
    /// The other devices cannot be linked with.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// No randomness for the token.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
}

/// The parts that use cases work with.
pub struct Service {
    pub(crate) store: Store,
    pub(crate) ledger: Ledger,
    pub(crate) stamps: Stamps,
    pub(crate) clipboard: Option<Arc<dyn Clipboard>>,
    pub(crate) simulated: Option<Simulated>,
    pub(crate) reading: Arc<Reading>,
    pub(crate) rules: Arc<InForce>,
    pub(crate) tray: Arc<tokio::sync::Mutex<Tray>>,
    /// Something that the service put on the clipboard was pasted.
    pub(crate) pasted: Notify,
    /// How often that has happened.
    pub(crate) pastes: watch::Sender<u64>,
    /// What a person keeps and arranges, and the rules, are changed one after the other.
    pub(crate) keeping: tokio::sync::Mutex<()>,
    /// Copies that have been filed and not yet counted among those of their days (since 1970-01-01).
    pub(crate) uncounted: Mutex<BTreeMap<u64, u32>>,
    /// Somebody waits for a large step to be interrupted.
    pub(crate) interrupt: AtomicBool,
    /// Large steps are done, and undone, one after the other.
    pub(crate) stepping: Arc<tokio::sync::Mutex<()>>,
    /// What was forgotten for good is written over, once at a time.
    pub(crate) scrubbing: tokio::sync::Mutex<()>,
    pub(crate) sweeps: Mutex<SweepState>,
    /// The latest copy and when it was made, for telling repeats.
    pub(crate) latest_copy: Mutex<Option<(ClipId, MillisSinceEpoch)>>,
    pub(crate) links: Links,
    pub(crate) server: Option<watch::Receiver<ServerState>>,
    pub(crate) doors: Doors,
    /// Something may be due earlier than before.
    pub(crate) forgetting: Notify,
    /// A pause began or ended.
    pub(crate) pausing: Notify,
    /// Small work that may go on while the service ends.
    pub(crate) tasks: TaskTracker,
    pub(crate) ending: CancellationToken,
    pub(crate) device: String,
    pub(crate) home: String,
    pub(crate) started: MillisSinceEpoch,
    journal: Mutex<Journal>,
}

impl Service {
    /// A file without a name in the service's folder, which is gone when it is closed.
    pub(crate) fn nameless_file(&self) -> std::io::Result<File> {
        let folder = Path::new(&self.home);
        let path = folder.join(format!("incoming-{}-{}", std::process::id(), self.stamps.next().to_bits()));
        let file = OpenOptions::new().read(true).write(true).create_new(true).mode(0o600).open(&path)?;
        fs::remove_file(&path)?;
        Ok(file)
    }

    /// Why the service's own database is away, if it is; with the reason why it could not be started again, if it could not.
    pub(crate) fn database_away(&self) -> Option<Option<ServerError>> {
        match &*self.server.as_ref()?.borrow() {
            ServerState::Running { .. } => None,
            ServerState::Restarting { failure } => Some(failure.clone()),
            ServerState::Stopped => Some(None),
        }
    }

    /// Waits until the service's own database, which is away, is back. Never done if it is there, or not our own.
    pub(crate) async fn database_is_back(&self) {
        let Some(mut state) = self.server.clone().filter(|_| self.database_away().is_some()) else {
            return std::future::pending().await;
        };
        if state.wait_for(|state| matches!(state, ServerState::Running { .. })).await.is_err() {
            std::future::pending::<()>().await;
        }
    }

    pub(crate) fn journal(&self) -> MutexGuard<'_, Journal> {
        self.journal.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A service that is ready, at its address.
pub struct Running {
    /// Where it listens.
    pub address: SocketAddr,
    service: Arc<Service>,
    database: Database,
    listener: TcpListener,
    events: Option<mpsc::Receiver<Event>>,
    places: Places,
    _lock: File,
}

/// Starts everything. On return the service is ready, but does not answer yet: see [`Running::run`].
///
/// # Errors
/// When something that it cannot do without is missing; says what to do.
pub async fn start(places: Places, config: Config) -> Result<Running, StartError> {
    let started = now();
    private_folder(&places.data)?;
    private_folder(&places.run)?;
    let lock = lock(&places)?;
    let listener = listen(config.api.listen).await?;
    let address = listener.local_addr().map_err(|source| StartError::Listen { address: config.api.listen, source })?;
    let device = config.device_name();
    let database = Database::open(config.database_url.as_deref(), &places.data.join("database"), &device).await?;
    let store = database.store.clone();
    let stamps = Stamps::after(store.latest_stamp().await?);
    for mut step in store.pending_steps().await? {
        tracing::info!(step = step.number, "what was begun before the service ended is carried on");
        while store.advance(&mut step, stamps.next(), QUICK).await?.is_some() {}
    }
    let rules = Arc::<InForce>::default();
    let ledger = Ledger::open(store.clone(), rules.clone()).await?;

    let reading = Reading::new(DEFAULT_SIZE_LIMIT, PATIENCE);
    let Clipboards { clipboard, simulated, mut events, off } = clipboards(config.clipboard, &reading)?;
    let service = Arc::new(Service {
        store,
        ledger,
        stamps,
        clipboard,
        simulated,
        reading,
        rules,
        tray: Arc::default(),
        pasted: Notify::new(),
        pastes: watch::Sender::new(0),
        keeping: tokio::sync::Mutex::default(),
        uncounted: Mutex::default(),
        interrupt: AtomicBool::new(false),
        stepping: Arc::default(),
        scrubbing: tokio::sync::Mutex::default(),
        sweeps: Mutex::default(),
        latest_copy: Mutex::default(),
        links: Links::new(&places.data, &config.link),
        server: database.state(),
        doors: Doors::new(address, &config.api.names).map_err(StartError::Randomness)?,
        forgetting: Notify::new(),
        pausing: Notify::new(),
        tasks: TaskTracker::new(),
        ending: CancellationToken::new(),
        device,
        home: places.data.display().to_string(),
        started,
        journal: Mutex::new(Journal::new(off)),
    });
    service.restore_pause().await?;
    service.restore_rules().await?;
    service.restore_tray().await?;
    service.restore_links().await?;
    // The first thing that a desktop tells is whether it is there.
    if let Some(first) = match &mut events {
        Some(events) => events.recv().await,
        None => None,
    } {
        service.note_desktop(first);
    }
    Ok(Running { address, service, database, listener, events, places, _lock: lock })
}

impl Running {
    /// Serves until `end` is done, then ends everything in good order. Calls `ready` when a client can
    /// reach the service.
    ///
    /// # Errors
    /// When clients cannot be told how to reach it.
    pub async fn run(self, ready: impl FnOnce(SocketAddr), end: impl Future<Output = ()>) -> Result<(), StartError> {
        let Self { address, service, mut database, listener, events, places, _lock } = self;
        let reach = Reach { address: address.to_string(), token: service.doors.token().to_owned() };
        write_reach(&places, &reach)?;

        let mut background = tokio::task::JoinSet::new();
        if let Some(state) = database.state() {
            let of_links = service.clone();
            let is_back = move || of_links.links.wake_up();
            background.spawn(database::follow(service.store.clone(), state, is_back));
        }
        let claim = database.take_claim();
        let store = service.store.clone();
        let mut lost = tokio::spawn(async move {
            match claim {
                Some(claim) => database::keep(store, claim).await,
                None => std::future::pending().await,
            }
        });
        let follower = service.clone();
        background.spawn(async move { follower.ledger.follow().await });
        let forgetter = service.clone();
        background.spawn(async move { forgetter.forget_when_due().await });
        let pauser = service.clone();
        background.spawn(async move { pauser.end_pauses().await });
        let dealer = service.clone();
        background.spawn(async move { dealer.deal_when_pasted().await });
        let linker = service.clone();
        background.spawn(async move { linker.keep_linked().await });
        let follower = service.clone();
        background.spawn(async move { follower.follow_network().await });
        let finder = service.clone();
        background.spawn(async move { finder.look_around().await });
        let ending = service.ending.clone();
        let capturing = events.map(|events| {
            let service = service.clone();
            tokio::spawn(async move { service.capture_all(events).await })
        });
        let server = tokio::spawn(http::serve(listener, http::router(service.clone()), ending.clone()));

        ready(address);
        let outcome = tokio::select! {
            () = end => Ok(()),
            // Two services in one database would overwrite each other's key, and miss each other's changes.
            Ok(error) = &mut lost => {
                tracing::error!(%error, "the database is lost to another service");
                Err(DatabaseError::Open(error).into())
            }
        };
        lost.abort();
        tracing::info!("ending");
        ending.cancel();
        let _ = fs::remove_file(places.reach());
        if let Some(capturing) = capturing {
            let _ = capturing.await;
        }
        let _ = server.await;
        if let Err(error) = service.count_captured().await {
            tracing::warn!(%error, "the last copies are missing in the figures");
        }
        if let Err(error) = service.forget_session().await {
            tracing::error!(%error, "the session's history could not be forgotten");
        }
        service.tasks.close();
        service.tasks.wait().await;
        background.shutdown().await;
        database.close().await;
        outcome
    }
}

struct Clipboards {
    clipboard: Option<Arc<dyn Clipboard>>,
    simulated: Option<Simulated>,
    events: Option<mpsc::Receiver<Event>>,
    /// Why there is none, until one is told of.
    off: String,
}

fn clipboards(choice: ClipboardChoice, reading: &Arc<Reading>) -> Result<Clipboards, StartError> {
    let none = |off: String| Clipboards { clipboard: None, simulated: None, events: None, off };
    let some = |desktop: Desktop, simulated| Clipboards {
        clipboard: Some(desktop.clipboard),
        simulated,
        events: Some(desktop.events),
        off: "it has not been found yet".into(),
    };
    let wanted = |connected: Result<Desktop, ConnectError>| {
        connected.map(|desktop| some(desktop, None)).map_err(|error| StartError::Clipboard(with_causes(&error)))
    };
    match choice {
        ClipboardChoice::None => Ok(none("the service was started without a clipboard".into())),
        ClipboardChoice::Simulated => {
            let (desktop, simulated) = simulated::connect(reading.clone());
            Ok(some(desktop, Some(simulated)))
        }
        ClipboardChoice::X11 => wanted(x11::connect(None, reading.clone())),
        ClipboardChoice::Wayland => wanted(wayland::connect(None, reading.clone())),
        ClipboardChoice::Auto => match yadori_desktop::connect(reading.clone()) {
            Ok(desktop) => Ok(some(desktop, None)),
            Err(error) => {
                let why = with_causes(&error);
                tracing::warn!(%why, "there is no clipboard to capture from; everything else works");
                Ok(none(why))
            }
        },
    }
}

fn folder_error(path: &Path) -> impl Fn(std::io::Error) -> StartError {
    let path = path.display().to_string();
    move |source| StartError::Folder { path: path.clone(), source }
}

fn private_folder(path: &Path) -> Result<(), StartError> {
    DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(folder_error(path))?;
    fs::set_permissions(path, fs::Permissions::from_mode(0o700)).map_err(folder_error(path))
}

/// Only one service runs with a home: whoever holds this lock.
fn lock(places: &Places) -> Result<File, StartError> {
    let path = places.data.join("lock");
    let mut options = OpenOptions::new();
    let mut file = options
        .create(true)
        .read(true)
        .write(true)
        .truncate(false)
        .mode(0o600)
        .open(&path)
        .map_err(folder_error(&path))?;
    match file.try_lock() {
        Ok(()) => {
            file.set_len(0).and_then(|()| write!(file, "{}", std::process::id())).map_err(folder_error(&path))?;
            Ok(file)
        }
        Err(TryLockError::WouldBlock) => {
            let mut pid = String::new();
            let _ = file.read_to_string(&mut pid);
            Err(StartError::AlreadyRunning {
                pid: if pid.is_empty() { "unknown".into() } else { pid },
                home: places.data.display().to_string(),
            })
        }
        Err(TryLockError::Error(error)) => Err(folder_error(&path)(error)),
    }
}

async fn listen(address: SocketAddr) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|source| StartError::Listen { address, source })
}

/// Tells clients of this user how to reach the service; appears at once and whole.
fn write_reach(places: &Places, reach: &Reach) -> Result<(), StartError> {
    let path = places.reach();
    let growing = path.with_extension("new");
    let write = || {
        let _ = fs::remove_file(&growing);
        let mut file = OpenOptions::new().create_new(true).write(true).mode(0o600).open(&growing)?;
        file.write_all(&serde_json::to_vec(reach)?)?;
        fs::rename(&growing, &path)
    };
    write().map_err(folder_error(&path))
}
