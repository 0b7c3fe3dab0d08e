//! Starting and ending `mariadbd`.

use super::ServerError;
use super::encryption::KeyInMemory;
use super::folder::{FIRST_CHANGES, Folder};
use super::keeper::ServerCommand;
use rustix::process::{Pid, Signal};
use std::fs;
use std::io::Read;
use std::os::fd::{AsRawFd, RawFd};
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex, mpsc};
use std::time::{Duration, Instant};

/// How long a start may take; recovery after a crash is part of it.
const START_PATIENCE: Duration = Duration::from_secs(60);
/// How long an end may take before it is forced.
const STOP_PATIENCE: Duration = Duration::from_secs(20);

/// The path of a program. Debian keeps servers where ordinary users do not look.
pub(super) fn find(program: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let folders = std::env::split_paths(&path).chain(["/usr/sbin".into(), "/usr/bin".into()]);
    folders.map(|folder| folder.join(program)).find(|path| path.is_file())
}

fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The name of the operating system's user.
fn user() -> String {
    let id = Command::new("id").arg("-un").output();
    id.ok()
        .and_then(|output| String::from_utf8(output.stdout).ok())
        .map_or("root".into(), |name| name.trim().to_owned())
}

/// Size of the redo log. A new device that takes in 10,000 clips with 200 pictures writes 13 MB to it; in a smaller one, the server
/// must write pages to the tables meanwhile to make room.
const LOG: &str = "--innodb-log-file-size=16M";

/// Installs an empty database in `data`, with what is needed for a moment in `temporary`, and runs `script` in it. The
/// tool inherits the lock of the folder, so that a later start sees that it is still at work. The error is what the tool
/// said.
pub(super) fn install(
    data: &Path,
    temporary: &Path,
    script: &Path,
    (lock, key): (RawFd, Option<&KeyInMemory>),
) -> Result<(), String> {
    let mut command = Command::new(find("mariadb-install-db").unwrap_or_default());
    command.arg("--no-defaults").arg(format!("--datadir={}", data.display()));
    if is_root() {
        command.arg("--user=root");
    }
    command
        .args(["--auth-root-authentication-method=socket", "--skip-test-db", "--skip-name-resolve", LOG])
        .arg(format!("--auth-root-socket-user={}", user()))
        .arg(format!("--tmpdir={}", temporary.display()))
        .arg(format!("--extra-file={}", script.display()))
        .args(key.map(KeyInMemory::options).into_iter().flatten())
        .stdin(Stdio::null());
    ends_with_us(&mut command, &[Some(lock), key.map(KeyInMemory::descriptor)], Signal::KILL);
    let output = command.output().map_err(|error| error.to_string())?;
    if output.status.success() {
        return Ok(());
    }
    let said = [output.stdout, output.stderr].concat();
    Err(last_lines(&String::from_utf8_lossy(&said)))
}

/// Whether a server that did not start says that it has no plugin for encryption.
pub(super) fn cannot_encrypt(said: &str) -> bool {
    said.lines().any(|line| {
        line.contains("file_key_management") && (line.contains("open shared library") || line.contains("Can't open"))
    })
}

fn last_lines(text: &str) -> String {
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).collect();
    lines[lines.len().saturating_sub(6)..].join("\n")
}

/// A server that answers.
pub(super) struct Running {
    child: Arc<Mutex<Child>>,
    pid: u32,
}

impl Running {
    /// Starts the server of the folder. Must be called on a thread that stays: the server ends with it.
    pub fn start(folder: &Folder) -> Result<Self, ServerError> {
        let log = folder.log();
        let failed = |reason: String| {
            if cannot_encrypt(&reason) {
                return ServerError::NoEncryption;
            }
            // A disk that is full is the most common reason, and the server does not always say so.
            folder.check_room().err().unwrap_or(ServerError::DidNotStart { reason, log: log.display().to_string() })
        };
        for left in [log.clone(), folder.pid_file(), folder.socket()] {
            let _ = fs::remove_file(left);
        }
        let key = folder.key.as_ref().map(KeyInMemory::new).transpose().map_err(|error| failed(error.to_string()))?;
        let mut child = command(folder, key.as_ref()).spawn().map_err(|error| failed(error.to_string()))?;
        let deadline = Instant::now() + START_PATIENCE;
        loop {
            if let Ok(Some(status)) = child.try_wait() {
                let said = fs::read_to_string(&log).unwrap_or_default();
                return Err(failed(format!("{status}\n{}", errors(&said))));
            }
            // Its plugin has read the key by then; what it inherited is wiped.
            if greets(&folder.reachable_socket()) {
                drop(key);
                break;
            }
            if Instant::now() > deadline {
                let _ = child.kill();
                let _ = child.wait();
                return Err(failed(format!("no answer within {} seconds", START_PATIENCE.as_secs())));
            }
            // There is no event to wait for: the socket opens when the server is ready.
            std::thread::sleep(Duration::from_millis(5));
        }
        Ok(Self { pid: child.id(), child: Arc::new(Mutex::new(child)) })
    }

    pub fn pid(&self) -> u32 {
        self.pid
    }

    pub fn url(&self, folder: &Folder) -> String {
        let socket = folder.reachable_socket();
        let mut url = url::Url::parse("mysql://yadori@localhost/yadori?ssl-mode=disabled").expect("a constant URL");
        let _ = url.set_password(Some(&folder.password));
        url.query_pairs_mut().append_pair("socket", &socket.to_string_lossy());
        url.into()
    }

    /// Sends [`ServerCommand::Ended`] when the server ends.
    pub fn tell_when_ended(&self, orders: mpsc::Sender<ServerCommand>) {
        let id = self.pid;
        let pid = Pid::from_raw(id as i32);
        let waiting = std::thread::Builder::new().name("database-end".into()).spawn(move || {
            // Waits without reaping, so that the process id stays ours until the keeper has looked.
            use rustix::process::{WaitId, WaitIdOptions, waitid};
            if let Some(pid) = pid {
                let _ = waitid(WaitId::Pid(pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT);
            }
            let _ = orders.send(ServerCommand::Ended(id));
        });
        if let Err(error) = waiting {
            tracing::error!(%error, "nobody watches over the database server");
        }
    }

    /// How the server ended.
    pub fn outcome(&self) -> String {
        self.wait().map_or_else(|| "unknown".into(), |status| status.to_string())
    }

    fn wait(&self) -> Option<ExitStatus> {
        self.child.lock().ok()?.wait().ok()
    }

    /// Ends the server at once: from here on nothing is written.
    pub fn kill(&self) {
        let Ok(mut child) = self.child.lock() else { return };
        let _ = child.kill();
        let _ = child.wait();
    }

    /// Ends the server in good order and waits for it.
    pub fn stop(&self) {
        let Ok(mut child) = self.child.lock() else { return };
        if let Some(pid) = Pid::from_raw(self.pid as i32) {
            let _ = rustix::process::kill_process(pid, Signal::TERM);
        }
        let deadline = Instant::now() + STOP_PATIENCE;
        while let Ok(None) = child.try_wait() {
            if Instant::now() > deadline {
                tracing::warn!("the database server does not end; forcing it");
                let _ = child.kill();
            }
            std::thread::sleep(Duration::from_millis(5));
        }
    }
}

/// Lets a program end when the thread ends that starts it, and inherit these descriptors.
fn ends_with_us(command: &mut Command, inherited: &[Option<RawFd>; 2], signal: Signal) {
    let parent = std::process::id();
    let inherited = *inherited;
    // SAFETY: between fork and exec only async-signal-safe calls are made, without allocation.
    unsafe {
        command.pre_exec(move || {
            rustix::process::set_parent_process_death_signal(Some(signal))?;
            // The parent may have gone before the line above.
            if rustix::process::getppid().map(|pid| pid.as_raw_nonzero().get() as u32) != Some(parent) {
                return Err(std::io::ErrorKind::BrokenPipe.into());
            }
            for descriptor in inherited.into_iter().flatten() {
                let descriptor = rustix::fd::BorrowedFd::borrow_raw(descriptor);
                rustix::io::fcntl_setfd(descriptor, rustix::io::FdFlags::empty())?;
            }
            Ok(())
        });
    }
}

fn command(folder: &Folder, key: Option<&KeyInMemory>) -> Command {
    let mut command = Command::new(find("mariadbd").unwrap_or_default());
    command.arg("--no-defaults");
    if is_root() {
        command.arg("--user=root");
    }
    command
        .arg(format!("--datadir={}", folder.data().display()))
        // Relative to the data, since the path of a socket may have 107 bytes only.
        .arg("--socket=server.sock")
        .arg(format!("--tmpdir={}", folder.temporary().display()))
        .arg(format!("--pid-file={}", folder.pid_file().display()))
        .arg(format!("--log-error={}", folder.log().display()))
        .arg(format!("--init-file={}", folder.init_file().display()))
        .args([
            // Nobody but this user can reach the socket, whose folder is private; a port, every user of this machine could.
            "--skip-networking",
            "--skip-name-resolve",
            "--local-infile=0",
            "--symbolic-links=0",
            "--performance-schema=OFF",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_bin",
            "--lc-messages-dir=/usr/share/mysql",
            // Durable at every commit.
            "--innodb-flush-log-at-trx-commit=1",
            // What is deleted is written over, in the tables.
            "--innodb-immediate-scrub-data-uncompressed=ON",
            // Small.
            "--innodb-buffer-pool-size=48M",
            "--innodb-buffer-pool-chunk-size=2M",
            LOG,
            "--innodb-log-buffer-size=2M",
            "--key-buffer-size=64K",
            "--aria-pagecache-buffer-size=1M",
            "--max-connections=20",
            "--table-open-cache=100",
            "--query-cache-type=0",
            "--query-cache-size=0",
            "--max-allowed-packet=64M",
        ])
        .args(changes(folder))
        .args(key.map(KeyInMemory::options).into_iter().flatten())
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    ends_with_us(&mut command, &[Some(folder.lock.as_raw_fd()), key.map(KeyInMemory::descriptor)], Signal::TERM);
    command
}

/// What has a server record what changes, if that is wanted.
fn changes(folder: &Folder) -> Vec<String> {
    let Some(changes) = folder.changes() else { return vec!["--skip-log-bin".into()] };
    let first = changes.join(FIRST_CHANGES);
    vec![
        // The server counts on from this name.
        format!("--log-bin={}", first.with_extension("").display()),
        // What became of each row, and not the statement: that may find something else in a copy.
        "--binlog-format=ROW".into(),
        "--server-id=1".into(),
        format!("--encrypt-binlog={}", if folder.key.is_some() { "ON" } else { "OFF" }),
        // A copy that was not finished is given up when the computer fails: there is nothing to be recovered from these.
        "--sync-binlog=0".into(),
    ]
}

/// Whether a server greets at this socket: it speaks first.
fn greets(socket: &Path) -> bool {
    let greet = || -> std::io::Result<bool> {
        let mut stream = UnixStream::connect(socket)?;
        stream.set_read_timeout(Some(Duration::from_secs(2)))?;
        Ok(stream.read(&mut [0])? == 1)
    };
    greet().unwrap_or(false)
}

/// The errors in a server's log, or its last lines.
fn errors(log: &str) -> String {
    let errors: Vec<&str> = log.lines().filter(|line| line.contains("[ERROR]")).collect();
    if errors.is_empty() { last_lines(log) } else { errors[..errors.len().min(4)].join("\n") }
}
