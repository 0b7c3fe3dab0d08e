//! The database server that the service starts for itself.
//!
//! A private `mariadbd` with its own folder, reachable by a socket in that folder and with a random password, durable at
//! every commit and tuned small. It is a child of a thread that lives as long as the service: the
//! kernel ends the server when that thread ends, even when the service is killed, and the thread
//! starts it again when it dies by itself.
//!
//! * `clients`: MariaDB's own clients, with which a whole database is read and written
//! * `encryption`: what it writes is encrypted
//! * `folder`: what lies where, the first start, and the lock that the server itself holds
//! * `keeper`: the thread, and what it is told
//! * `orphans`: what an earlier service has left behind
//! * `process`: how the server is started, and when it is ready
//! * `rebuild`: the database is built anew with another key
//! * `swap`: a database that was built beside another takes its place
//! * `testing`: for tests, one server for all of a process (feature `testing`)

mod clients;
mod encryption;
mod folder;
mod keeper;
mod orphans;
mod process;
mod rebuild;
mod swap;
#[cfg(feature = "testing")]
pub mod testing;

pub use keeper::PrivateServer;
pub use rebuild::{Rebuilt, rebuild};
pub use swap::recover;

use std::path::Path;
use thiserror::Error;

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
    /// It is about to be started again on purpose, and is back within seconds: whoever wants to ask something waits.
    Paused,
    /// It ended and is being started again.
    Restarting {
        /// Why it could not be started the last time, if it could not.
        failure: Option<ServerError>,
    },
    /// It was told to end, and has ended.
    Stopped,
}
