//! Starting and ending `mariadbd`.

use super::folder::Folder;
use super::{Order, ServerError};
use rustix::process::{Pid, Signal};
use std::fs;
use std::io::Read;
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::os::fd::AsRawFd;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::{Arc, Mutex, mpsc};
use std::time::{Duration, Instant};

/// How long a start may take; recovery after a crash is part of it.
const START_PATIENCE: Duration = Duration::from_secs(60);
/// How long an end may take before it is forced.
const STOP_PATIENCE: Duration = Duration::from_secs(20);

/// How often a start is tried when its port is taken at the last moment.
const TRIES: u32 = 5;
/// What the server says then.
const PORT_TAKEN: &str = "Address already in use";

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

/// Installs an empty database in `data`, with what is needed for a moment in `temporary`, and runs `script` in it. The
/// error is what the tool said.
pub(super) fn install(data: &Path, temporary: &Path, script: &Path) -> Result<(), String> {
    let mut command = Command::new(find("mariadb-install-db").unwrap_or_default());
    command.arg("--no-defaults").arg(format!("--datadir={}", data.display()));
    if is_root() {
        command.arg("--user=root");
    }
    command
        .args([
            "--auth-root-authentication-method=socket",
            "--skip-test-db",
            "--skip-name-resolve",
            "--innodb-log-file-size=8M",
        ])
        .arg(format!("--auth-root-socket-user={}", user()))
        .arg(format!("--tmpdir={}", temporary.display()))
        .arg(format!("--extra-file={}", script.display()))
        .stdin(Stdio::null());
    let output = command.output().map_err(|error| error.to_string())?;
    if output.status.success() {
        return Ok(());
    }
    let said = [output.stdout, output.stderr].concat();
    Err(last_lines(&String::from_utf8_lossy(&said)))
}

fn last_lines(text: &str) -> String {
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).collect();
    lines[lines.len().saturating_sub(6)..].join("\n")
}

/// A server that answers.
pub(super) struct Running {
    child: Arc<Mutex<Child>>,
    pid: u32,
    port: u16,
}

impl Running {
    /// Starts the server of the folder, at this port if it is free. Must be called on a thread that
    /// stays: the server ends with it.
    pub fn start(folder: &Folder, port: Option<u16>) -> Result<Self, ServerError> {
        // Between finding a free port and the server's taking it, another program may be quicker.
        for _ in 1..TRIES {
            match Self::start_at(folder, port) {
                Err(ServerError::DidNotStart { reason, .. }) if reason.contains(PORT_TAKEN) => {}
                other => return other,
            }
        }
        Self::start_at(folder, None)
    }

    fn start_at(folder: &Folder, port: Option<u16>) -> Result<Self, ServerError> {
        let log = folder.log();
        let failed = |reason: String| ServerError::DidNotStart { reason, log: log.display().to_string() };
        let port = free_port(port).map_err(|error| failed(error.to_string()))?;
        let _ = fs::remove_file(&log);
        let _ = fs::remove_file(folder.pid_file());
        let mut child = command(folder, port).spawn().map_err(|error| failed(error.to_string()))?;
        let deadline = Instant::now() + START_PATIENCE;
        loop {
            if let Ok(Some(status)) = child.try_wait() {
                let said = fs::read_to_string(&log).unwrap_or_default();
                return Err(failed(format!("{status}\n{}", errors(&said))));
            }
            if has_written_its_pid(folder, &child) && greets(port) {
                break;
            }
            if Instant::now() > deadline {
                let _ = child.kill();
                let _ = child.wait();
                return Err(failed(format!("no answer within {} seconds", START_PATIENCE.as_secs())));
            }
            // There is no event to wait for: the port opens when the server is ready.
            std::thread::sleep(Duration::from_millis(5));
        }
        Ok(Self { pid: child.id(), child: Arc::new(Mutex::new(child)), port })
    }

    pub fn port(&self) -> u16 {
        self.port
    }

    pub fn pid(&self) -> u32 {
        self.pid
    }

    pub fn url(&self, folder: &Folder) -> String {
        format!("mysql://yadori:{}@127.0.0.1:{}/yadori?ssl-mode=disabled", folder.password, self.port)
    }

    /// Sends [`Order::Ended`] when the server ends.
    pub fn tell_when_ended(&self, orders: mpsc::Sender<Order>) {
        let pid = Pid::from_raw(self.pid as i32);
        let waiting = std::thread::Builder::new().name("database-end".into()).spawn(move || {
            // Waits without reaping, so that the process id stays ours until the keeper has looked.
            use rustix::process::{WaitId, WaitIdOptions, waitid};
            if let Some(pid) = pid {
                let _ = waitid(WaitId::Pid(pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT);
            }
            let _ = orders.send(Order::Ended);
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

fn command(folder: &Folder, port: u16) -> Command {
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
        .arg(format!("--port={port}"))
        .args([
            "--bind-address=127.0.0.1",
            "--skip-name-resolve",
            "--skip-log-bin",
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
            "--innodb-log-file-size=8M",
            "--innodb-log-buffer-size=2M",
            "--key-buffer-size=64K",
            "--aria-pagecache-buffer-size=1M",
            "--max-connections=20",
            "--table-open-cache=100",
            "--query-cache-type=0",
            "--query-cache-size=0",
            "--max-allowed-packet=64M",
        ])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    let lock = folder.lock.as_raw_fd();
    let parent = std::process::id();
    // SAFETY: between fork and exec only async-signal-safe calls are made, without allocation.
    unsafe {
        command.pre_exec(move || {
            rustix::process::set_parent_process_death_signal(Some(Signal::TERM))?;
            // The parent may have gone before the line above.
            if rustix::process::getppid().map(|pid| pid.as_raw_nonzero().get() as u32) != Some(parent) {
                return Err(std::io::ErrorKind::BrokenPipe.into());
            }
            let lock = rustix::fd::BorrowedFd::borrow_raw(lock);
            rustix::io::fcntl_setfd(lock, rustix::io::FdFlags::empty())?;
            Ok(())
        });
    }
    command
}

/// `wanted` if it is free, else a port that is.
fn free_port(wanted: Option<u16>) -> std::io::Result<u16> {
    let bind = |port| TcpListener::bind((Ipv4Addr::LOCALHOST, port));
    let listener = wanted.map_or_else(|| bind(0), |port| bind(port).or_else(|_| bind(0)))?;
    Ok(listener.local_addr()?.port())
}

/// Whether the server has come so far as to write its process id, after taking its port: until then,
/// another server might answer there.
fn has_written_its_pid(folder: &Folder, child: &Child) -> bool {
    fs::read_to_string(folder.pid_file()).is_ok_and(|pid| pid.trim() == child.id().to_string())
}

/// Whether a server greets at this port: it speaks first.
fn greets(port: u16) -> bool {
    let greet = || -> std::io::Result<bool> {
        let mut stream = TcpStream::connect_timeout(&(Ipv4Addr::LOCALHOST, port).into(), Duration::from_millis(500))?;
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
