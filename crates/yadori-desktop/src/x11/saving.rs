//! Taking over what a program leaves that is about to exit.
//!
//! The freedesktop clipboard-manager convention: whoever owns the selection `CLIPBOARD_MANAGER` is asked
//! by an exiting program to convert it to `SAVE_TARGETS`. It then reads the clipboard, owns it, and answers,
//! whereupon the program exits. Everything is taken as it is, also formats that make no clip: what is
//! pasted later is to be no poorer than it was.

use super::reading::atoms_in;
use super::transfer::{Arrival, Transfer};
use super::{Taking, TransferContext, X11};
use crate::session::End;
use crate::wanted::{self, MOST_NAMES};
use bytes::Bytes;
use std::collections::VecDeque;
use std::time::{Duration, Instant};
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, SelectionRequestEvent};

/// A hand-over under way.
pub(super) struct Saving {
    request: SelectionRequestEvent,
    transfer: Transfer,
    current: Atom,
    /// The targets that the exiting program wants kept; all that the owner has, if it names none.
    listed: Option<Vec<Atom>>,
    waiting: VecDeque<Atom>,
    saved: Vec<(Atom, Atom, Bytes)>,
    size: u64,
    limit: u64,
    patience: Duration,
}

/// Numbers tell of the program that exits, and would be nobody's afterwards.
fn is_number(kind: Atom) -> bool {
    [AtomEnum::ATOM, AtomEnum::INTEGER, AtomEnum::CARDINAL, AtomEnum::WINDOW, AtomEnum::DRAWABLE]
        .into_iter()
        .any(|number| Atom::from(number) == kind)
}

/// How far a hand-over has come.
pub(super) enum Saved {
    Going,
    /// The targets with their types and data.
    Done(Vec<(Atom, Atom, Bytes)>),
    /// It is not for us to keep.
    Not(&'static str),
}

impl Saving {
    /// Begins to read everything on the clipboard.
    pub fn begin(
        at: &TransferContext<'_>,
        request: SelectionRequestEvent,
        listed: Option<Vec<Atom>>,
        limit: u64,
        patience: Duration,
    ) -> Result<Self, ReplyOrIdError> {
        let (clipboard, targets) = (at.atoms.CLIPBOARD, at.atoms.TARGETS);
        let transfer = Transfer::ask(at, clipboard, targets, x11rb::CURRENT_TIME, limit, patience)?;
        let (waiting, saved) = (VecDeque::new(), Vec::new());
        Ok(Self { request, transfer, current: targets, listed, waiting, saved, size: 0, limit, patience })
    }

    /// What is to be answered in the end.
    pub fn request(&self) -> SelectionRequestEvent {
        self.request
    }

    /// When it is given up.
    pub fn deadline(&self) -> Instant {
        self.transfer.deadline
    }

    /// The property in which an answer is awaited.
    pub fn awaits(&self) -> Atom {
        self.transfer.awaits()
    }

    /// Whether it waits for an answer in this property, or with none for one about this target.
    pub fn expects(&self, property: Atom, about: (Atom, Atom)) -> bool {
        self.transfer.expects(property, about)
    }

    /// The owner has answered.
    pub fn answered(&mut self, at: &TransferContext<'_>, property: Atom) -> Result<Saved, ReplyOrIdError> {
        let arrival = self.transfer.answered(at, property)?;
        self.arrived(at, arrival)
    }

    /// A property of our window has a new value.
    pub fn piece_arrived(&mut self, at: &TransferContext<'_>) -> Result<Saved, ReplyOrIdError> {
        let arrival = self.transfer.piece_arrived(at)?;
        self.arrived(at, arrival)
    }

    fn arrived(&mut self, at: &TransferContext<'_>, arrival: Arrival) -> Result<Saved, ReplyOrIdError> {
        match arrival {
            Arrival::Going => return Ok(Saved::Going),
            Arrival::TooLarge => return Ok(Saved::Not("it is larger than the limit")),
            Arrival::Refused => {}
            Arrival::Whole(_, data) if self.current == at.atoms.TARGETS => {
                let offered = atoms_in(&data);
                if let Some(why) = self.plan(at, offered)? {
                    return Ok(Saved::Not(why));
                }
            }
            Arrival::Whole(_, data) if self.current == at.atoms.SECRET_HINT && wanted::is_secret(&data) => {
                return Ok(Saved::Not("its owner marked it as secret"));
            }
            Arrival::Whole(kind, _) if is_number(kind) => {}
            Arrival::Whole(kind, data) => {
                self.size += data.len() as u64;
                if self.size > self.limit {
                    return Ok(Saved::Not("it is larger than the limit"));
                }
                self.saved.push((self.current, kind, data.into()));
            }
        }
        let Some(next) = self.waiting.pop_front() else {
            return Ok(match std::mem::take(&mut self.saved) {
                saved if saved.is_empty() => Saved::Not("it offers nothing"),
                saved => Saved::Done(saved),
            });
        };
        let allowed = self.limit - self.size;
        self.current = next;
        self.transfer = Transfer::ask(at, at.atoms.CLIPBOARD, next, x11rb::CURRENT_TIME, allowed, self.patience)?;
        Ok(Saved::Going)
    }

    /// What to ask for; or why nothing.
    fn plan(&mut self, at: &TransferContext<'_>, offered: Vec<Atom>) -> Result<Option<&'static str>, ReplyOrIdError> {
        let atoms = at.atoms;
        // Those that are about the transfer, and those that do something instead of giving something.
        let left_out = [
            atoms.TARGETS,
            atoms.MULTIPLE,
            atoms.TIMESTAMP,
            atoms.SAVE_TARGETS,
            atoms.DELETE,
            atoms.INSERT_SELECTION,
            atoms.INSERT_PROPERTY,
        ];
        let secret = offered.contains(&atoms.SECRET_HINT);
        let mut wanted = self.listed.take().filter(|listed| !listed.is_empty()).unwrap_or_else(|| offered.clone());
        wanted.retain(|target| offered.contains(target) && !left_out.contains(target) && *target != atoms.SECRET_HINT);
        wanted.truncate(MOST_NAMES);
        self.waiting = secret.then_some(atoms.SECRET_HINT).into_iter().chain(wanted).collect();
        Ok(self.waiting.is_empty().then_some("it offers nothing"))
    }
}

/// The connection's part in it: one hand-over at a time, and each is answered.
impl X11 {
    /// Begins with the next hand-over, once the copy has been read that is to be handed over.
    pub(super) fn save_next(&mut self) -> Result<(), End> {
        let reads = self.readings.iter().any(|reading| reading.selection == self.atoms.CLIPBOARD);
        if self.saving.is_some() || reads || self.asked_to_save.is_empty() {
            return Ok(());
        }
        let request = self.asked_to_save.remove(0);
        let rules = &self.context.rules;
        let why_not = if !rules.is_listening() {
            Some("capture is paused")
        } else if self.holding.is_some() {
            Some("it is ours already")
        } else {
            None
        };
        if let Some(why_not) = why_not {
            self.not_saved(&request, why_not)?;
            return self.save_next();
        }
        let listed = if request.property == x11rb::NONE {
            None
        } else {
            let reply = self
                .connection
                .get_property(false, request.requestor, request.property, AtomEnum::ANY, 0, 1024)?
                .reply();
            reply.ok().map(|reply| atoms_in(&reply.value))
        };
        self.saving = Some(Saving::begin(&self.place(), request, listed, rules.size_limit(), rules.patience)?);
        Ok(())
    }

    pub(super) fn save(
        &mut self,
        step: impl FnOnce(&mut Saving, &TransferContext<'_>) -> Result<Saved, ReplyOrIdError>,
    ) -> Result<(), End> {
        let Some(mut saving) = self.saving.take() else { return Ok(()) };
        match step(&mut saving, &self.place())? {
            Saved::Going => {
                self.saving = Some(saving);
                return Ok(());
            }
            Saved::Done(targets) => self.take(Taking::Saved(saving.request(), targets))?,
            Saved::Not(why) => self.not_saved(&saving.request(), why)?,
        }
        self.save_next()
    }

    pub(super) fn not_saved(&self, request: &SelectionRequestEvent, why: &str) -> Result<(), End> {
        tracing::info!(why, "what an exiting program leaves is not kept on the clipboard");
        Ok(super::serving::tell(&self.place(), request, x11rb::NONE)?)
    }
}
