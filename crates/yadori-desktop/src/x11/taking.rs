//! The clipboard becomes ours: for what somebody offers, for what an owner has left, or for what one hands over.

use super::serving::Holding;
use super::{End, X11, serving};
use crate::OfferError;
use crate::commands::Offer;
use bytes::Bytes;
use std::time::Instant;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt as _, PropMode, SelectionRequestEvent, Timestamp};
use x11rb::wrapper::ConnectionExt as _;
use yadori_core::{Format, own};

/// Why a selection is taken.
pub(super) enum Taking {
    /// Somebody wants this on the clipboard.
    Offer(Offer),
    /// The owner of this is gone.
    Left(Vec<Format>),
    /// An exiting program hands it over.
    Saved(SelectionRequestEvent, Vec<(Atom, Atom, Bytes)>),
    /// Nobody is there for exiting programs.
    Manager,
}

impl X11 {
    /// Claims ownership, for which the server's time is needed (ICCCM, section 2.1). For what somebody waits for, one that the
    /// server has passed a moment ago will do, unless another program has claimed it in that moment; otherwise it is asked for.
    pub(super) fn take(&mut self, taking: Taking) -> Result<(), End> {
        let recent = self.clock.time(Instant::now()).filter(|_| self.taking.is_empty());
        let taking = match (taking, recent) {
            (Taking::Offer(Offer { formats, reply }), Some(time)) => {
                let holding = Holding::new(&self.place(), &formats, time)?;
                if self.own(holding, Some(formats.clone()))? {
                    self.context.answer(reply, Ok(()));
                    return Ok(());
                }
                Taking::Offer(Offer { formats, reply })
            }
            (taking, _) => taking,
        };
        self.taking.push(taking);
        self.connection.change_property8(PropMode::APPEND, self.window, self.atoms.CLOCK, AtomEnum::STRING, &[])?;
        Ok(())
    }

    pub(super) fn take_now(&mut self, time: Timestamp) -> Result<(), End> {
        // Only the last of several offers can stay on the clipboard; the others were put there and replaced.
        for taking in std::mem::take(&mut self.taking) {
            match taking {
                Taking::Offer(Offer { formats, reply }) => {
                    let holding = Holding::new(&self.place(), &formats, time)?;
                    let owned = self.own(holding, Some(formats))?;
                    self.context.answer(reply, if owned { Ok(()) } else { Err(OfferError::Taken) });
                }
                Taking::Left(formats) => {
                    // Something may have been copied in the meantime.
                    if self.connection.get_selection_owner(self.atoms.CLIPBOARD)?.reply()?.owner == x11rb::NONE {
                        let formats = own::offered_back(formats);
                        let holding = Holding::new(&self.place(), &formats, time)?;
                        self.own(holding, Some(formats))?;
                    }
                }
                Taking::Saved(request, targets) => {
                    let kept = self.kept.take();
                    if self.own(Holding::left(targets, time), kept)? {
                        let (at, property) = (self.place(), request.property);
                        if property != x11rb::NONE {
                            let null = self.atoms.NULL;
                            at.connection.change_property8(
                                PropMode::REPLACE,
                                request.requestor,
                                property,
                                null,
                                &[],
                            )?;
                        }
                        serving::tell(&at, &request, if property == x11rb::NONE { request.target } else { property })?;
                    } else {
                        self.not_saved(&request, "another program took the clipboard")?;
                    }
                }
                Taking::Manager => {
                    let manager = self.atoms.CLIPBOARD_MANAGER;
                    self.connection.set_selection_owner(self.window, manager, time)?;
                    if self.connection.get_selection_owner(manager)?.reply()?.owner == self.window {
                        let save = (self.atoms.SAVE_TARGETS, self.atoms.NULL, Bytes::new());
                        self.managing = Some(Holding::left(vec![save], time));
                        self.note_manager(false);
                    }
                }
            }
        }
        Ok(())
    }

    /// Takes the clipboard; tells whether it is ours.
    pub(super) fn own(&mut self, holding: Holding, formats: Option<Vec<Format>>) -> Result<bool, End> {
        self.connection.set_selection_owner(self.window, self.atoms.CLIPBOARD, holding.since)?;
        let owned = self.connection.get_selection_owner(self.atoms.CLIPBOARD)?.reply()?.owner == self.window;
        if owned {
            self.contest.took(Instant::now(), formats.as_deref().unwrap_or_default());
            self.holding = Some(holding);
            self.kept = formats;
            self.supersede(0, "something else was put on the clipboard before it answered");
        }
        Ok(owned)
    }
}
