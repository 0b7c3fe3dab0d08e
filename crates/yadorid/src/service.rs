//! The parts of the service, put together, and their life from start to end.

use crate::browsers;
use crate::config::{ClipboardChoice, Config};
use crate::database::DatabaseError;
use crate::desk::{Desk, DeskRunning};
use crate::http::{self, Gate, Repeats, auth::Authenticator};
use crate::opened::{House, Living, Opened};
use crate::vault::{self, State, Vault, VaultError, Wanted};
use crate::{hardening, watching};
use futures_util::future::LocalBoxFuture;
use std::fs::{File, OpenOptions, TryLockError};
use std::io::{Read, Write};
use std::net::SocketAddr;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::sync::mpsc;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;
use yadori_api::Reach;
use yadori_cage::Cage;
use yadori_core::rules::DEFAULT_SIZE_LIMIT;
use yadori_core::with_causes;
use yadori_desktop::Shortcoming;
use yadori_desktop::simulated::Simulated;
use yadori_desktop::{Clipboard, ConnectError, Desktop, Event, Keyboard, PATIENCE, Reading, simulated, wayland, x11};
use yadori_engine::Engine;
use yadori_engine::engine::EngineError;
use yadori_files::Places;
use yadori_vault::DataKeys;

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
    /// The keys cannot be used.
    #[error(transparent)]
    Vault(#[from] VaultError),
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
    pub(crate) authenticator: Arc<Authenticator>,
    pub(crate) vault: Arc<Vault>,
    pub(crate) simulated: Option<Simulated>,
    /// Held while a change is made that is meant only for what its client has seen.
    pub(crate) changing: tokio::sync::Mutex<()>,
    /// Requests that add something, so that they add it once.
    pub(crate) repeats: Repeats,
    /// The door for a browser on the network, while it is open.
    pub(crate) door: http::door::Slot,
}

impl Service {
    /// An engine over HTTP.
    pub fn new(
        engine: Arc<Engine>,
        authenticator: Arc<Authenticator>,
        vault: Arc<Vault>,
        simulated: Option<Simulated>,
    ) -> Arc<Self> {
        Arc::new(Self {
            engine,
            authenticator,
            vault,
            simulated,
            changing: <_>::default(),
            repeats: Repeats::default(),
            door: <_>::default(),
        })
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
    house: House,
    opened: Option<Opened>,
    wanted: mpsc::UnboundedReceiver<Wanted>,
    listener: TcpListener,
    desk: Option<Desk>,
    _lock: File,
}

/// Starts everything. On return the service is ready, but does not answer yet: see [`Running::run`]. If only a person can
/// open the history, it is locked.
///
/// It is boxed, as is [`Running::run`], so that all that comes of it is compiled here, and not once more for the program.
///
/// # Errors
/// When something that it cannot do without is missing; says what to do.
pub fn start(places: Places, config: Config) -> LocalBoxFuture<'static, Result<Running, StartError>> {
    Box::pin(begin(places, config))
}

async fn begin(places: Places, config: Config) -> Result<Running, StartError> {
    private_folder(&places.data)?;
    private_folder(&places.run)?;
    let lock = lock(&places)?;
    let listener = listen(config.api.listen).await?;
    let address = listener.local_addr().map_err(|source| StartError::Listen { address: config.api.listen, source })?;
    let plain = match (&config.database_url, config.encrypt) {
        (Some(_), _) => Some(vault::OUTSIDE),
        (None, false) => Some(vault::TURNED_OFF),
        (None, true) => None,
    };
    let (vault, wanted) = Vault::find(&places, plain).await?;
    let vault = Arc::new(vault);
    let authenticator = Authenticator::new(address, &config.api.names).map_err(StartError::Randomness)?;
    let authenticator = Arc::new(authenticator);
    let reading = Reading::new(DEFAULT_SIZE_LIMIT, PATIENCE);
    let Clipboards { clipboard, keyboard, simulated, events, off } = clipboards(config.clipboard, &reading)?;
    let desk = match events {
        Some(events) => Some(Desk::new(events, vault.clone(), &places).await),
        None => None,
    };
    let house = House {
        gate: Gate::new(authenticator.clone(), vault.clone()),
        authenticator,
        vault,
        places,
        config,
        clipboard,
        keyboard,
        simulated,
        cage: cage(),
        reading,
        off,
    };
    let opened = if house.vault.keys().is_some() || !house.vault.is_encrypted() {
        Some(house.open(desk.as_ref()).await?)
    } else {
        tracing::info!("the history is locked");
        house.authenticator.remember(browsers::read(&house.places));
        None
    };
    Ok(Running { address, house, opened, wanted, listener, desk, _lock: lock })
}

/// Pictures are decoded by this very program, also when its file was replaced meanwhile.
fn cage() -> Cage {
    Cage::of(Path::new("/proc/self/exe"), &[CAGE])
}

/// The argument with which this program decodes pictures, and does nothing else.
pub const CAGE: &str = "--decode-pictures";

/// How long a desktop may be gone and come back, if the service is to end with it.
const COMES_BACK: Duration = Duration::from_secs(5);

impl Running {
    /// Done when the desktop is gone for good, as it is after log-out: it was there, and has not come back within some seconds.
    pub fn desktop_gone(&self) -> impl Future<Output = ()> + Send + use<> {
        let connected = self.desk.as_ref().map(Desk::connected);
        async move {
            let Some(mut connected) = connected else { return std::future::pending().await };
            let _ = connected.wait_for(|there| *there).await;
            loop {
                let _ = connected.wait_for(|there| !*there).await;
                let back = connected.wait_for(|there| *there);
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
    pub fn run(
        self,
        ready: Box<dyn FnOnce(SocketAddr)>,
        end: LocalBoxFuture<'static, ()>,
    ) -> LocalBoxFuture<'static, Result<(), StartError>> {
        Box::pin(self.serve(ready, end))
    }

    async fn serve(
        self,
        ready: Box<dyn FnOnce(SocketAddr)>,
        mut end: LocalBoxFuture<'static, ()>,
    ) -> Result<(), StartError> {
        let Self { address, house, mut opened, mut wanted, listener, desk, _lock } = self;
        let reach = Reach { address, token: house.authenticator.token().to_owned() };
        let ending = CancellationToken::new();
        let gate = house.gate.clone();
        let answer = move |request| gate.clone().answer(request);
        let mut server = tokio::spawn(yadori_serve::serve(listener, answer, ending.clone(), http::LIMITS));
        let mut desk = desk.map(Desk::start);
        let mut ready = Some(ready);
        // Not before it is known whether the history is locked.
        let mut say_ready = || match ready.take() {
            Some(ready) => write_reach(&house.places, &reach).map(|()| ready(address)),
            None => Ok(()),
        };
        // What holds back the computer's sleep until the history is locked.
        let mut sleep = None;
        let outcome = loop {
            let Some(open) = opened.take() else {
                house.vault.stands(State::Locked);
                sleep = None;
                if let Err(error) = say_ready() {
                    break Err(error);
                }
                let keys = tokio::select! {
                    () = &mut end => break Ok(()),
                    Some(wanted) = wanted.recv() => match wanted {
                        Wanted::Open(keys) => keys,
                        Wanted::Lock => continue,
                    },
                };
                opened = unlock(&house, keys, desk.as_ref().map(DeskRunning::desk)).await;
                continue;
            };
            let (living, mut lost) = open.live(&house, desk.as_ref().map(DeskRunning::desk));
            house.gate.open(http::Interface::new(living.service().clone()));
            house.vault.note_use();
            house.vault.stands(State::Open);
            let said = say_ready();
            let why = tokio::select! {
                Err(error) = std::future::ready(said) => Ended::Lost(error),
                () = &mut end => Ended::ForGood,
                error = lost.lost() => Ended::Lost(error),
                why = lock_wanted(&house.vault, &mut wanted) => why,
                () = lock_pressed(&living, &house.vault) => Ended::Locked,
                () = house.vault.idle() => Ended::Locked,
                held = watching::screen_or_sleep(&house.vault) => {
                    sleep = held;
                    Ended::Locked
                }
            };
            house.remember_browsers(&living).await;
            if let Some(desk) = &desk {
                desk.desk().lead_to(None);
            }
            close(&house, living, &why, &ending, &mut server).await;
            match why {
                Ended::ForGood => break Ok(()),
                Ended::Lost(error) => break Err(error),
                Ended::Locked => tracing::info!("the history is locked"),
            }
        };
        drop(sleep);
        house.unreachable();
        if !ending.is_cancelled() {
            ending.cancel();
            let _ = server.await;
        }
        if let Some(desk) = desk.take() {
            desk.end().await;
        }
        outcome
    }
}

/// Opens the history with these keys, or tells why that cannot be.
async fn unlock(house: &House, keys: DataKeys, desk: Option<&Desk>) -> Option<Opened> {
    house.vault.stands(State::Opening);
    house.vault.failed(None);
    house.vault.take(keys);
    match house.open(desk).await {
        Ok(open) => Some(open),
        Err(error) => {
            let reason = with_causes(&error);
            tracing::error!(%reason, "the history cannot be opened");
            house.vault.forget();
            house.vault.failed(Some(reason));
            None
        }
    }
}

/// Ends what is open, for this reason.
async fn close(house: &House, living: Living, why: &Ended, ending: &CancellationToken, server: &mut JoinHandle<()>) {
    match why {
        Ended::ForGood | Ended::Lost(_) => {
            // Whoever has asked is answered while there is something to answer with.
            tracing::info!("ending");
            house.unreachable();
            ending.cancel();
            living.service().engine.background.ending.cancel();
            let _ = server.await;
            living.end(house, false).await;
        }
        Ended::Locked => {
            house.vault.stands(State::Locking);
            house.gate.shut();
            hardening::wipe_what_is_freed(true);
            living.end(house, true).await;
            house.vault.forget();
            hardening::give_memory_back();
            hardening::wipe_what_is_freed(false);
        }
    }
}

/// Why the history is not open any more.
enum Ended {
    /// The service ends.
    ForGood,
    /// The database is lost to another service.
    Lost(StartError),
    /// It is to be locked.
    Locked,
}

/// Done when the history is to be locked by keys, or by the icon, and can be.
async fn lock_pressed(living: &Living, vault: &Vault) {
    let keys = &living.service().engine.keys;
    loop {
        keys.lock_wanted().await;
        match vault.may_lock() {
            Ok(()) => return,
            Err(error) => {
                tracing::warn!(%error, "the history was not locked");
                keys.note_failure(error.to_string());
            }
        }
    }
}

async fn lock_wanted(vault: &Vault, wanted: &mut mpsc::UnboundedReceiver<Wanted>) -> Ended {
    loop {
        match wanted.recv().await {
            Some(Wanted::Lock) => return Ended::Locked,
            Some(Wanted::Open(_)) => vault.stands(State::Open),
            None => return std::future::pending().await,
        }
    }
}

struct Clipboards {
    clipboard: Option<Arc<dyn Clipboard>>,
    keyboard: Option<Arc<dyn Keyboard>>,
    simulated: Option<Simulated>,
    events: Option<mpsc::Receiver<Event>>,
    /// Why there is none, until one is told of.
    off: Shortcoming,
}

fn clipboards(choice: ClipboardChoice, reading: &Arc<Reading>) -> Result<Clipboards, StartError> {
    let none = |off: Shortcoming| Clipboards { clipboard: None, keyboard: None, simulated: None, events: None, off };
    let some = |desktop: Desktop, simulated| Clipboards {
        clipboard: Some(desktop.clipboard),
        keyboard: Some(desktop.keyboard),
        simulated,
        events: Some(desktop.events),
        off: Shortcoming::NotFoundYet,
    };
    let wanted = |connected: Result<Desktop, ConnectError>| {
        connected.map(|desktop| some(desktop, None)).map_err(|error| StartError::Clipboard(with_causes(&error)))
    };
    match choice {
        ClipboardChoice::None => Ok(none(Shortcoming::NotWanted)),
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
                Ok(none(Shortcoming::NoDesktop(why)))
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
