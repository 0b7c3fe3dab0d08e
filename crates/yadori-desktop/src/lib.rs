//! The system clipboard behind one trait.
//!
//! A backend tells of copies through a channel of [`Event`]s and puts formats on the clipboard through
//! [`Clipboard`]. [`x11`] does so for a real X server; [`simulated`] is a small clipboard in memory, for
//! machines without a display and for tests. Both keep one contract, which the same tests check.

pub mod simulated;
pub mod x11;

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use thiserror::Error;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, oneshot};
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source};

/// What a desktop tells.
#[derive(Debug)]
pub enum Event {
    /// Something was copied, and has been read.
    Copied(Copied),
    /// Something was copied that could not be read, or must not be.
    Missed {
        /// Why.
        refusal: Refusal,
        /// Where it was copied.
        source: Source,
    },
    /// The connection to the desktop is gone; no more events come.
    Lost(String),
}

/// A copy that has been read. While it lives, it counts against what may wait to be filed.
#[derive(Debug)]
pub struct Copied {
    /// What was copied.
    pub copy: Copy,
    _waiting: Option<OwnedSemaphorePermit>,
}

/// A clipboard onto which things can be put.
pub trait Clipboard: Send + Sync + 'static {
    /// What it is called: `x11` or `simulated`.
    fn name(&self) -> &'static str;

    /// Puts these formats on the clipboard, to be pasted for as long as nothing else is copied.
    fn offer(&self, formats: Vec<Format>) -> oneshot::Receiver<Result<(), OfferError>>;
}

/// Why nothing was put on the clipboard.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum OfferError {
    /// Another program took the clipboard at the same moment.
    #[error("another program took the clipboard at the same moment; try again")]
    Taken,
    /// The connection to the desktop is gone.
    #[error("the connection to the desktop is gone")]
    Lost,
}

/// A desktop to which we are connected.
pub struct Desktop {
    /// Its clipboard.
    pub clipboard: Arc<dyn Clipboard>,
    /// What it tells.
    pub events: mpsc::Receiver<Event>,
    /// What governs the reading of copies.
    pub reading: Arc<Reading>,
}

/// What governs the reading of copies.
#[derive(Debug)]
pub struct Reading {
    listening: AtomicBool,
    /// Most bytes of one copy.
    pub size_limit: u64,
    /// How long an owner may take for an answer, or for the next piece of one.
    pub patience: Duration,
}

/// How long an owner may take by default: long enough for an office program to make a picture of a
/// large table, short enough that a dead one is not noticed.
pub const PATIENCE: Duration = Duration::from_secs(4);

impl Reading {
    /// Reads copies of at most `size_limit` bytes from owners that answer within `patience`.
    pub fn new(size_limit: u64, patience: Duration) -> Arc<Self> {
        Arc::new(Self { listening: AtomicBool::new(true), size_limit, patience })
    }

    /// Sets whether copies are read at all. While they are not, each is told of as missed.
    pub fn listen(&self, listening: bool) {
        self.listening.store(listening, Ordering::Relaxed);
    }

    /// Whether copies are read.
    pub fn is_listening(&self) -> bool {
        self.listening.load(Ordering::Relaxed)
    }
}

/// Bytes of copies that may wait to be filed; beyond them the desktop waits with reading.
const WAITING_KIB: u32 = 128 * 1024;

/// Events that may wait.
const WAITING_EVENTS: usize = 4096;

/// Where a backend puts its events.
#[derive(Clone)]
pub(crate) struct Teller {
    events: mpsc::Sender<Event>,
    room: Arc<Semaphore>,
}

impl Teller {
    pub(crate) fn new() -> (Self, mpsc::Receiver<Event>) {
        let (events, received) = mpsc::channel(WAITING_EVENTS);
        (Self { events, room: Arc::new(Semaphore::new(WAITING_KIB as usize)) }, received)
    }

    /// Tells of a copy. Waits while too much is waiting to be filed.
    pub(crate) async fn copied(&self, copy: Copy) {
        let bytes: usize = copy.formats.iter().map(|format| format.data.len()).sum();
        let kib = u32::try_from(bytes / 1024).unwrap_or(u32::MAX).min(WAITING_KIB);
        let waiting = self.room.clone().acquire_many_owned(kib).await.ok();
        self.tell(Event::Copied(Copied { copy, _waiting: waiting })).await;
    }

    /// Tells of anything else. When nobody listens any more, the service is ending.
    pub(crate) async fn tell(&self, event: Event) {
        let _ = self.events.send(event).await;
    }
}
