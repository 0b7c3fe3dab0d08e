//! A small clipboard in memory, for machines without a display and for tests.
//!
//! It has one owner at a time, as a real one has: a program, or the service. The other side of it, the
//! programs that copy and paste, is [`Simulated`].

use crate::{Clipboard, ClipboardKind, Desktop, Event, EventSender, OfferError, PasteError, Reading};
use bytes::Bytes;
use parking_lot::Mutex;
use std::sync::Arc;
use tokio::sync::oneshot;
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, format};

/// The programs' side of a simulated clipboard.
#[derive(Clone)]
pub struct Simulated {
    state: Arc<Mutex<Owner>>,
    reading: Arc<Reading>,
    sender: EventSender,
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
    let programs = Simulated { state: Arc::default(), reading: reading.clone(), sender };
    let desktop = Desktop { clipboard: Arc::new(programs.clone()), events, reading };
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

    fn press_paste(&self) -> oneshot::Receiver<Result<(), PasteError>> {
        let (reply, answer) = oneshot::channel();
        self.sender.tell_at_once(Event::Pasted);
        let _ = reply.send(Ok(()));
        answer
    }

    fn let_go(&self) {
        if let Owner::Program { read, .. } = &mut *self.owner() {
            *read = None;
        }
    }
}
