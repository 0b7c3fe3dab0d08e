//! The desktop, which stays when the history is locked: what it tells goes to the engine while there is one.

use crate::vault::{State, Vault};
use parking_lot::Mutex;
use std::sync::Arc;
use tokio::sync::{mpsc, watch};
use tokio::task::JoinHandle;
use yadori_desktop::Event;
use yadori_files::Places;

mod inbox;

/// How the desktop stands, and where its events go.
#[derive(Clone)]
pub(crate) struct Desk(Arc<Shared>);

struct Shared {
    /// Taken when they are led on.
    events: Mutex<Option<mpsc::Receiver<Event>>>,
    vault: Arc<Vault>,
    inbox: inbox::Inbox,
    to_engine: watch::Sender<Option<mpsc::Sender<Event>>>,
    connected: watch::Sender<bool>,
    /// What an engine needs to be told that was not there.
    standing: Mutex<Standing>,
}

#[derive(Default)]
struct Standing {
    connected: Option<Event>,
    contested: Option<Event>,
}

impl Desk {
    /// The desktop whose events these are. The first thing that one tells is whether it is there.
    pub async fn new(mut events: mpsc::Receiver<Event>, vault: Arc<Vault>, places: &Places) -> Self {
        let first = events.recv().await;
        let desk = Self(Arc::new(Shared {
            events: Mutex::new(Some(events)),
            vault,
            inbox: inbox::Inbox::new(places),
            to_engine: watch::Sender::new(None),
            connected: watch::Sender::new(false),
            standing: Mutex::default(),
        }));
        if let Some(first) = first {
            desk.note(&first);
        }
        desk
    }

    /// Whether there is a connection to the desktop.
    pub fn connected(&self) -> watch::Receiver<bool> {
        self.0.connected.subscribe()
    }

    /// How the desktop stands, as it would have told it.
    pub fn standing(&self) -> Vec<Event> {
        let standing = self.0.standing.lock();
        [&standing.connected, &standing.contested].into_iter().flatten().filter_map(standing_event).collect()
    }

    /// Copies that were made while the history was locked. They are gone from the disk when `filed` is called.
    pub fn waiting(&self) -> Vec<Event> {
        let Some(keys) = self.0.vault.keys() else { return Vec::new() };
        self.0.inbox.open(&keys.inbox()).into_iter().map(|copy| Event::Copied(copy.into())).collect()
    }

    /// What had waited is filed.
    pub fn filed(&self) {
        self.0.inbox.clear();
    }

    /// From now on events go there, or nowhere.
    pub fn lead_to(&self, engine: Option<mpsc::Sender<Event>>) {
        self.0.to_engine.send_replace(engine);
    }

    fn note(&self, event: &Event) {
        let mut standing = self.0.standing.lock();
        match event {
            Event::Connected { .. } | Event::Lost(_) => {
                standing.connected = standing_event(event);
                self.0.connected.send_replace(matches!(event, Event::Connected { .. }));
            }
            Event::Contested(_) => standing.contested = standing_event(event),
            Event::Uncontested => standing.contested = None,
            _ => {}
        }
    }

    /// Leads the events on, from now on.
    pub fn start(self) -> DeskRunning {
        let desk = self.clone();
        let task = tokio::spawn(async move {
            let Some(mut events) = desk.0.events.lock().take() else { return };
            while let Some(event) = events.recv().await {
                desk.note(&event);
                desk.lead(event).await;
            }
        });
        DeskRunning { desk: self, task }
    }

    async fn lead(&self, event: Event) {
        if matches!(event, Event::Copied(_) | Event::Key(_) | Event::Pasted) {
            self.0.vault.note_use();
        }
        let (mut engines, mut state) = (self.0.to_engine.subscribe(), self.0.vault.follow());
        let mut event = event;
        loop {
            let engine = engines.borrow_and_update().clone();
            let is_locked = *state.borrow_and_update() == State::Locked;
            match engine {
                Some(engine) => match engine.send(event).await {
                    Ok(()) => return,
                    // It ended before it took it.
                    Err(mpsc::error::SendError(back)) => event = back,
                },
                None if is_locked => break,
                None => {}
            }
            // It is being opened or locked: what was copied waits until it is known which.
            tokio::select! {
                _ = engines.changed() => {}
                _ = state.changed() => {}
            }
        }
        if let (Event::Copied(copied), Some(inbox)) = (event, self.0.vault.inbox()) {
            self.0.inbox.seal(inbox, &copied.copy);
        }
    }
}

/// A desktop whose events are led on.
pub(crate) struct DeskRunning {
    desk: Desk,
    task: JoinHandle<()>,
}

impl DeskRunning {
    pub fn desk(&self) -> &Desk {
        &self.desk
    }

    pub async fn end(self) {
        self.task.abort();
        let _ = self.task.await;
    }
}

/// The same event once more, if it is one of how the desktop stands.
fn standing_event(event: &Event) -> Option<Event> {
    match event {
        Event::Connected { clipboard, notes } => Some(Event::Connected { clipboard: *clipboard, notes: notes.clone() }),
        Event::Lost(reason) => Some(Event::Lost(reason.clone())),
        Event::Contested(source) => Some(Event::Contested(source.clone())),
        _ => None,
    }
}
