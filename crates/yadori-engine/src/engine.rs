//! The parts, put together, and the work that they do by themselves.

use crate::availability::Availability;
use crate::background::Background;
use crate::capture::Capture;
use crate::clock::Stamps;
use crate::fetching::Fetching;
use crate::history::History;
use crate::history::snapshot::Snapshots;
use crate::keeping::Keeping;
use crate::keys::Keys;
use crate::links::{LinkConfig, LinkError, Links};
use crate::moving::Moving;
use crate::overview::Overview;
use crate::private_drawers::PrivateDrawers;
use crate::recalling::Recalling;
use crate::retention::Retention;
use crate::rule_book::RuleBook;
use crate::sync::DeviceSync;
use crate::tray::Dealer;
use std::path::Path;
use std::sync::Arc;
use thiserror::Error;
use tokio::sync::mpsc;
use tokio::task::JoinSet;
use yadori_cage::Cage;
use yadori_desktop::{Clipboard, Event, Keyboard, Reading, Shortcoming};
use yadori_store::{QUICK, Store, StoreError};
use yadori_vault::Secret;

/// Why the parts were not put together.
#[derive(Debug, Error)]
pub enum EngineError {
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The other devices cannot be linked with.
    #[error(transparent)]
    Link(#[from] LinkError),
}

/// What the engine works with.
pub struct Setup<'a> {
    /// The records.
    pub store: Store,
    /// Where pictures are decoded.
    pub cage: Cage,
    /// How the private database stands.
    pub server: Availability,
    /// The name of this device, until it is given another.
    pub device: String,
    /// The folder that everything is kept in.
    pub folder: &'a Path,
    /// Snapshots of the index.
    pub snapshots: Snapshots,
    /// Whether the records are encrypted; then everything is kept among them.
    pub encrypted: bool,
    /// The clipboard, if there is one.
    pub clipboard: Option<Arc<dyn Clipboard>>,
    /// The keyboard, if there is one.
    pub keyboard: Option<Arc<dyn Keyboard>>,
    /// What is read of the clipboard.
    pub reading: Arc<Reading>,
    /// Why there is no clipboard, until one is told of.
    pub off: Shortcoming,
    /// How other devices are listened for.
    pub link: LinkConfig,
}

/// The engine.
pub struct Engine {
    /// The clips.
    pub history: Arc<History>,
    /// Content that is elsewhere.
    pub fetching: Arc<Fetching>,
    /// Copies become clips.
    pub capture: Arc<Capture>,
    /// Clips go back on the clipboard.
    pub recalling: Arc<Recalling>,
    /// What a person keeps and writes.
    pub keeping: Arc<Keeping>,
    /// The tray.
    pub dealer: Arc<Dealer>,
    /// Keys that reach us from every program.
    pub keys: Arc<Keys>,
    /// What leaves the history.
    pub retention: Arc<Retention>,
    /// Drawers with a passphrase.
    pub private_drawers: Arc<PrivateDrawers>,
    /// The rules.
    pub rule_book: Arc<RuleBook>,
    /// Export and import.
    pub moving: Arc<Moving>,
    /// The other devices.
    pub sync: Arc<DeviceSync>,
    /// How all of that stands.
    pub overview: Arc<Overview>,
    /// How the private database stands.
    pub server: Availability,
    /// Work beside what is asked for.
    pub background: Background,
    links: Arc<Links>,
}

impl Engine {
    /// Snapshots of the index are sealed with this key from now on; what was sealed with the one before is gone.
    pub fn seal_snapshots_with(&self, key: Option<Secret>) {
        self.history.snapshots.seal_with(key);
    }

    /// Puts the parts together, and brings back what they knew when they ended.
    ///
    /// # Errors
    /// When the records do not answer, or the other devices cannot be listened for.
    pub async fn open(setup: Setup<'_>) -> Result<Self, EngineError> {
        let Setup { store, cage, server, device, folder, snapshots, .. } = setup;
        let Setup { encrypted, clipboard, keyboard, reading, off, link, .. } = setup;
        let stamps = Stamps::after(store.latest_stamp().await?);
        for mut step in store.pending_steps().await? {
            tracing::info!(step = step.number, "what was begun before the service ended is carried on");
            while store.advance(&mut step, stamps.next(), QUICK).await?.is_some() {}
        }
        let background = Background::default();
        let links = Arc::new(Links::new(&link));
        let history = Arc::new(History::open(store, cage, snapshots, (stamps, device)).await?);
        let base = || (history.clone(), links.clone());
        let fetching = Arc::new(Fetching::new(history.clone(), links.clone()));
        let (tells, key_events) = mpsc::unbounded_channel();
        let capture =
            Capture::new(base(), clipboard.clone(), reading.clone(), off, server.clone(), background.clone(), tells);
        let capture = Arc::new(capture);
        let recalling =
            Arc::new(Recalling::new(base(), fetching.clone(), capture.clone(), (clipboard, keyboard.clone())));
        let keeping = Arc::new(Keeping::new(history.clone(), capture.clone(), fetching.clone()));
        let dealer = Dealer::new(history.clone(), capture.clone(), keeping.clone(), recalling.clone());
        let dealer = Arc::new(dealer);
        let keys = Keys::new(
            (history.clone(), capture.clone()),
            keeping.clone(),
            recalling.clone(),
            dealer.clone(),
            (keyboard, key_events),
        );
        let retention = Arc::new(Retention::new(base(), capture.clone(), background.clone()));
        let private_drawers = PrivateDrawers::new(history.clone(), keeping.clone(), retention.clone());
        let rule_book = RuleBook::new(history.clone(), capture.clone(), retention.clone(), reading.clone());
        let moving =
            Moving::new(history.clone(), capture.clone(), keeping.clone(), background.clone(), folder.to_owned());
        let sync = DeviceSync::new(
            base(),
            (folder, encrypted),
            fetching.clone(),
            recalling.clone(),
            retention.clone(),
            background.clone(),
        );
        let sync = Arc::new(sync);
        let home = folder.display().to_string();
        let overview =
            Overview::new(base(), capture.clone(), retention.clone(), sync.clone(), reading, server.clone(), home);
        let engine = Self {
            fetching,
            dealer,
            keys: Arc::new(keys),
            private_drawers: Arc::new(private_drawers),
            rule_book: Arc::new(rule_book),
            moving: Arc::new(moving),
            overview: Arc::new(overview),
            history,
            capture,
            recalling,
            keeping,
            retention,
            sync,
            server,
            background,
            links,
        };
        engine.capture.restore_pause().await?;
        engine.rule_book.restore_rules().await?;
        engine.dealer.restore_tray().await?;
        engine.keys.restore_keys().await?;
        engine.sync.restore_links().await?;
        if let Err(error) = engine.private_drawers.close_all().await {
            tracing::error!(
                error = yadori_core::with_causes(&error),
                "a private drawer that was open cannot be closed"
            );
        }
        Ok(engine)
    }

    /// Begins what the parts do by themselves; it goes on for as long as the set is there.
    pub fn start(&self) -> JoinSet<()> {
        let mut work = JoinSet::new();
        let history = self.history.clone();
        work.spawn(async move { history.ledger.follow().await });
        let history = self.history.clone();
        work.spawn(async move { history.keep_snapshots().await });
        let retention = self.retention.clone();
        work.spawn(async move { retention.forget_when_due().await });
        let capture = self.capture.clone();
        work.spawn(async move { capture.end_pauses().await });
        let private_drawers = self.private_drawers.clone();
        work.spawn(async move { private_drawers.close_when_due().await });
        let dealer = self.dealer.clone();
        work.spawn(async move { dealer.deal_when_pasted().await });
        let keys = self.keys.clone();
        work.spawn(async move { keys.follow_keys().await });
        let sync = self.sync.clone();
        work.spawn(async move { sync.keep_linked().await });
        let sync = self.sync.clone();
        work.spawn(async move { sync.keep_relay().await });
        let sync = self.sync.clone();
        work.spawn(async move { sync.follow_network().await });
        let sync = self.sync.clone();
        work.spawn(async move { sync.look_around().await });
        work
    }

    /// Files what the desktop tells, until the engine ends and all that was read is filed.
    pub async fn capture_all(&self, events: mpsc::Receiver<Event>) {
        self.capture.capture_all(events).await;
    }

    /// The database is back: the other devices are tried to be reached at once.
    pub fn wake_up(&self) {
        self.links.wake_up();
    }

    /// Ends: counts and forgets what is due at the end, and waits for small work to be done.
    pub async fn end(&self) {
        if let Err(error) = self.private_drawers.close_all().await {
            tracing::warn!(error = yadori_core::with_causes(&error), "a private drawer is closed at the next start");
        }
        self.background.ending.cancel();
        if let Err(error) = self.capture.count_captured().await {
            tracing::warn!(%error, "the last copies are missing in the figures");
        }
        if let Err(error) = self.retention.forget_session().await {
            tracing::error!(%error, "the session's history could not be forgotten");
        }
        self.background.tasks.close();
        self.background.tasks.wait().await;
        self.make_snapshot().await;
    }

    /// Writes the index down for the next start, if anything has changed since it was written last.
    pub async fn make_snapshot(&self) {
        self.history.make_snapshot().await;
    }
}
