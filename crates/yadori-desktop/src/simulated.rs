//! A small clipboard in memory, for machines without a display and for tests.
//!
//! It has one owner at a time, as a real one has: a program, or the service. The other side of it, the
//! programs that copy and paste, is [`Simulated`].

use crate::{
    Clipboard, ClipboardKind, Desktop, Event, EventSender, Focus, GrabState, Keyboard, OfferError, Paste, PasteError,
    Reading, WindowId,
};
use bytes::Bytes;
use parking_lot::Mutex;
use std::sync::Arc;
use tokio::sync::oneshot;
use yadori_core::capture::{Copy, Refusal};
use yadori_core::keys::{Action, Chord};
use yadori_core::{Format, Source, format};

/// The programs' side of a simulated clipboard.
#[derive(Clone)]
pub struct Simulated {
    state: Arc<Mutex<Owner>>,
    keyboard: Arc<Mutex<SimulatedKeyboard>>,
    reading: Arc<Reading>,
    sender: EventSender,
}

/// The keyboard, and what was pasted with it.
#[derive(Default)]
struct SimulatedKeyboard {
    keys: Vec<(Action, Chord)>,
    focus: Option<WindowId>,
    pasted: Vec<String>,
}

#[derive(Default)]
enum Owner {
    #[default]
    Nobody,
    Program {
        formats: Vec<Format>,
        /// What the service has read of it, to be offered on when the program exits.
        read: Option<Vec<Format>>,
    },
    Service(Vec<Format>),
}

/// What a simulated program does when it copies.
#[derive(Clone, Debug, Default)]
pub struct ProgramCopy {
    /// The formats that it offers.
    pub formats: Vec<Format>,
    /// Where it copies.
    pub source: Source,
    /// Whether it marks the copy as secret.
    pub secret: bool,
    /// Whether it owns the clipboard but never answers.
    pub silent: bool,
}

/// A simulated desktop, and the programs' side of it.
pub fn connect(reading: Arc<Reading>) -> (Desktop, Simulated) {
    let (sender, events) = EventSender::new();
    sender.tell_at_once(Event::Connected { clipboard: ClipboardKind::Simulated, notes: Vec::new() });
    let programs = Simulated { state: Arc::default(), keyboard: Arc::default(), reading: reading.clone(), sender };
    let both = Arc::new(programs.clone());
    let desktop = Desktop { clipboard: both.clone(), keyboard: both, events, reading };
    (desktop, programs)
}

impl Simulated {
    fn owner(&self) -> parking_lot::MutexGuard<'_, Owner> {
        self.state.lock()
    }

    /// A program copies something.
    pub async fn copy(&self, copy: ProgramCopy) {
        let ProgramCopy { formats, source, secret, silent } = copy;
        *self.owner() = Owner::Program { formats: if silent { Vec::new() } else { formats.clone() }, read: None };
        let refusal = if !self.reading.is_listening() {
            Some(Refusal::Paused)
        } else if silent {
            Some(Refusal::Undelivered("it never answered".into()))
        } else if secret {
            Some(Refusal::Secret)
        } else {
            None
        };
        if let Some(refusal) = refusal {
            self.sender.tell(Event::Missed { refusal, source }).await;
            return;
        }
        let offered: Vec<&str> = formats.iter().map(|format| format.mime.as_str()).collect();
        let take = format::useful(&offered);
        let useful: Vec<Format> =
            formats.iter().filter(|format| take.contains(&format.mime.as_str())).cloned().collect();
        let size: u64 = useful.iter().map(|format| format.data.len() as u64).sum();
        let refusal = if useful.is_empty() {
            Some(Refusal::NoUsefulFormat)
        } else if size > self.reading.size_limit() {
            Some(Refusal::TooLarge { limit: self.reading.size_limit() })
        } else {
            None
        };
        if let Some(refusal) = refusal {
            self.sender.tell(Event::Missed { refusal, source }).await;
            return;
        }
        if let Owner::Program { read, .. } = &mut *self.owner() {
            *read = Some(useful.clone());
        }
        self.sender.copied(Copy { formats: useful, source }).await;
    }

    /// A program selects text, and it stays selected.
    pub async fn select(&self, text: &str, source: Source) {
        if self.reading.takes_primary() {
            let source = Source { selected: true, ..source };
            self.sender.copied(Copy { formats: vec![Format::plain(text)], source }).await;
        }
    }

    /// The program that owns the clipboard exits.
    pub fn owner_exits(&self) {
        let mut owner = self.owner();
        if let Owner::Program { read, .. } = &mut *owner {
            *owner = read.take().map_or(Owner::Nobody, Owner::Service);
        }
    }

    /// A person presses keys, written as `Ctrl+Alt+V`. Tells whether they reach the service.
    pub fn press(&self, keys: &str) -> bool {
        let grabbed = self.keyboard.lock().keys.iter().find(|(_, chord)| chord.to_string() == keys).cloned();
        if let Some((action, _)) = &grabbed {
            self.sender.tell_at_once(Event::Key(*action));
        }
        grabbed.is_some()
    }

    /// A window has the keyboard; or none has.
    pub fn give_keyboard(&self, window: Option<u64>) {
        self.keyboard.lock().focus = window.map(WindowId);
    }

    /// The texts that have been pasted into the window with the keyboard.
    pub fn pasted(&self) -> Vec<String> {
        self.keyboard.lock().pasted.clone()
    }

    /// The MIME types that a program could paste now.
    pub fn offered(&self) -> Vec<String> {
        match &*self.owner() {
            Owner::Nobody => Vec::new(),
            Owner::Program { formats, .. } | Owner::Service(formats) => {
                formats.iter().map(|format| format.mime.clone()).collect()
            }
        }
    }

    /// What a program that pastes this MIME type gets.
    pub fn paste(&self, mime: &str) -> Option<Bytes> {
        match &*self.owner() {
            Owner::Nobody => None,
            Owner::Program { formats, .. } => format::find(formats, mime).cloned(),
            Owner::Service(formats) => {
                let data = format::find(formats, mime).cloned();
                if data.is_some() {
                    self.sender.tell_at_once(Event::Pasted);
                }
                data
            }
        }
    }
}

impl Clipboard for Simulated {
    fn offer(&self, formats: Vec<Format>) -> oneshot::Receiver<Result<(), OfferError>> {
        let (reply, answer) = oneshot::channel();
        *self.owner() = Owner::Service(formats);
        let _ = reply.send(Ok(()));
        answer
    }

    fn held(&self) -> oneshot::Receiver<Option<Vec<Format>>> {
        let (reply, answer) = oneshot::channel();
        let _ = reply.send(match &*self.owner() {
            Owner::Nobody => None,
            Owner::Program { read, .. } => read.clone(),
            Owner::Service(formats) => Some(formats.clone()),
        });
        answer
    }

    fn let_go(&self) {
        if let Owner::Program { read, .. } = &mut *self.owner() {
            *read = None;
        }
    }
}

impl Keyboard for Simulated {
    fn focus(&self) -> oneshot::Receiver<Option<Focus>> {
        let (reply, answer) = oneshot::channel();
        let window = self.keyboard.lock().focus;
        let _ = reply.send(window.map(|window| Focus { window, source: Source::default() }));
        answer
    }

    fn paste(&self, paste: Paste) -> oneshot::Receiver<Result<(), PasteError>> {
        let (reply, answer) = oneshot::channel();
        let gone = paste.into.is_some_and(|window| self.keyboard.lock().focus != Some(window));
        let _ = reply.send(if gone { Err(PasteError::Gone) } else { Ok(()) });
        if !gone {
            let text = Self::paste(self, format::PLAIN).map(|text| String::from_utf8_lossy(&text).into_owned());
            self.keyboard.lock().pasted.extend(text);
            self.sender.tell_at_once(Event::Pasted);
        }
        answer
    }

    fn grab(&self, keys: Vec<(Action, Chord)>) -> oneshot::Receiver<Vec<(Action, GrabState)>> {
        let (reply, answer) = oneshot::channel();
        let _ = reply.send(keys.iter().map(|(action, _)| (*action, GrabState::Grabbed)).collect());
        self.keyboard.lock().keys = keys;
        answer
    }
}
