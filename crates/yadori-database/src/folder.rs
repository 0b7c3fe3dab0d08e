//! The server's folder: its data, its password, its lock.

use super::ServerError;
use super::encryption::{self, KeyInMemory};
use super::{orphans, process, swap};
use rustix::process::Signal;
use std::fs::{self, File, OpenOptions, TryLockError};
use std::os::fd::{AsRawFd, RawFd};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use yadori_vault::{KeyId, Secret};

/// What the first start and the recovery after a crash need.
const NEEDED_MIB: u64 = 48;
/// What an installation takes.
const NEEDED_AT_FIRST_MIB: u64 = 160;

/// How long the server of an earlier run is given to end: it ends by itself when its service did.
const OLD_SERVER_PATIENCE: Duration = Duration::from_secs(3);

/// How long it is given after it was told to end, and after it was forced to.
const TOLD_PATIENCE: Duration = Duration::from_secs(10);

/// The name of the socket.
pub(super) const SOCKET: &str = "server.sock";

/// Longest path of a socket, with the zero at its end (`sun_path` of unix(7)).
const LONGEST_SOCKET: usize = 108;

/// The first file of recorded changes.
pub(super) const FIRST_CHANGES: &str = "changes.000001";

/// A folder that is set up, and locked.
pub(super) struct Folder {
    pub path: PathBuf,
    pub password: String,
    /// What it is encrypted with.
    pub key: Option<Secret>,
    /// Locked; the server inherits it, so the lock lasts as long as the server does.
    pub lock: File,
    /// The folder of the data, which is where the socket is.
    opened: File,
    /// Whether changes are recorded.
    recorded: bool,
}

impl Folder {
    pub fn open(path: &Path, key: Option<&Secret>) -> Result<Self, ServerError> {
        for program in ["mariadbd", "mariadb-install-db"] {
            if process::find(program).is_none() {
                return Err(ServerError::NotInstalled(program));
            }
        }
        private_folder(path)?;
        let lock = lock(path)?;
        private_folder(&temporary(path))?;
        let data = path.join("data");
        let set_up = data.is_dir();
        check_room(path, if set_up { NEEDED_MIB } else { NEEDED_AT_FIRST_MIB })?;
        if set_up {
            check_key(path, key)?;
        }
        let password = if set_up { read_password(path)? } else { set_up_data(path, &data, lock.as_raw_fd(), key)? };
        let opened = File::open(&data).map_err(refused(&data))?;
        let mut folder = Self { path: path.to_owned(), password, key: key.cloned(), lock, opened, recorded: false };
        // What was recorded for a copy that was broken off.
        folder.record_changes(false)?;
        // Whoever connects by the socket is at localhost. Homes of earlier versions know the user at an address of TCP only.
        // Without SUPER, what was forgotten for good could not be written over in the server's log; the others are for a copy
        // that follows what changes.
        let password = &folder.password;
        write_private(
            &folder.init_file(),
            &format!(
                "CREATE USER IF NOT EXISTS 'yadori'@'localhost' IDENTIFIED BY '{password}';\n\
                 GRANT ALL ON yadori.* TO 'yadori'@'localhost';\n\
                 GRANT SUPER, RELOAD, BINLOG MONITOR, REPLICATION SLAVE ON *.* TO 'yadori'@'localhost';\n\
                 DROP USER IF EXISTS 'yadori'@'127.0.0.1';\n"
            ),
        )?;
        Ok(folder)
    }

    /// What the server does first at each start.
    pub fn init_file(&self) -> PathBuf {
        self.path.join("init.sql")
    }

    pub fn data(&self) -> PathBuf {
        self.path.join("data")
    }

    /// Where the server listens.
    pub fn socket(&self) -> PathBuf {
        self.data().join(SOCKET)
    }

    /// The same, by a path that is short enough for a socket, wherever the home is.
    pub fn reachable_socket(&self) -> PathBuf {
        let path = self.socket();
        if path.as_os_str().len() < LONGEST_SOCKET {
            return path;
        }
        PathBuf::from(format!("/proc/self/fd/{}", self.opened.as_raw_fd())).join(SOCKET)
    }

    /// Has the server record changes from its next start on, or not any more; what was recorded goes.
    pub fn record_changes(&mut self, recorded: bool) -> Result<(), ServerError> {
        self.recorded = recorded;
        let changes = self.path.join("changes");
        if changes.exists() {
            swap::wipe(&changes).map_err(refused(&changes))?;
        }
        if recorded { private_folder(&changes) } else { Ok(()) }
    }

    /// Where changes are recorded, if they are.
    pub fn changes(&self) -> Option<PathBuf> {
        self.recorded.then(|| self.path.join("changes"))
    }

    /// Whether there is room for a start.
    pub fn check_room(&self) -> Result<(), ServerError> {
        check_room(&self.path, NEEDED_MIB)
    }

    /// Where the server puts what it needs for a moment.
    pub fn temporary(&self) -> PathBuf {
        temporary(&self.path)
    }

    pub fn log(&self) -> PathBuf {
        self.path.join("server.log")
    }

    pub fn pid_file(&self) -> PathBuf {
        self.path.join("server.pid")
    }
}

/// A folder of its own, and not that of the whole system: clips that are being sorted may lie in it, and every server
/// that starts takes away what it finds there, whoever's it is.
fn temporary(path: &Path) -> PathBuf {
    path.join("tmp")
}

fn refused(path: &Path) -> impl Fn(std::io::Error) -> ServerError {
    let path = path.display().to_string();
    move |error| ServerError::Folder { path: path.clone(), reason: error.to_string() }
}

fn private_folder(path: &Path) -> Result<(), ServerError> {
    yadori_files::private_folder(path).map_err(refused(path))
}

fn lock(path: &Path) -> Result<File, ServerError> {
    let lock_path = path.join("lock");
    let file = OpenOptions::new()
        .create(true)
        .write(true)
        .truncate(false)
        .mode(0o600)
        .open(&lock_path)
        .map_err(refused(&lock_path))?;
    let is_free = |patience: Duration| {
        let deadline = Instant::now() + patience;
        loop {
            match file.try_lock() {
                Ok(()) => return Ok(true),
                Err(TryLockError::Error(error)) => return Err(refused(&lock_path)(error)),
                Err(TryLockError::WouldBlock) if Instant::now() > deadline => return Ok(false),
                Err(TryLockError::WouldBlock) => std::thread::sleep(Duration::from_millis(10)),
            }
        }
    };
    // A server whose service was killed while it started may never have heard of that.
    if is_free(OLD_SERVER_PATIENCE)? {
        return Ok(file);
    }
    for signal in [Signal::TERM, Signal::KILL] {
        let orphans = orphans::of(path);
        orphans.iter().for_each(|orphan| orphan.end(signal));
        if !orphans.is_empty() && is_free(TOLD_PATIENCE)? {
            return Ok(file);
        }
    }
    let pid = fs::read_to_string(path.join("server.pid")).map_or("unknown".into(), |pid| pid.trim().to_owned());
    Err(ServerError::StillHeld { pid, folder: path.display().to_string() })
}

fn free_mib(path: &Path) -> Result<u64, ServerError> {
    let room = rustix::fs::statvfs(path).map_err(|error| refused(path)(error.into()))?;
    Ok(room.f_bavail * room.f_frsize / (1 << 20))
}

fn check_room(path: &Path, needed_mib: u64) -> Result<(), ServerError> {
    let free_mib = free_mib(path)?;
    if free_mib < needed_mib {
        return Err(ServerError::DiskFull { folder: path.display().to_string(), free_mib, needed_mib });
    }
    Ok(())
}

/// Checks that there is room for as much again, and for the server to work with.
pub(crate) fn check_room_beside(path: &Path) -> Result<(), ServerError> {
    fn blocks_below(folder: &Path) -> std::io::Result<u64> {
        let mut blocks = 0;
        for entry in std::fs::read_dir(folder)? {
            let entry = entry?;
            let about = entry.metadata()?;
            blocks += if about.is_dir() { blocks_below(&entry.path())? } else { about.blocks() };
        }
        Ok(blocks)
    }
    // A block is 512 bytes, whatever the file system's are (stat(2)).
    let taken_mib = blocks_below(path).map_err(refused(path))? * 512 / (1 << 20);
    let (free_mib, needed_mib) = (free_mib(path)?, (taken_mib + NEEDED_MIB).max(NEEDED_AT_FIRST_MIB));
    if free_mib < needed_mib {
        return Err(ServerError::NoRoomBeside { folder: path.display().to_string(), free_mib, needed_mib });
    }
    Ok(())
}

/// The key must be that of the folder: with another the server would find nothing but noise, and say that it is damaged.
fn check_key(path: &Path, key: Option<&Secret>) -> Result<(), ServerError> {
    let found = encryption::key_id(path).map_err(refused(path))?;
    let given = key.map(|key| KeyId::of(key).to_string());
    if found == given {
        return Ok(());
    }
    let word = |id: Option<String>| id.unwrap_or_else(|| "none".into());
    Err(ServerError::OtherKey { folder: path.display().to_string(), found: word(found), given: word(given) })
}

fn password_path(path: &Path) -> PathBuf {
    path.join("password")
}

fn read_password(path: &Path) -> Result<String, ServerError> {
    let path = password_path(path);
    Ok(fs::read_to_string(&path).map_err(refused(&path))?.trim().to_owned())
}

fn write_private(path: &Path, text: &str) -> Result<(), ServerError> {
    yadori_files::write_private(path, text.as_bytes()).map_err(refused(path))
}

/// Sets up the data in a folder beside, which takes its place only when all went well. Gives the password.
fn set_up_data(path: &Path, data: &Path, lock: RawFd, key: Option<&Secret>) -> Result<String, ServerError> {
    tracing::info!(folder = %path.display(), "setting up the database; this is done once");
    let mut bytes = [0; 20];
    getrandom::fill(&mut bytes)
        .map_err(|error| ServerError::Folder { path: "the system's randomness".into(), reason: error.to_string() })?;
    let password = data_encoding::HEXLOWER.encode(&bytes);
    write_private(&password_path(path), &password)?;

    let growing = path.join("data.new");
    if growing.exists() {
        fs::remove_dir_all(&growing).map_err(refused(&growing))?;
    }
    let script = path.join("setup.sql");
    write_private(
        &script,
        &format!(
            "FLUSH PRIVILEGES;\n\
             CREATE DATABASE yadori CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n\
             CREATE USER 'yadori'@'localhost' IDENTIFIED BY '{password}';\n\
             GRANT ALL ON yadori.* TO 'yadori'@'localhost';\n"
        ),
    )?;
    let in_memory = key.map(KeyInMemory::new).transpose().map_err(refused(path))?;
    let outcome = process::install(&growing, &temporary(path), &script, (lock, in_memory.as_ref()));
    drop(in_memory);
    let _ = fs::remove_file(&script);
    if let Err(reason) = outcome {
        if process::cannot_encrypt(&reason) {
            return Err(ServerError::NoEncryption);
        }
        check_room(path, NEEDED_AT_FIRST_MIB / 2)?;
        return Err(ServerError::DidNotStart { reason, log: path.join("data.new").display().to_string() });
    }
    fs::set_permissions(&growing, fs::Permissions::from_mode(0o700)).map_err(refused(&growing))?;
    match key {
        Some(key) => encryption::note_key_id(path, key).map_err(refused(path))?,
        None => {
            let _ = fs::remove_file(path.join(encryption::KEY_ID));
        }
    }
    fs::rename(&growing, data).map_err(refused(data))?;
    Ok(password)
}
