//! Giving what we hold to programs that paste: in one piece, or in many (INCR).
//!
//! ICCCM, sections 2.2, 2.6.2 and 2.7.2.

use super::TransferContext;
use crate::{text, wanted};
use bytes::Bytes;
use std::time::{Duration, Instant};
use x11rb::connection::{Connection, RequestConnection};
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ChangeWindowAttributesAux, ConnectionExt, EventMask, PropMode, SELECTION_NOTIFY_EVENT,
    SelectionNotifyEvent, SelectionRequestEvent, Timestamp, Window,
};
use x11rb::wrapper::ConnectionExt as _;
use yadori_core::Format;

/// Most bytes in one piece. Larger ones would only make other clients of the server wait.
const PIECE: usize = 256 * 1024;

/// How long a program that pastes may leave a piece lying.
const PATIENCE: Duration = Duration::from_secs(10);

/// What is on the clipboard while we own it.
pub(super) struct Holding {
    /// When we became the owner, in the server's time.
    pub since: Timestamp,
    /// Each target that we offer, its data and the type of the data.
    targets: Vec<(Atom, Atom, Bytes)>,
}

/// A transfer in pieces that is under way.
pub(super) struct Sending {
    pub requestor: Window,
    property: Atom,
    kind: Atom,
    rest: Bytes,
    pub deadline: Instant,
}

impl Holding {
    /// These formats, under all the names that programs ask for.
    pub fn new(at: &TransferContext<'_>, formats: &[Format], since: Timestamp) -> Result<Self, ReplyOrIdError> {
        let mut targets = Vec::new();
        for Format { mime, data } in formats {
            for name in wanted::offered_as(mime) {
                let target = at.atom(name)?;
                // TEXT is answered in an encoding of our choice, STRING in Latin-1 (ICCCM, section 2.6.2).
                if target == at.atoms.TEXT {
                    targets.push((target, at.atoms.UTF8_STRING, data.clone()));
                } else if target == at.atoms.STRING {
                    let latin1 = std::str::from_utf8(data).ok().and_then(text::to_latin1);
                    targets.extend(latin1.map(|latin1| (target, target, latin1.into())));
                } else {
                    targets.push((target, target, data.clone()));
                }
            }
        }
        Ok(Self { since, targets })
    }

    /// What another program has left, as it was: targets, their types and their data.
    pub fn left(targets: Vec<(Atom, Atom, Bytes)>, since: Timestamp) -> Self {
        Self { since, targets }
    }

    /// Answers a program that pastes. Tells whether it got content, and gives the transfers that go on in pieces.
    pub fn answer(
        &self,
        at: &TransferContext<'_>,
        request: &SelectionRequestEvent,
    ) -> Result<(bool, Vec<Sending>), ReplyOrIdError> {
        // Old clients name no property and mean the target's name.
        let property = if request.property == x11rb::NONE { request.target } else { request.property };
        let mut sendings = Vec::new();
        let too_early = request.time != x11rb::CURRENT_TIME && request.time.wrapping_sub(self.since) > u32::MAX / 2;
        let given = if too_early {
            false
        } else if request.target == at.atoms.MULTIPLE {
            self.give_multiple(at, request.requestor, property, &mut sendings)?
        } else {
            self.give(at, request.requestor, property, request.target, &mut sendings)?
        };
        tell(at, request, if given { property } else { x11rb::NONE })?;
        let looked = [at.atoms.TARGETS, at.atoms.TIMESTAMP].contains(&request.target);
        Ok((given && !looked, sendings))
    }

    fn give(
        &self,
        at: &TransferContext<'_>,
        requestor: Window,
        property: Atom,
        target: Atom,
        sendings: &mut Vec<Sending>,
    ) -> Result<bool, ReplyOrIdError> {
        let atoms = at.atoms;
        if target == atoms.TARGETS {
            let mut list = vec![atoms.TARGETS, atoms.TIMESTAMP, atoms.MULTIPLE];
            list.extend(self.targets.iter().map(|(target, _, _)| *target));
            at.connection.change_property32(PropMode::REPLACE, requestor, property, AtomEnum::ATOM, &list)?;
            return Ok(true);
        }
        if target == atoms.TIMESTAMP {
            at.connection.change_property32(
                PropMode::REPLACE,
                requestor,
                property,
                AtomEnum::INTEGER,
                &[self.since],
            )?;
            return Ok(true);
        }
        let Some((_, kind, data)) = self.targets.iter().find(|(offer, _, _)| *offer == target) else {
            return Ok(false);
        };
        if data.len() <= piece_size(at) {
            at.connection.change_property8(PropMode::REPLACE, requestor, property, *kind, data)?;
            return Ok(true);
        }
        // The requestor deletes the property when it has read a piece; that is our sign to go on.
        let watch = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
        at.connection.change_window_attributes(requestor, &watch)?;
        let size = u32::try_from(data.len()).unwrap_or(u32::MAX);
        at.connection.change_property32(PropMode::REPLACE, requestor, property, atoms.INCR, &[size])?;
        sendings.push(Sending {
            requestor,
            property,
            kind: *kind,
            rest: data.clone(),
            deadline: Instant::now() + PATIENCE,
        });
        Ok(true)
    }

    /// Several targets at once: pairs of target and property, of which those that fail are set to none.
    fn give_multiple(
        &self,
        at: &TransferContext<'_>,
        requestor: Window,
        property: Atom,
        sendings: &mut Vec<Sending>,
    ) -> Result<bool, ReplyOrIdError> {
        let reply = at.connection.get_property(false, requestor, property, at.atoms.ATOM_PAIR, 0, 1024)?.reply();
        let Some(mut pairs) = reply.ok().and_then(|reply| Some(reply.value32()?.collect::<Vec<Atom>>())) else {
            return Ok(false);
        };
        for pair in pairs.chunks_exact_mut(2) {
            // A hand-over takes more than one step.
            let not_here = [at.atoms.MULTIPLE, at.atoms.SAVE_TARGETS].contains(&pair[0]);
            if not_here || !self.give(at, requestor, pair[1], pair[0], sendings)? {
                pair[1] = x11rb::NONE;
            }
        }
        at.connection.change_property32(PropMode::REPLACE, requestor, property, at.atoms.ATOM_PAIR, &pairs)?;
        Ok(true)
    }
}

/// Tells a program where the answer to its request is, or with none that there is no answer.
pub(super) fn tell(
    at: &TransferContext<'_>,
    request: &SelectionRequestEvent,
    property: Atom,
) -> Result<(), ReplyOrIdError> {
    let notify = SelectionNotifyEvent {
        response_type: SELECTION_NOTIFY_EVENT,
        sequence: 0,
        time: request.time,
        requestor: request.requestor,
        selection: request.selection,
        target: request.target,
        property,
    };
    at.connection.send_event(false, request.requestor, EventMask::NO_EVENT, notify)?;
    Ok(at.connection.flush()?)
}

impl Sending {
    /// A property of another's window was deleted: perhaps the sign to send the next piece. Tells whether
    /// this transfer is done with.
    pub fn property_deleted(
        &mut self,
        at: &TransferContext<'_>,
        window: Window,
        property: Atom,
    ) -> Result<bool, ReplyOrIdError> {
        if (window, property) != (self.requestor, self.property) {
            return Ok(false);
        }
        let piece = self.rest.split_to(self.rest.len().min(piece_size(at)));
        // A piece of no length ends the transfer.
        at.connection.change_property8(PropMode::REPLACE, self.requestor, self.property, self.kind, &piece)?;
        at.connection.flush()?;
        self.deadline = Instant::now() + PATIENCE;
        Ok(piece.is_empty())
    }

    /// Stops watching the requestor's window.
    pub fn finish(&self, at: &TransferContext<'_>) -> Result<(), ReplyOrIdError> {
        let ignore = ChangeWindowAttributesAux::new().event_mask(EventMask::NO_EVENT);
        at.connection.change_window_attributes(self.requestor, &ignore)?;
        Ok(at.connection.flush()?)
    }

    /// Whether both go to the same window.
    pub fn is_for_window_of(&self, other: &Self) -> bool {
        self.requestor == other.requestor
    }
}

fn piece_size(at: &TransferContext<'_>) -> usize {
    PIECE.min(at.connection.maximum_request_bytes().saturating_sub(1024))
}
