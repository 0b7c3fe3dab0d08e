//! The database server that the service starts for itself.
//!
//! A private `mariadbd` with its own folder, reachable by a socket in that folder and with a random password, durable at
//! every commit and tuned small. It is a child of a thread that lives as long as the service: the
//! kernel ends the server when that thread ends, even when the service is killed, and the thread
//! starts it again when it dies by itself.
//!
//! * `encryption`: what it writes is encrypted
//! * `folder`: what lies where, the first start, and the lock that the server itself holds
//! * `orphans`: what an earlier service has left behind
//! * `process`: how the server is started, and when it is ready
//! * `rebuild`: the database is built anew with another key
//! * `testing`: for tests, one server for all of a process (feature `testing`)

mod encryption;
mod folder;
mod orphans;
mod process;
mod rebuild;
#[cfg(feature = "testing")]
pub mod testing;

pub use rebuild::{Rebuilt, rebuild, recover};

use backon::{BackoffBuilder, ExponentialBuilder};
use folder::Folder;
use process::Running;
use std::path::Path;
use std::sync::mpsc;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::{oneshot, watch};
use yadori_vault::Secret;

/// The id of the key that the database in `folder` is encrypted with; none if it is not, or there is none yet.
///
/// # Errors
/// When the folder cannot be read.
pub fn key_id(folder: &Path) -> std::io::Result<Option<String>> {
    encryption::key_id(folder)
}

/// Checks that there is room to build the database in `folder` anew, beside the old one: see [`rebuild`].
///
/// # Errors
/// When there is too little, or the folder cannot be read.
pub fn check_room_beside(folder: &Path) -> Result<(), ServerError> {
    folder::check_room_beside(folder)
}

/// Whether a database was set up in `folder`.
pub fn exists(folder: &Path) -> bool {
    folder.join("data").is_dir()
}

/// Why the private server does not run.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ServerError {
    /// MariaDB is not on this machine.
    #[error("MariaDB is not installed: there is no {0} (on Debian: apt install mariadb-server)")]
    NotInstalled(&'static str),
    /// MariaDB's plugin for encryption is not on this machine.
    #[error(
        "MariaDB cannot encrypt here: its plugin file_key_management is missing (on Debian: apt install mariadb-server; or set encrypt = false in config.toml for a new history)"
    )]
    NoEncryption,
    /// There is no room for another database beside this one.
    #[error(
        "the disk that holds {folder} has {free_mib} MiB free, and encrypting the database anew beside the old one takes {needed_mib} MiB; make room and try again"
    )]
    NoRoomBeside {
        /// The folder.
        folder: String,
        /// What is free.
        free_mib: u64,
        /// What it takes.
        needed_mib: u64,
    },
    /// A server of an earlier run still has the folder.
    #[error(
        "an earlier database server (process {pid}) still holds {folder}; wait for it to end, or end it with: kill {pid}"
    )]
    StillHeld {
        /// Its process id, as far as known.
        pid: String,
        /// The folder.
        folder: String,
    },
    /// Too little room to start.
    #[error(
        "the disk that holds {folder} is full: {free_mib} MiB are free, and the database needs {needed_mib} MiB to start; make room and try again"
    )]
    DiskFull {
        /// The folder.
        folder: String,
        /// What is free.
        free_mib: u64,
        /// What is needed.
        needed_mib: u64,
    },
    /// The folder cannot be used.
    #[error("{path} cannot be used: {reason}")]
    Folder {
        /// The path.
        path: String,
        /// Why.
        reason: String,
    },
    /// The folder is encrypted with another key.
    #[error(
        "{folder} is encrypted with another key than that of the key file (it needs {found}, and was given {given}); bring back the key file that belongs to it"
    )]
    OtherKey {
        /// The folder.
        folder: String,
        /// The id of its key.
        found: String,
        /// The id of the key that was given.
        given: String,
    },
    /// The database could not be built anew.
    #[error("the database could not be encrypted: {0}; what was there is as it was")]
    NotRebuilt(String),
    /// The server did not start.
    #[error("the database server did not start: {reason}\nits log is {log}")]
    DidNotStart {
        /// Its last words.
        reason: String,
        /// Where it logs.
        log: String,
    },
}

/// Where the server stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServerState {
    /// It answers at this URL, which contains the password.
    Running {
        /// How to connect.
        url: String,
        /// Its process id.
        pid: u32,
        /// How often it had to be started again.
        restarts: u32,
    },
    /// It ended and is being started again.
    Restarting {
        /// Why it could not be started the last time, if it could not.
        failure: Option<ServerError>,
    },
    /// It was told to end, and has ended.
    Stopped,
}

/// A private server that is kept running.
pub struct PrivateServer {
    state: watch::Receiver<ServerState>,
    orders: mpsc::Sender<ServerCommand>,
    keeper: Option<std::thread::JoinHandle<()>>,
}

enum ServerCommand {
    Ended,
    Stop,
}

/// Pauses before the server is started again, after starts that failed. One that could be started and was ended is
/// started again at once.
const RETRY: ExponentialBuilder = ExponentialBuilder::new()
    .with_min_delay(Duration::from_millis(200))
    .with_max_delay(LONGEST_PAUSE)
    .without_max_times();

/// Longest of these pauses.
const LONGEST_PAUSE: Duration = Duration::from_secs(3);

/// So often within [`STEADY`] the server may end by itself before there is a pause after it, too.
const QUICK_DEATHS: usize = 20;

/// A server that ran this long is not taken to keep dying.
const STEADY: Duration = Duration::from_secs(60);

impl PrivateServer {
    /// Starts the server of this folder, which is set up at the first time, encrypted with `key`. Returns when it answers.
    ///
    /// # Errors
    /// When there is no server to start, or it does not start; says what to do.
    pub async fn start(path: &Path, key: Option<&Secret>) -> Result<Self, ServerError> {
        let (path, key) = (path.to_owned(), key.cloned());
        let (orders, received) = mpsc::channel();
        let (first, started) = oneshot::channel();
        let to_keeper = orders.clone();
        let keeper = std::thread::Builder::new()
            .name("database".into())
            .spawn(move || keep((&path, key.as_ref()), first, &to_keeper, &received))
            .map_err(|error| ServerError::Folder { path: "a new thread".into(), reason: error.to_string() })?;
        match started.await {
            Ok(Ok(state)) => Ok(Self { state, orders, keeper: Some(keeper) }),
            Ok(Err(error)) => Err(error),
            Err(_) => Err(ServerError::DidNotStart { reason: "its keeper ended".into(), log: String::new() }),
        }
    }

    /// Follows the state of the server.
    pub fn state(&self) -> watch::Receiver<ServerState> {
        self.state.clone()
    }

    /// Ends the server and waits until it is gone.
    pub async fn stop(mut self) {
        let _ = self.orders.send(ServerCommand::Stop);
        if let Some(keeper) = self.keeper.take() {
            let _ = tokio::task::spawn_blocking(move || keeper.join()).await;
        }
    }
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        let _ = self.orders.send(ServerCommand::Stop);
    }
}

type FirstStart = oneshot::Sender<Result<watch::Receiver<ServerState>, ServerError>>;

/// The life of the keeper's thread.
fn keep(
    (path, key): (&Path, Option<&Secret>),
    first: FirstStart,
    orders: &mpsc::Sender<ServerCommand>,
    received: &mpsc::Receiver<ServerCommand>,
) {
    let started = Folder::open(path, key).and_then(|folder| {
        let running = Running::start(&folder)?;
        Ok((folder, running))
    });
    let (folder, mut running) = match started {
        Ok(started) => started,
        Err(error) => {
            let _ = first.send(Err(error));
            return;
        }
    };
    let mut restarts = 0;
    let state_of =
        |running: &Running, restarts| ServerState::Running { url: running.url(&folder), pid: running.pid(), restarts };
    let (state, follow) = watch::channel(state_of(&running, restarts));
    if first.send(Ok(follow)).is_err() {
        running.stop();
        return;
    }
    let mut quick_deaths = 0usize;
    loop {
        let since = Instant::now();
        running.tell_when_ended(orders.clone());
        match received.recv() {
            Ok(ServerCommand::Ended) => {}
            Ok(ServerCommand::Stop) | Err(_) => break,
        }
        tracing::error!(outcome = %running.outcome(), "the database server ended by itself; starting it again");
        // Whoever connects now is told at once that nobody is there.
        let _ = std::fs::remove_file(folder.socket());
        state.send_replace(ServerState::Restarting { failure: None });
        quick_deaths = if since.elapsed() > STEADY { 0 } else { quick_deaths + 1 };
        let mut pauses = RETRY.build();
        let mut next_pause = move || pauses.next().unwrap_or(LONGEST_PAUSE);
        let mut pause = if quick_deaths > QUICK_DEATHS { next_pause() } else { Duration::ZERO };
        running = loop {
            if let Ok(ServerCommand::Stop) | Err(mpsc::RecvTimeoutError::Disconnected) = received.recv_timeout(pause) {
                state.send_replace(ServerState::Stopped);
                return;
            }
            match Running::start(&folder) {
                Ok(running) => break running,
                Err(error) => {
                    tracing::error!(%error, "the database server cannot be started again yet");
                    state.send_replace(ServerState::Restarting { failure: Some(error) });
                    pause = next_pause();
                }
            }
        };
        restarts += 1;
        tracing::info!("the database server is back");
        state.send_replace(state_of(&running, restarts));
    }
    running.stop();
    state.send_replace(ServerState::Stopped);
}
