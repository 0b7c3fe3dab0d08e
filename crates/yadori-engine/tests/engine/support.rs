//! An engine in this process, with a simulated clipboard and a private database.

use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::Duration;
use tempfile::TempDir;
use tokio::sync::broadcast::error::RecvError;
use tokio::task::{JoinHandle, JoinSet};
use yadori_core::Format;
use yadori_core::rules::DEFAULT_SIZE_LIMIT;
use yadori_database::testing::TestDatabase;
use yadori_desktop::Shortcoming;
use yadori_desktop::simulated::{ProgramCopy, Simulated, connect};
use yadori_desktop::{PATIENCE as READING_PATIENCE, Reading};
use yadori_engine::Engine;
use yadori_engine::availability::Availability;
use yadori_engine::engine::Setup;
use yadori_engine::history::find::PageRequest;
use yadori_engine::history::index::Announcement;
use yadori_engine::history::listing::{Listed, preview};
use yadori_engine::history::snapshot::{SnapshotPlace, Snapshots};
use yadori_engine::links::LinkConfig;
use yadori_store::Store;

/// How long something may take that takes milliseconds, on a machine that is busy otherwise.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// A device: an engine at work, and what it stands on.
pub struct Device {
    pub engine: Arc<Engine>,
    pub clipboard: Simulated,
    name: String,
    /// Whether it makes and takes connections.
    direct: bool,
    work: JoinSet<()>,
    capturing: JoinHandle<()>,
    listen: SocketAddr,
    folder: TempDir,
    database: TestDatabase,
}

impl Device {
    /// Has the database do something behind the engine's back. It may have to wait for what the engine does at the moment, so
    /// the engine needs threads of its own: tests run on several.
    pub fn execute(&self, statement: &str) {
        self.ask(statement);
    }

    /// The same, and what it tells, without headings.
    pub fn ask(&self, statement: &str) -> String {
        self.database.ask(statement)
    }

    /// A device that has nothing in its history.
    pub async fn new(name: &str) -> Self {
        let folder = tempfile::Builder::new().prefix("yadori-engine-").tempdir().expect("a temporary folder");
        Self::set_up(name, folder, TestDatabase::new(), free_address()).await
    }

    /// A device whose database these statements have made.
    pub async fn with_records(name: &str, statements: &str) -> Self {
        let (folder, database) =
            (tempfile::Builder::new().prefix("yadori-engine-").tempdir().unwrap(), TestDatabase::new());
        database.ask(statements);
        Self::set_up(name, folder, database, free_address()).await
    }

    async fn set_up(name: &str, folder: TempDir, database: TestDatabase, listen: SocketAddr) -> Self {
        let (engine, clipboard, work, capturing) = begin(name, &folder, &database, (listen, true)).await;
        Self { engine, clipboard, name: name.to_owned(), direct: true, work, capturing, listen, folder, database }
    }

    /// The tables and columns of its database that meet a condition on `information_schema.columns`.
    pub fn columns(&self, condition: &str) -> Vec<(String, String)> {
        let schema = self.database.name();
        let select = format!(
            "SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = '{schema}' AND {condition}"
        );
        let told = self.database.ask(&select);
        let columns: Vec<(String, String)> = told
            .lines()
            .filter_map(|line| line.split_once('\t'))
            .map(|(table, column)| (table.to_owned(), column.to_owned()))
            .collect();
        assert!(!columns.is_empty(), "{select}");
        columns
    }

    /// Where its snapshots are.
    pub fn snapshot(&self) -> SnapshotPlace {
        snapshots_in(&self.folder)
    }

    /// It ends in good order and is started again.
    pub async fn restart(&mut self) {
        self.off().await;
        self.on().await;
    }

    /// It ends in good order.
    pub async fn off(&mut self) {
        self.engine.background.ending.cancel();
        (&mut self.capturing).await.expect("capturing");
        self.engine.end().await;
        self.let_go().await;
    }

    /// From now on it reaches no other device, and none reaches it.
    pub async fn cut_off(&mut self) {
        self.direct = false;
        self.restart().await;
    }

    /// It reaches the others again, and they reach it.
    pub async fn direct_again(&mut self) {
        self.direct = true;
        self.restart().await;
    }

    /// It breaks off, whatever it was doing, and is started again.
    pub async fn crash(&mut self) {
        self.capturing.abort();
        let _ = (&mut self.capturing).await;
        self.engine.background.ending.cancel();
        self.let_go().await;
        self.on().await;
    }

    async fn let_go(&mut self) {
        self.work.shutdown().await;
        self.engine.background.tasks.close();
        self.engine.background.tasks.wait().await;
        self.engine.history.store.close().await;
    }

    /// It is started again.
    pub async fn on(&mut self) {
        (self.engine, self.clipboard, self.work, self.capturing) =
            begin(&self.name, &self.folder, &self.database, (self.listen, self.direct)).await;
    }

    /// A program copies this text. On return it is in the history.
    pub async fn copy(&self, text: &str) {
        let mut announcements = self.engine.history.ledger.listen();
        let copies = self.copies(text).await;
        let copy = ProgramCopy { formats: vec![Format::plain(text)], ..ProgramCopy::default() };
        self.clipboard.copy(copy).await;
        let told = async {
            loop {
                match announcements.recv().await {
                    Ok(Announcement::Clip(_)) | Err(RecvError::Lagged(_)) if self.copies(text).await > copies => return,
                    Err(RecvError::Closed) => panic!("nothing is announced any more"),
                    _ => {}
                }
            }
        };
        tokio::time::timeout(PATIENCE, told).await.unwrap_or_else(|_| panic!("{text} was not captured"));
    }

    async fn copies(&self, text: &str) -> u32 {
        let listed = self.list().await;
        listed.iter().filter(|clip| clip.record.text == text).map(|clip| clip.record.copies).sum()
    }

    /// The history.
    pub async fn list(&self) -> Vec<Listed> {
        let request = PageRequest { limit: Some(200), ..PageRequest::default() };
        self.engine.history.find(&request).await.expect("the history").clips
    }

    /// The history, as lists show it.
    pub async fn shown(&self) -> Vec<String> {
        self.list().await.iter().map(|clip| preview(&clip.record, None).0).collect()
    }

    /// The clips that meet a query, as lists show them.
    pub async fn found(&self, query: &str) -> Vec<String> {
        let request = PageRequest { query: Some(query.into()), ..PageRequest::default() };
        let page = self.engine.history.find(&request).await.expect("a page");
        page.clips.iter().map(|clip| preview(&clip.record, None).0).collect()
    }

    /// What a program would paste.
    pub fn pasted(&self) -> String {
        self.clipboard
            .paste(yadori_core::format::PLAIN)
            .map(|data| String::from_utf8_lossy(&data).into_owned())
            .unwrap_or_default()
    }

    /// Links this device with another, and waits until both are connected.
    pub async fn joins(&self, other: &Self) {
        let invitation = other.engine.sync.invite_device(None, false).await.expect("an invitation");
        self.engine.sync.join_device(&invitation.addresses[0], &invitation.code).await.expect("to be let in");
    }

    /// Waits until something is so; looks whenever anything changed, and once in a while.
    pub async fn until<F: Future<Output = bool>>(&self, what: &str, is_so: impl Fn() -> F) {
        let mut announcements = self.engine.history.ledger.listen();
        let coming = async {
            while !is_so().await {
                let _ = tokio::time::timeout(Duration::from_millis(200), announcements.recv()).await;
            }
        };
        tokio::time::timeout(PATIENCE, coming).await.unwrap_or_else(|_| panic!("{}: not {what}", self.name));
    }
}

impl Drop for Device {
    fn drop(&mut self) {
        self.engine.background.ending.cancel();
        self.capturing.abort();
    }
}

/// Starts an engine.
async fn begin(
    name: &str,
    folder: &TempDir,
    database: &TestDatabase,
    (listen, direct): (SocketAddr, bool),
) -> (Arc<Engine>, Simulated, JoinSet<()>, JoinHandle<()>) {
    let store = Store::open(database.url(), (name, id_of(name))).await.expect("a database");
    let reading = Reading::new(DEFAULT_SIZE_LIMIT, READING_PATIENCE);
    let (desktop, clipboard) = connect(reading.clone());
    let engine = Engine::open(Setup {
        store,
        cage: yadori_cage::Cage::none(),
        server: Availability::default(),
        device: name.to_owned(),
        folder: folder.path(),
        snapshots: Snapshots::new(Some(snapshots_in(folder))),
        encrypted: true,
        clipboard: Some(desktop.clipboard),
        keyboard: Some(desktop.keyboard),
        reading,
        off: Shortcoming::NotFoundYet,
        link: LinkConfig { listen, find: false, direct },
    });
    let engine = Arc::new(engine.await.expect("an engine"));
    let work = engine.start();
    let captures = engine.clone();
    let capturing = tokio::spawn(async move { captures.capture_all(desktop.events).await });
    (engine, clipboard, work, capturing)
}

fn snapshots_in(folder: &TempDir) -> SnapshotPlace {
    SnapshotPlace { path: folder.path().join("index.snapshot"), key: None }
}

fn id_of(name: &str) -> [u8; 16] {
    let mut id = [0; 16];
    id[..name.len().min(16)].copy_from_slice(&name.as_bytes()[..name.len().min(16)]);
    id
}

/// An address of loopback that nobody else uses: it is listened at again after a restart, when a free port of an address that all
/// share may be somebody's by then.
fn free_address() -> SocketAddr {
    static GIVEN: AtomicU32 = AtomicU32::new(0);
    let (process, given) = (std::process::id(), GIVEN.fetch_add(1, Ordering::Relaxed));
    let place = |number: u32| (number % 250 + 1) as u8;
    // Those of the end-to-end tests, which may run beside, end otherwise.
    let ip = Ipv4Addr::new(127, place(process / 250), place(process), place(given));
    SocketAddr::from((ip, 20_400))
}

/// Names, as commands take them.
pub fn names(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}
