//! A home folder with a database that is set up already.

use crate::process::{built, nothing_runs_in};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use tempfile::TempDir;
use yadori_database::PrivateServer;
use yadori_files::Places;
use yadori_vault::{DataKeys, Keyring, ProtectorKind, Secret};

/// A home folder that goes with its test.
pub struct Home {
    folder: TempDir,
}

impl Home {
    /// A home with a database that is set up, but empty, and an API at any free port.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn new() -> Self {
        Self::of("workshop")
    }

    /// The same for a device of this name.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn of(device: &str) -> Self {
        let home = Self::bare();
        home.configure_as(device, "");
        copy(template(), &home.database());
        home.keep_key();
        home
    }

    /// Another home with the same in it, whose service has ended.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn copied(&self) -> Self {
        let home = Self::bare();
        let entries = std::fs::read_dir(self.path()).expect("a home").map(|entry| entry.expect("a home").file_name());
        for name in entries.filter(|name| name != "config.toml" && name != "run") {
            copy(&self.path().join(&name), &home.path().join(&name));
        }
        home
    }

    /// Where its database is.
    pub fn database(&self) -> PathBuf {
        self.path().join("data/database")
    }

    /// Starts its database, without a service.
    ///
    /// # Panics
    /// If it does not start.
    pub async fn start_database(&self) -> PrivateServer {
        PrivateServer::start(&self.database(), Some(&test_key())).await.unwrap_or_else(|error| panic!("{error}"))
    }

    /// What its database tells, whether a service runs or not.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn ask_database(&self, statement: &str) -> String {
        let ask = || {
            let mut client = Command::new("mariadb");
            client.arg("--no-defaults").arg(format!("--socket={}", self.database().join("data/server.sock").display()));
            client.args(["--batch", "--raw", "--skip-column-names", "-e", statement]).output().expect("the client")
        };
        let mut asked = ask();
        if !asked.status.success() {
            let folder = self.database();
            // On a thread of its own: whoever asks may be within a runtime already.
            let runtime = || tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
            let started = std::thread::spawn(move || {
                let runtime = runtime().expect("a runtime");
                let server = runtime.block_on(PrivateServer::start(&folder, Some(&test_key())));
                (server.unwrap_or_else(|error| panic!("{error}")), runtime)
            });
            let (server, runtime) = started.join().expect("a database");
            asked = ask();
            let stopped = std::thread::spawn(move || runtime.block_on(server.stop()));
            stopped.join().expect("an end");
        }
        assert!(asked.status.success(), "{statement}: {}", String::from_utf8_lossy(&asked.stderr));
        String::from_utf8(asked.stdout).expect("text")
    }

    /// The keys of the database that it was set up with, and a key file that opens them.
    fn keep_key(&self) {
        let places = Places::under(self.path());
        let keys = DataKeys { current: test_key(), next: None };
        let mut secret = [7; 32];
        let text = data_encoding::HEXLOWER.encode(&secret);
        let mut keyring = Keyring::new(&keys.current).expect("random numbers");
        keyring.set(ProtectorKind::KeyFile, &Secret::take(&mut secret), &keys).expect("random numbers");
        yadori_files::write_private(&places.key_file(), text.as_bytes()).expect("a key file");
        yadori_files::write_private(&places.keyring(), &keyring.to_json(&keys.current)).expect("a keyring");
    }

    /// A home whose history is not encrypted, so that what is left of it on the disk can be seen.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn plain() -> Self {
        let home = Self::bare();
        home.configure("encrypt = false");
        home
    }

    /// The files below the home in which one of these is.
    ///
    /// # Panics
    /// If it cannot be read.
    pub fn files_with(&self, words: &[&[u8]]) -> Vec<PathBuf> {
        let mut found = Vec::new();
        look(self.path(), words, &mut found);
        found
    }

    /// A home with nothing in it but a configuration.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn bare() -> Self {
        let folder = tempfile::Builder::new().prefix("yadori-e2e-").tempdir().expect("a temporary folder");
        let home = Self { folder };
        home.configure("");
        home
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    /// Writes the configuration: `before`, then an API at any free port, and links at an address that nobody else has.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn configure(&self, before: &str) {
        self.configure_as("workshop", before);
    }

    fn configure_as(&self, device: &str, before: &str) {
        self.configure_link(device, before, &format!("listen = \"{}\"", own_address()));
    }

    /// Writes the configuration of a device of this name: `before`, an API at any free port, and `link`.
    ///
    /// # Panics
    /// If the disk refuses.
    pub fn configure_link(&self, device: &str, before: &str, link: &str) {
        let text = format!("device = \"{device}\"\n{before}\n[api]\nlisten = \"127.0.0.1:0\"\n[link]\n{link}\n");
        std::fs::write(self.path().join("config.toml"), text).expect("a configuration");
    }
}

impl Drop for Home {
    /// The database server of a service that was killed ends a moment later, and writes into its folder until then.
    fn drop(&mut self) {
        let has_ended = nothing_runs_in(self.path());
        assert!(has_ended || std::thread::panicking(), "something still runs in {}", self.path().display());
    }
}

/// An address of this machine for one device of one test; it is the same after the device was restarted, as addresses
/// mostly are.
fn own_address() -> SocketAddr {
    static GIVEN: AtomicU32 = AtomicU32::new(0);
    let (process, given) = (std::process::id(), GIVEN.fetch_add(1, Ordering::Relaxed));
    let place = |number: u32| (number % 250) as u8 + 1;
    let ip = Ipv4Addr::new(127, place(given), place(process / 250), place(process));
    // Below the ports that the system gives out.
    let port = 20_000 + (given / 250 % 20) * 500 + process / 62_500 % 500;
    SocketAddr::from((ip, port as u16))
}

impl Default for Home {
    fn default() -> Self {
        Self::new()
    }
}

/// Copies a folder as it is.
///
/// # Panics
/// If the disk refuses.
pub fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to.parent().expect("a folder below another")).expect("a folder");
    let done = Command::new("cp").args(["-a", "--sparse=always"]).arg(from).arg(to).status().expect("cp");
    assert!(done.success(), "{} cannot be copied", from.display());
}

fn look(folder: &Path, words: &[&[u8]], found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a folder").flatten() {
        let path = entry.path();
        if path.is_dir() {
            look(&path, words, found);
        } else if let Ok(content) = std::fs::read(&path) {
            found.extend(
                words.iter().filter(|word| memchr::memmem::find(&content, word).is_some()).map(|_| path.clone()),
            );
        }
    }
}

/// What the databases are encrypted with that are set up beside the build.
pub fn test_key() -> Secret {
    Secret::take(&mut [42; 32])
}

/// A database folder that is set up, beside the build: setting one up takes seconds, copying it none.
fn template() -> &'static Path {
    static TEMPLATE: OnceLock<PathBuf> = OnceLock::new();
    TEMPLATE.get_or_init(|| {
        let version = Command::new("mariadbd")
            .arg("--version")
            .env("PATH", "/usr/sbin:/usr/bin:/bin")
            .output()
            .expect("mariadbd");
        let version: String =
            String::from_utf8_lossy(&version.stdout).chars().filter(char::is_ascii_alphanumeric).collect();
        let user = rustix::process::geteuid().as_raw();
        let folder = built("yadorid").with_file_name(format!("e2e-encrypted-database-{user}-{version}"));
        if !folder.is_dir() {
            let growing = folder.with_extension(std::process::id().to_string());
            let setting_up = growing.clone();
            // On a thread of its own: the first to ask may be within a runtime already.
            let set_up = std::thread::spawn(move || {
                let runtime = tokio::runtime::Builder::new_multi_thread()
                    .worker_threads(1)
                    .enable_all()
                    .build()
                    .expect("a runtime");
                runtime.block_on(async {
                    let server = PrivateServer::start(&setting_up, Some(&test_key()))
                        .await
                        .unwrap_or_else(|error| panic!("{error}"));
                    server.stop().await;
                });
            });
            set_up.join().expect("a database that is set up");
            // Another test run may have been quicker.
            if std::fs::rename(&growing, &folder).is_err() {
                let _ = std::fs::remove_dir_all(&growing);
            }
        }
        folder
    })
}
