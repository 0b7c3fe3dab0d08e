//! The parts of the service, put together, and their life from start to end.

use crate::config::{ClipboardChoice, Config};
use crate::database::{self, Database, DatabaseError};
use crate::http::{self, Repeats, auth::Authenticator};
use crate::picker::Picker;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use yadori_api::Reach;
use yadori_core::rules::DEFAULT_SIZE_LIMIT;
use yadori_core::with_causes;
use yadori_desktop::simulated::Simulated;
use yadori_desktop::{Clipboard, ConnectError, Desktop, Event, Keyboard, PATIENCE, Reading, simulated, wayland, x11};
use yadori_engine::Engine;
use yadori_engine::availability::Availability;
use yadori_engine::engine::{EngineError, Setup};
use yadori_engine::links::LinkConfig;
use yadori_files::Places;

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
    /// The parts cannot be put together.
    #[error(transparent)]
    Engine(#[from] EngineError),
    /// No randomness for the token.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
}

/// What handlers of requests work with.
pub struct Service {
    pub(crate) engine: Arc<Engine>,
    pub(crate) authenticator: Authenticator,
    pub(crate) simulated: Option<Simulated>,
    /// Held while a change is made that is meant only for what its client has seen.
    pub(crate) changing: tokio::sync::Mutex<()>,
    /// Requests that add something, so that they add it once.
    pub(crate) repeats: Repeats,
    /// The door for a browser on the network, while it is open.
    pub(crate) door: http::door::Slot,
}

impl Service {
    /// An engine over HTTP at this address, and under these other names of the host.
    ///
    /// # Errors
    /// When the system gives no random numbers for the token.
    pub fn new(
        engine: Arc<Engine>,
        (address, names): (SocketAddr, &[String]),
        simulated: Option<Simulated>,
    ) -> Result<Arc<Self>, getrandom::Error> {
        let authenticator = Authenticator::new(address, names)?;
        Ok(Arc::new(Self {
            engine,
            authenticator,
            simulated,
            changing: <_>::default(),
            repeats: Repeats::default(),
            door: <_>::default(),
        }))
    }

    /// The token that lets a program in.
    pub fn token(&self) -> &str {
        self.authenticator.token()
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
    private_folder(&places.data)?;
    private_folder(&places.run)?;
    let lock = lock(&places)?;
    let listener = listen(config.api.listen).await?;
    let address = listener.local_addr().map_err(|source| StartError::Listen { address: config.api.listen, source })?;
    let device = config.device_name();
    let database = Database::open(config.database_url.as_deref(), &places.data.join("database"), &device).await?;
    let reading = Reading::new(DEFAULT_SIZE_LIMIT, PATIENCE);
    let Clipboards { clipboard, keyboard, simulated, mut events, off } = clipboards(config.clipboard, &reading)?;
    let engine = Engine::open(Setup {
        store: database.store.clone(),
        server: Availability::of(database.state()),
        device,
        folder: &places.data,
        clipboard,
        keyboard,
        reading,
        off,
        link: LinkConfig { listen: config.link.listen, find: config.link.find },
    })
    .await?;
    let service = Service::new(Arc::new(engine), (address, &config.api.names), simulated);
    let service = service.map_err(StartError::Randomness)?;
    // The first thing that a desktop tells is whether it is there.
    if let Some(first) = match &mut events {
        Some(events) => events.recv().await,
        None => None,
    } {
        service.engine.capture.note_desktop(first);
    }
    Ok(Running { address, service, database, listener, events, places, _lock: lock })
}

/// How long a desktop may be gone and come back, if the service is to end with it.
const COMES_BACK: Duration = Duration::from_secs(5);

impl Running {
    /// Done when the desktop is gone for good, as it is after log-out: it was there, and has not come back within some seconds.
    pub fn desktop_gone(&self) -> impl Future<Output = ()> + Send + use<> {
        let engine = self.service.engine.clone();
        async move {
            engine.capture.wait_for_clipboard(true).await;
            loop {
                engine.capture.wait_for_clipboard(false).await;
                let back = engine.capture.wait_for_clipboard(true);
                if tokio::time::timeout(COMES_BACK, back).await.is_err() {
                    tracing::info!("the desktop is gone");
                    return;
                }
            }
        }
    }

    /// Serves until `end` is done, then ends everything in good order. Calls `ready` when a client can
    /// reach the service.
    ///
    /// # Errors
    /// When clients cannot be told how to reach it.
    pub async fn run(self, ready: impl FnOnce(SocketAddr), end: impl Future<Output = ()>) -> Result<(), StartError> {
        let Self { address, service, mut database, listener, events, places, _lock } = self;
        let reach = Reach { address: address.to_string(), token: service.token().to_owned() };
        write_reach(&places, &reach)?;

        let mut background = service.engine.start();
        if let Some(state) = database.state() {
            let of_engine = service.clone();
            let is_back = move || of_engine.engine.wake_up();
            background.spawn(database::follow(database.store.clone(), state, is_back));
        }
        let claim = database.take_claim();
        let store = database.store.clone();
        let mut lost = tokio::spawn(async move {
            match claim {
                Some(claim) => database::keep(store, claim).await,
                None => std::future::pending().await,
            }
        });
        let ending = service.engine.background.ending.clone();
        let capturing = events.map(|events| {
            let service = service.clone();
            tokio::spawn(async move { service.engine.capture_all(events).await })
        });
        let picker = tokio::spawn({
            let (engine, ending, mut picker) = (service.engine.clone(), ending.clone(), Picker::new(places.clone()));
            async move {
                tokio::select! {
                    () = ending.cancelled() => {}
                    () = picker.show_when_wanted(engine) => {}
                }
                picker.end().await;
            }
        });
        if capturing.is_some() && service.simulated.is_none() {
            background.spawn(crate::signs::show(service.clone(), places.run.clone()));
        }
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
        let _ = fs::remove_file(places.authorization());
        if let Some(capturing) = capturing {
            let _ = capturing.await;
        }
        let _ = server.await;
        let _ = picker.await;
        service.engine.end().await;
        background.shutdown().await;
        database.close().await;
        outcome
    }
}

struct Clipboards {
    clipboard: Option<Arc<dyn Clipboard>>,
    keyboard: Option<Arc<dyn Keyboard>>,
    simulated: Option<Simulated>,
    events: Option<mpsc::Receiver<Event>>,
    /// Why there is none, until one is told of.
    off: String,
}

fn clipboards(choice: ClipboardChoice, reading: &Arc<Reading>) -> Result<Clipboards, StartError> {
    let none = |off: String| Clipboards { clipboard: None, keyboard: None, simulated: None, events: None, off };
    let some = |desktop: Desktop, simulated| Clipboards {
        clipboard: Some(desktop.clipboard),
        keyboard: Some(desktop.keyboard),
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
    yadori_files::private_folder(path).map_err(folder_error(path))
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
    let text = serde_json::to_vec(reach).unwrap_or_default();
    yadori_files::write_private(&path, &text).map_err(folder_error(&path))?;
    let path = places.authorization();
    let header = format!("Authorization: Bearer {}\n", reach.token);
    yadori_files::write_private(&path, header.as_bytes()).map_err(folder_error(&path))
}
