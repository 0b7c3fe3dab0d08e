//! One target asked of a selection's owner, and its answer: in one piece, or in many (INCR).
//!
//! ICCCM, sections 2.2 and 2.7.2. Nothing here waits: each event moves the transfer one step on.

use super::TransferContext;
use std::time::{Duration, Instant};
use x11rb::connection::Connection;
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, Timestamp};

/// A question, and how far its answer has come.
pub(super) struct Transfer {
    selection: Atom,
    target: Atom,
    /// The property in which it is answered.
    answer: Atom,
    /// The number of the request that asks.
    asked: u64,
    /// Data of an INCR transfer, while it is under way.
    pieces: Option<Vec<u8>>,
    /// Most bytes of the answer.
    allowed: u64,
    patience: Duration,
    /// When it is given up.
    pub deadline: Instant,
}

/// What has come.
pub(super) enum Arrival {
    /// Not all yet.
    Going,
    /// The owner does not give this.
    Refused,
    /// More than is allowed.
    TooLarge,
    /// All of it: the type of the data, and the data.
    Whole(Atom, Vec<u8>),
}

/// Most bytes of an answer that are fetched in one piece, whatever is allowed: lists of targets are data too.
const LEAST_ALLOWED: u64 = 64 * 1024;

impl Transfer {
    /// Asks for a target of what was put there at `time`.
    pub fn ask(
        at: &TransferContext<'_>,
        selection: Atom,
        target: Atom,
        time: Timestamp,
        allowed: u64,
        patience: Duration,
    ) -> Result<Self, ReplyOrIdError> {
        let answer = at.next_answer();
        at.connection.delete_property(at.window, answer)?;
        let cookie = at.connection.convert_selection(at.window, selection, target, answer, time)?;
        let asked = cookie.sequence_number();
        at.connection.flush()?;
        let deadline = Instant::now() + patience;
        Ok(Self { selection, target, answer, asked, pieces: None, allowed, patience, deadline })
    }

    /// Whether the question was put before the server had carried out the request of this number.
    pub fn asked_before(&self, carried_out: u64) -> bool {
        self.asked <= carried_out
    }

    /// The property in which it is answered.
    pub fn awaits(&self) -> Atom {
        self.answer
    }

    /// Whether an answer in this property is meant for this, or with none one about this target.
    pub fn expects(&self, property: Atom, (selection, target): (Atom, Atom)) -> bool {
        if property == x11rb::NONE {
            (self.selection, self.target) == (selection, target)
        } else {
            self.answer == property
        }
    }

    /// The owner has answered (`property` is none when it refuses).
    pub fn answered(&mut self, at: &TransferContext<'_>, property: Atom) -> Result<Arrival, ReplyOrIdError> {
        if property == x11rb::NONE {
            return Ok(Arrival::Refused);
        }
        if self.pieces.is_some() {
            return Ok(Arrival::Going);
        }
        let Some((kind, data)) = self.fetch(at)? else { return Ok(Arrival::TooLarge) };
        if kind != at.atoms.INCR {
            return Ok(Arrival::Whole(kind, data));
        }
        let announced = data.first_chunk().map_or(0, |bytes| u64::from(u32::from_ne_bytes(*bytes)));
        if announced > self.allowed {
            return Ok(Arrival::TooLarge);
        }
        self.pieces = Some(Vec::new());
        self.deadline = Instant::now() + self.patience;
        Ok(Arrival::Going)
    }

    /// A property of our window has a new value: perhaps the next piece.
    pub fn piece_arrived(&mut self, at: &TransferContext<'_>) -> Result<Arrival, ReplyOrIdError> {
        if self.pieces.is_none() {
            return Ok(Arrival::Going);
        }
        let Some((kind, data)) = self.fetch(at)? else { return Ok(Arrival::TooLarge) };
        self.deadline = Instant::now() + self.patience;
        let Some(pieces) = &mut self.pieces else { return Ok(Arrival::Going) };
        if data.is_empty() {
            return Ok(Arrival::Whole(kind, std::mem::take(pieces)));
        }
        pieces.extend_from_slice(&data);
        Ok(if pieces.len() as u64 > self.allowed { Arrival::TooLarge } else { Arrival::Going })
    }

    /// Takes the property's value off our window, unless it is larger than what is allowed.
    fn fetch(&self, at: &TransferContext<'_>) -> Result<Option<(Atom, Vec<u8>)>, ReplyOrIdError> {
        let allowed = self.allowed.max(LEAST_ALLOWED) / 4 + 1;
        let allowed = u32::try_from(allowed).unwrap_or(u32::MAX);
        let reply = at.connection.get_property(true, at.window, self.answer, AtomEnum::ANY, 0, allowed)?.reply()?;
        if reply.bytes_after > 0 {
            at.connection.delete_property(at.window, self.answer)?;
            return Ok(None);
        }
        Ok(Some((reply.type_, reply.value)))
    }
}
