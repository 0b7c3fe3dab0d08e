//! The copies that are being read: they begin, move on, and are told in the order in which they were made.

use super::place::TransferContext;
use super::reading::{CopyReading, Progress};
use super::{End, X11, source};
use crate::Event;
use std::time::Instant;
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, Timestamp, Window};
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, own};

impl X11 {
    /// There is another owner: gives up the readings whose questions it would answer.
    pub(super) fn supersede(&mut self, carried_out: u64, reason: &str) {
        self.own = None;
        let clipboard = self.atoms.CLIPBOARD;
        for reading in self.readings.iter_mut().filter(|reading| reading.selection == clipboard) {
            if !reading.has_ended() && !reading.is_superseded() && !reading.asked_before(carried_out) {
                reading.end(Err(Refusal::Undelivered(reason.into())));
            }
            reading.supersede();
        }
        self.tell_ended(Instant::now());
    }

    pub(super) fn begin_reading(&mut self, selection: Atom, owner: Window, time: Timestamp) -> Result<(), End> {
        let rules = &self.context.rules;
        if !rules.is_listening() {
            let source = self.source(owner);
            self.missed(Refusal::Paused, source);
            return Ok(());
        }
        let reading = CopyReading::begin(&self.place(), selection, owner, time, rules.size_limit(), rules.patience)?;
        self.readings.push(reading);
        Ok(())
    }

    pub(super) fn source(&self, owner: Window) -> Source {
        // Without a window manager, the window that owns the selection.
        let before = self.active.get();
        let (active, source) = source::active_source(&self.connection, &self.atoms, self.root, before, owner);
        self.active.set(active);
        source
    }

    /// Moves the reading on that waits for an answer in this property.
    pub(super) fn step(
        &mut self,
        property: Atom,
        about: (Atom, Atom),
        step: impl FnOnce(&mut CopyReading, &TransferContext<'_>) -> Result<Progress, ReplyOrIdError>,
    ) -> Result<(), End> {
        let Some(number) = self.readings.iter().position(|reading| reading.expects(property, about)) else {
            return self.step_own(property, about, step);
        };
        let mut reading = self.readings.remove(number);
        let mut own = None;
        match step(&mut reading, &self.place())? {
            Progress::Going => {
                // Looked up while the owner makes its last answer, so that it takes no time of its own.
                if reading.window.is_none() && reading.waits_for_the_last() {
                    reading.window = Some(self.source(reading.owner));
                }
                self.readings.insert(number, reading);
                return Ok(());
            }
            Progress::Done(copy) => {
                self.read(&mut reading, copy);
                own = if reading.is_superseded() { None } else { reading.own(&self.place())? };
            }
            Progress::Failed(refusal) => reading.end(Err(refusal)),
        }
        self.readings.insert(number, reading);
        self.tell_ended(Instant::now());
        // Only if the copy has been told that it belongs to: in a burst, it may still wait for an earlier one.
        if own.is_some() && self.readings.is_empty() {
            self.own = own;
        }
        self.save_next()
    }

    /// The same for what the program of the latest copy keeps for itself.
    fn step_own(
        &mut self,
        property: Atom,
        about: (Atom, Atom),
        step: impl FnOnce(&mut CopyReading, &TransferContext<'_>) -> Result<Progress, ReplyOrIdError>,
    ) -> Result<(), End> {
        let Some(mut own) = self.own.take_if(|own| own.expects(property, about)) else { return Ok(()) };
        match step(&mut own, &self.place())? {
            Progress::Going => self.own = Some(own),
            Progress::Done(copy) => self.own_read(&mut own, copy.formats),
            Progress::Failed(_) => {}
        }
        Ok(())
    }

    /// What a program keeps for itself belongs to its copy, which has been told, and stays when it exits.
    fn own_read(&mut self, own: &mut CopyReading, formats: Vec<Format>) {
        let order = own.order();
        if let Some(kept) = self.kept.take() {
            self.kept = Some(own::in_order([kept, formats.clone()].concat(), &order));
        }
        self.context.tell(Event::Own(formats, order));
    }

    /// A copy, or a selection, has been read.
    fn read(&mut self, reading: &mut CopyReading, mut copy: Copy) {
        let page = copy.source.page.take();
        let window = reading.window.take().unwrap_or_else(|| self.source(reading.owner));
        let selected = reading.selection != self.atoms.CLIPBOARD;
        copy.source = Source { page, selected, ..window };
        if !selected && !reading.is_superseded() {
            self.kept = Some(copy.formats.clone());
        }
        reading.end(Ok(copy));
    }

    /// Tells of the readings that have ended, in the order in which they began; one that has waited for an
    /// earlier one for long enough is told before it, and so are those before it that have ended as well.
    pub(super) fn tell_ended(&mut self, now: Instant) {
        let has_waited = |reading: &CopyReading| reading.has_ended() && reading.deadline() <= now;
        let mut in_turn = self.readings.iter().rposition(has_waited).map_or(0, |last| last + 1);
        let mut number = 0;
        while number < self.readings.len() && (number == 0 || number < in_turn) {
            let Some(how) = self.readings[number].take_end() else {
                number += 1;
                continue;
            };
            let reading = self.readings.remove(number);
            in_turn = in_turn.saturating_sub(1);
            match how {
                Ok(copy) if copy.source.selected => {
                    self.context.copied(copy);
                }
                Ok(copy) => {
                    let verdict = self.contest.judge(&copy.formats);
                    self.context.tell_verdict(verdict, copy);
                }
                Err(refusal) => self.not_read(&reading, refusal),
            }
        }
    }

    fn not_read(&self, reading: &CopyReading, refusal: Refusal) {
        if reading.selection == self.atoms.CLIPBOARD {
            let source = self.source(reading.owner);
            self.missed(refusal, source);
        }
    }

    pub(super) fn missed(&self, refusal: Refusal, source: Source) {
        self.context.tell(Event::Missed { refusal, source });
    }

    /// Readings whose owner has been silent for too long end with what has come.
    pub(super) fn give_up_overdue(&mut self, now: Instant) -> Result<(), End> {
        if let Some(mut own) = self.own.take_if(|own| own.deadline() <= now)
            && let Some(copy) = own.done()
        {
            self.own_read(&mut own, copy.formats);
        }
        let overdue = |reading: &CopyReading| !reading.has_ended() && reading.deadline() <= now;
        while let Some(number) = self.readings.iter().position(overdue) {
            let mut overdue = self.readings.remove(number);
            match overdue.done() {
                // What came before the owner fell silent is better than nothing.
                Some(copy) => self.read(&mut overdue, copy),
                None => {
                    let reason = format!("no answer within {} s", self.context.rules.patience.as_secs_f32());
                    overdue.end(Err(Refusal::Undelivered(reason)));
                }
            }
            self.readings.insert(number, overdue);
            self.save_next()?;
        }
        self.tell_ended(now);
        Ok(())
    }
}
