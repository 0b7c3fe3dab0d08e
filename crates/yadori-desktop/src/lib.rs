//! The system clipboard behind one trait.
//!
//! A backend tells of copies through a channel of [`Event`]s and puts formats on the clipboard through
//! [`Clipboard`]. [`x11`] does so for an X server and [`wayland`] for a compositor; [`simulated`] is a small
//! clipboard in memory, for machines without a display and for tests. All keep one contract, which the
//! same tests check.
//!
//! [`Keyboard`] tells who has the keyboard, pastes, and takes keys from every program.
//!
//! [`signs`] tells a person how the service stands, over D-Bus.
//!
//! * `session`: a connection is made, lost and made again
//! * `commands`: what the service asks of the connection's thread
//! * `portal`: keys by way of the desktop's portal
//! * `wanted`: what to ask an owner for, of what it offers
//! * `contest`: another program that wants the clipboard
//! * `text`: the older encodings

mod commands;
mod contest;
mod keyboard;
mod portal;
mod session;
mod shortcoming;
pub mod signs;
pub mod simulated;
mod text;
mod wanted;
pub mod wayland;
pub mod x11;

pub use keyboard::{Focus, GrabState, Keyboard, Paste, PasteError, WindowId};
pub use shortcoming::Shortcoming;

use session::{Session, SessionContext};

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;
use thiserror::Error;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, oneshot};
use yadori_core::capture::{Copy, Refusal};
use yadori_core::keys::Action;
use yadori_core::{Format, Source};

/// What a desktop tells.
#[derive(Debug)]
pub enum Event {
    /// Something was copied, and has been read.
    Copied(Copied),
    /// What the program that made the latest copy keeps for itself, and the names of all formats in its order.
    Own(Vec<Format>, Vec<String>),
    /// Something was copied that could not be read, or must not be.
    Missed {
        /// Why.
        refusal: Refusal,
        /// Where it was copied.
        source: Source,
    },
    /// There is a connection to a desktop: for the first time, or again.
    Connected {
        /// Which clipboard it is.
        clipboard: ClipboardKind,
        /// What a person should know of it.
        notes: Vec<Shortcoming>,
    },
    /// There is no connection to a desktop, and why. It is looked for again.
    Lost(Shortcoming),
    /// A program has pasted what we put on the clipboard: it has taken the content, and not only looked at what
    /// there is.
    Pasted,
    /// Another program takes the clipboard each time something is put on it, and is let have it.
    Contested(Source),
    /// It has stopped doing so.
    Uncontested,
    /// A key that was grabbed has been pressed.
    Key(Action),
    /// The keyboard has changed, and which keys reach us with it.
    Grabbed(Vec<(Action, GrabState)>),
}

/// A copy that has been read. While it lives, it counts against what may wait to be filed.
#[derive(Debug)]
pub struct Copied {
    /// What was copied.
    pub copy: Copy,
    _waiting: Option<OwnedSemaphorePermit>,
}

impl From<Copy> for Copied {
    /// One that counts against nothing.
    fn from(copy: Copy) -> Self {
        Self { copy, _waiting: None }
    }
}

/// Which clipboard a backend is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ClipboardKind {
    /// That of an X server.
    X11,
    /// That of a Wayland compositor.
    Wayland,
    /// One in memory.
    Simulated,
    /// There is none.
    None,
}

/// A clipboard onto which things can be put.
pub trait Clipboard: Send + Sync + 'static {
    /// Puts these formats on the clipboard, to be pasted for as long as nothing else is copied.
    fn offer(&self, formats: Vec<Format>) -> oneshot::Receiver<Result<(), OfferError>>;

    /// What was copied last is not to be kept on the clipboard when its owner goes.
    fn let_go(&self);

    /// What is on the clipboard, as far as it was read or is offered by us.
    fn held(&self) -> oneshot::Receiver<Option<Vec<Format>>>;
}

/// Why nothing was put on the clipboard.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum OfferError {
    /// Another program took the clipboard at the same moment.
    #[error("another program took the clipboard at the same moment; try again")]
    Taken,
    /// There is no connection to a desktop at the moment.
    #[error("there is no connection to a desktop at the moment")]
    Lost,
}

/// Why there is no clipboard.
#[derive(Debug, Error)]
pub enum ConnectError {
    /// Nothing says where a desktop is.
    #[error("there is no desktop: neither WAYLAND_DISPLAY nor DISPLAY is set")]
    NoDesktop,
    /// No X server, or it does not let us in.
    #[error(transparent)]
    X11(#[from] x11::X11Error),
    /// No compositor.
    #[error(transparent)]
    Wayland(#[from] wayland::WaylandError),
    /// No thread or no pipe could be had.
    #[error("the system refused")]
    System(#[from] std::io::Error),
}

impl ConnectError {
    /// Whether it makes sense to try again.
    fn may_pass(&self) -> bool {
        !matches!(self, Self::NoDesktop)
    }
}

/// Connects to the desktop that is there: the compositor of `WAYLAND_DISPLAY` if it gives access to its
/// clipboard, else the X server of `DISPLAY`. Looks for them again whenever they are gone.
///
/// # Errors
/// When neither variable is set.
pub fn connect(reading: Arc<Reading>) -> Result<Desktop, ConnectError> {
    let open = |context: &SessionContext| -> Result<Box<dyn Session>, ConnectError> {
        let set = |name: &str| std::env::var_os(name).is_some_and(|value| !value.is_empty());
        match (set("WAYLAND_DISPLAY"), set("DISPLAY")) {
            (true, x) => match wayland::open(None, context) {
                Ok(session) if session.unusable().is_none() || !x => Ok(Box::new(session)),
                Ok(without) => Ok(match x11::open(None, context, without.unusable()) {
                    Ok(session) => Box::new(session),
                    Err(_) => Box::new(without),
                }),
                Err(error) if !x => Err(error.into()),
                Err(_) => Ok(Box::new(x11::open(None, context, None)?)),
            },
            (false, true) => Ok(Box::new(x11::open(None, context, None)?)),
            (false, false) => Err(ConnectError::NoDesktop),
        }
    };
    session::keep(Box::new(open), reading, true)
}

/// A desktop to which we are connected.
pub struct Desktop {
    /// Its clipboard.
    pub clipboard: Arc<dyn Clipboard>,
    /// Its keyboard.
    pub keyboard: Arc<dyn Keyboard>,
    /// What it tells.
    pub events: mpsc::Receiver<Event>,
    /// What governs the reading of copies.
    pub reading: Arc<Reading>,
}

/// What governs the reading of copies.
#[derive(Debug)]
pub struct Reading {
    listening: AtomicBool,
    primary: AtomicBool,
    size_limit: AtomicU64,
    /// How long an owner may take for an answer, or for the next piece of one.
    pub patience: Duration,
}

/// How long an owner may take by default: long enough for an office program to make a picture of a
/// large table, short enough that a dead one is not noticed.
pub const PATIENCE: Duration = Duration::from_secs(4);

impl Reading {
    /// Reads copies of at most `size_limit` bytes from owners that answer within `patience`.
    pub fn new(size_limit: u64, patience: Duration) -> Arc<Self> {
        Arc::new(Self {
            listening: AtomicBool::new(true),
            primary: AtomicBool::new(false),
            size_limit: AtomicU64::new(size_limit),
            patience,
        })
    }

    /// Most bytes of one copy.
    pub fn size_limit(&self) -> u64 {
        self.size_limit.load(Ordering::Relaxed)
    }

    /// Sets how many bytes one copy may have.
    pub fn limit_size(&self, bytes: u64) {
        self.size_limit.store(bytes, Ordering::Relaxed);
    }

    /// Sets whether copies are read at all. While they are not, each is told of as missed.
    pub fn listen(&self, listening: bool) {
        self.listening.store(listening, Ordering::Relaxed);
    }

    /// Whether copies are read.
    pub fn is_listening(&self) -> bool {
        self.listening.load(Ordering::Relaxed)
    }

    /// Sets whether text counts as copied when it is merely selected (the primary selection).
    pub fn take_primary(&self, taken: bool) {
        self.primary.store(taken, Ordering::Relaxed);
    }

    /// Whether selected text is wanted.
    pub fn wants_primary(&self) -> bool {
        self.primary.load(Ordering::Relaxed)
    }

    /// Whether selected text is read: that is wanted, and copies are read at all.
    pub fn takes_primary(&self) -> bool {
        self.wants_primary() && self.is_listening()
    }
}

/// How long an owner may take for one of the formats that it keeps for itself: nobody waits for it, but something else may
/// be copied meanwhile.
pub(crate) const OWN_PATIENCE: Duration = Duration::from_secs(2);

/// How long a selection must stay as it is before it is read: it changes all the while it is being made.
pub const SETTLING: Duration = Duration::from_millis(400);

/// Bytes of copies that may wait to be filed; beyond them the desktop waits with reading.
const WAITING_KIB: u32 = 128 * 1024;

/// Events that may wait.
const WAITING_EVENTS: usize = 4096;

/// Where a backend puts its events.
#[derive(Clone)]
pub(crate) struct EventSender {
    events: mpsc::Sender<Event>,
    room: Arc<Semaphore>,
}

impl EventSender {
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

    /// Tells of something before anybody listens.
    pub(crate) fn tell_at_once(&self, event: Event) {
        let _ = self.events.try_send(event);
    }

    /// Tells of anything else. When nobody listens any more, the service is ending.
    pub(crate) async fn tell(&self, event: Event) {
        let _ = self.events.send(event).await;
    }
}
