//! The clipboard of an X server: the CLIPBOARD selection, watched through XFIXES.
//!
//! One thread owns the connection. It sleeps until the server, an order or a deadline wakes it, and
//! never waits for another program: reading a copy and giving one away are small state machines.
//!
//! * `transfer`: one question to a selection's owner, and its answer
//! * `reading`: a copy is read
//! * `copies`: those that are being read, and in which order they are told
//! * `taking`: the clipboard becomes ours
//! * `saving`: an exiting program hands its copy over
//! * `pressing`: the keys that paste are pressed, where they are meant for
//! * `grabs`: keys that reach us from every program
//! * `layout`: which codes the keyboard's keys have
//! * `serving`: what we hold is given to programs that paste
//! * `source`: where a copy was made
//! * `clock`: the server's time, as far as it is known without asking

mod atoms;
mod clock;
mod copies;
mod grabs;
mod layout;
mod place;
mod pressing;
mod reading;
mod saving;
mod serving;
mod source;
mod taking;
mod transfer;

use crate::Shortcoming;
use crate::commands::{DesktopCommand, Orders, timespec};
use crate::contest::Contest;
use crate::session::{self, End, Session, SessionContext};
use crate::{ClipboardKind, ConnectError, Desktop, Event, Reading, SETTLING};
use atoms::Atoms;
use clock::ServerClock;
use grabs::Grabs;
use place::TransferContext;
use pressing::Pressing;
use reading::{CopyReading, REPLACED};
use rustix::event::{PollFd, PollFlags};
use saving::Saving;
use serving::{Holding, Sending};
use std::cell::{Cell, RefCell};
use std::collections::{HashMap, VecDeque};
use std::convert::Infallible;
use std::sync::Arc;
use std::time::Instant;
use taking::Taking;
use thiserror::Error;
use x11rb::connection::Connection;
use x11rb::errors::{ConnectError as X11ConnectError, ReplyOrIdError};
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::xfixes::{ConnectionExt as _, SelectionEvent, SelectionEventMask, SelectionNotifyEvent};
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ConnectionExt as _, CreateWindowAux, EventMask, KeyButMask, Keycode, Mapping, PropMode, Property,
    SelectionRequestEvent, Timestamp, Window, WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;
use yadori_core::Format;

/// Why there is no connection to an X server.
#[derive(Debug, Error)]
pub enum X11Error {
    /// No server, or it does not let us in.
    #[error("the X server {0} cannot be reached")]
    Connect(String, #[source] X11ConnectError),
    /// It refused something that we cannot do without.
    #[error("the X server refused")]
    Setup(#[from] ReplyOrIdError),
}

/// Connects to the X server of this name (`None` for that of `DISPLAY`), and again whenever it comes back.
/// Must be called within a Tokio runtime. What is on the clipboard already is told as the first copy.
///
/// # Errors
/// When there is no such server now, or it does not offer what is needed.
pub fn connect(display: Option<&str>, reading: Arc<Reading>) -> Result<Desktop, ConnectError> {
    let display = display.map(str::to_owned);
    let open = move |context: &SessionContext| -> Result<Box<dyn Session>, ConnectError> {
        Ok(Box::new(open(display.as_deref(), context, None)?))
    };
    session::keep(Box::new(open), reading, false)
}

/// One connection. `note` is something that a person should know of it.
pub(crate) fn open(
    display: Option<&str>,
    context: &SessionContext,
    note: Option<Shortcoming>,
) -> Result<X11, X11Error> {
    let name = || display.map_or_else(|| std::env::var("DISPLAY").unwrap_or_else(|_| "(none)".into()), str::to_owned);
    let (connection, screen) = x11rb::connect(display).map_err(|error| X11Error::Connect(name(), error))?;
    let atoms = Atoms::new(&connection).map_err(ReplyOrIdError::from)?.reply().map_err(ReplyOrIdError::from)?;
    let root = connection.setup().roots[screen].root;
    let window = window(&connection, root)?;
    connection.xfixes_query_version(5, 0).map_err(ReplyOrIdError::from)?.reply().map_err(ReplyOrIdError::from)?;
    let events = SelectionEventMask::SET_SELECTION_OWNER
        | SelectionEventMask::SELECTION_WINDOW_DESTROY
        | SelectionEventMask::SELECTION_CLIENT_CLOSE;
    for selection in [atoms.CLIPBOARD, atoms.CLIPBOARD_MANAGER, AtomEnum::PRIMARY.into()] {
        connection.xfixes_select_selection_input(window, selection, events).map_err(ReplyOrIdError::from)?;
    }
    let owner = connection.get_selection_owner(atoms.CLIPBOARD_MANAGER).map_err(ReplyOrIdError::from)?;
    let another_manages = owner.reply().map_err(ReplyOrIdError::from)?.owner != x11rb::NONE;
    let watches_keys = X11::prepare_keys(&connection);
    Ok(X11 {
        connection,
        atoms,
        root,
        window,
        context: context.clone(),
        note,
        another_manages,
        began: 0,
        clock: ServerClock::default(),
        taking: Vec::new(),
        questions: Cell::new(0),
        named: RefCell::default(),
        active: Cell::new(None),
        readings: Vec::new(),
        own: None,
        asked_to_save: Vec::new(),
        saving: None,
        kept: None,
        holding: None,
        managing: None,
        contest: Contest::default(),
        settling: None,
        sendings: Vec::new(),
        watches_keys,
        grabs: Grabs::default(),
        pressing: VecDeque::new(),
    })
}

/// An invisible window to own the selection and to receive answers.
fn window(connection: &RustConnection, root: Window) -> Result<Window, ReplyOrIdError> {
    let window = connection.generate_id()?;
    let attributes = CreateWindowAux::new().event_mask(EventMask::PROPERTY_CHANGE);
    let (class, visual) = (WindowClass::INPUT_ONLY, x11rb::COPY_FROM_PARENT);
    connection.create_window(0, window, root, 0, 0, 1, 1, 0, class, visual, &attributes)?;
    for (property, value) in [(AtomEnum::WM_NAME, &b"yadorid"[..]), (AtomEnum::WM_CLASS, b"yadorid\0Yadori\0")] {
        connection.change_property8(PropMode::REPLACE, window, property, AtomEnum::STRING, value)?;
    }
    Ok(window)
}

/// A connection to an X server.
pub(crate) struct X11 {
    connection: RustConnection,
    atoms: Atoms,
    root: Window,
    window: Window,
    context: SessionContext,
    note: Option<Shortcoming>,
    /// Another program takes over what exiting programs leave.
    another_manages: bool,
    /// The number of the request by which we learned who owns the clipboard.
    began: u64,
    clock: ServerClock,
    /// What is to become ours as soon as the server has told its time.
    taking: Vec<Taking>,
    questions: Cell<usize>,
    named: RefCell<HashMap<Atom, String>>,
    /// The window that was active at the last copy.
    active: Cell<Option<Window>>,
    /// The copies being read: the present owner's last, and before it those of owners that were replaced.
    readings: Vec<CopyReading>,
    /// What the program of the latest copy keeps for itself is being read. It gives way to everything else.
    own: Option<CopyReading>,
    /// Exiting programs that wait for their copy to be taken over.
    asked_to_save: Vec<SelectionRequestEvent>,
    saving: Option<Saving>,
    /// What is on the clipboard, as far as we could use it: what its owner gave, or what we offer.
    kept: Option<Vec<Format>>,
    /// What we give while we own the clipboard.
    holding: Option<Holding>,
    /// What we answer while we are the one that exiting programs turn to.
    managing: Option<Holding>,
    contest: Contest,
    /// A selection that was made, and from when on it may be read.
    settling: Option<(Instant, Window, Timestamp)>,
    sendings: Vec<Sending>,
    /// Whether the server tells which keys are let go of.
    watches_keys: bool,
    grabs: Grabs,
    /// Pastes that wait for their windows to have the keyboard.
    pressing: VecDeque<Pressing>,
}

impl<E: Into<ReplyOrIdError>> From<E> for End {
    fn from(error: E) -> Self {
        Self::Desktop(format!("the X server is gone: {}", error.into()))
    }
}

impl Session for X11 {
    fn kind(&self) -> ClipboardKind {
        ClipboardKind::X11
    }

    fn notes(&self) -> Vec<Shortcoming> {
        let another = self.another_manages.then_some(Shortcoming::AnotherManager);
        self.note.iter().cloned().chain(another).collect()
    }

    fn work(&mut self, orders: &mut Orders, held: &mut Option<Vec<Format>>) -> End {
        self.kept = held.take();
        let Err(end) = self.work_on(orders);
        *held = self.kept.take();
        end
    }
}

impl X11 {
    fn place(&self) -> TransferContext<'_> {
        let readings = self.readings.iter().filter_map(CopyReading::awaits);
        TransferContext {
            connection: &self.connection,
            atoms: &self.atoms,
            window: self.window,
            questions: &self.questions,
            named: &self.named,
            awaited: (readings.chain(self.saving.as_ref().map(Saving::awaits)))
                .chain(self.own.as_ref().and_then(CopyReading::awaits))
                .collect(),
        }
    }

    fn work_on(&mut self, orders: &mut Orders) -> Result<Infallible, End> {
        let asked = self.connection.get_selection_owner(self.atoms.CLIPBOARD)?;
        self.began = asked.sequence_number();
        let owner = asked.reply()?.owner;
        if owner != x11rb::NONE {
            self.kept = None;
            self.begin_reading(self.atoms.CLIPBOARD, owner, x11rb::CURRENT_TIME)?;
        } else if let Some(held) = self.kept.clone() {
            self.take(Taking::Left(held))?;
        }
        if !self.another_manages {
            self.take(Taking::Manager)?;
        }
        loop {
            self.carry_out(orders)?;
            while let Some(event) = self.connection.poll_for_event_with_sequence()? {
                // Orders go before what happened since they were given.
                self.carry_out(orders)?;
                self.handle(event)?;
                self.context.tell_overdue();
            }
            self.what_is_due()?;
            self.connection.flush()?;
            // Requests may have read events off the connection, so look again before sleeping.
            match self.connection.poll_for_event_with_sequence()? {
                Some(event) => {
                    self.carry_out(orders)?;
                    self.handle(event)?;
                }
                None => {
                    self.context.tell_all();
                    self.sleep(orders)?;
                }
            }
        }
    }

    fn carry_out(&mut self, orders: &mut Orders) -> Result<(), End> {
        for order in orders.take()? {
            match order {
                DesktopCommand::Offer(offer) => self.take(Taking::Offer(offer))?,
                DesktopCommand::Paste(paste, reply) => self.paste(paste, reply)?,
                DesktopCommand::Focus(reply) => drop(reply.send(self.focus())),
                DesktopCommand::Grab(keys, reply) => drop(reply.send(self.grab(keys)?)),
                DesktopCommand::Held(reply) => drop(reply.send(self.kept.clone())),
                DesktopCommand::LetGo if self.holding.is_none() => self.kept = None,
                DesktopCommand::LetGo => {}
            }
        }
        Ok(())
    }

    fn sleep(&self, orders: &Orders) -> Result<(), End> {
        let deadlines = (self.sendings.iter().map(|sending| sending.deadline))
            .chain(self.readings.iter().map(CopyReading::deadline))
            .chain(self.own.as_ref().map(CopyReading::deadline))
            .chain(self.saving.as_ref().map(Saving::deadline))
            .chain(self.settling.map(|(due, ..)| due))
            .chain(Self::pressing_deadline(&self.pressing));
        let timeout = deadlines.min().map(|deadline| timespec(deadline.saturating_duration_since(Instant::now())));
        let mut ready = [PollFd::new(self.connection.stream(), PollFlags::IN), orders.poll_fd()];
        match rustix::event::poll(&mut ready, timeout.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => Ok(()),
            Err(error) => Err(End::Desktop(error.to_string())),
        }
    }

    fn handle(&mut self, (event, carried_out): (XEvent, u64)) -> Result<(), End> {
        match event {
            XEvent::XfixesSelectionNotify(event) if event.selection == self.atoms.CLIPBOARD => {
                self.clock.told(event.timestamp, Instant::now());
                self.owner_changed(&event, carried_out)
            }
            XEvent::XfixesSelectionNotify(event) if event.selection == self.atoms.CLIPBOARD_MANAGER => {
                self.manager_changed(event.owner)
            }
            XEvent::XfixesSelectionNotify(event) => {
                self.readings.retain(|reading| reading.selection == self.atoms.CLIPBOARD);
                let made = event.owner != x11rb::NONE && self.context.rules.takes_primary();
                self.settling = made.then(|| (Instant::now() + SETTLING, event.owner, event.selection_timestamp));
                Ok(())
            }
            XEvent::SelectionNotify(event) => {
                let about = (event.selection, event.target);
                let saves = self.saving.as_ref().is_some_and(|saving| saving.expects(event.property, about));
                if saves {
                    return self.save(|saving, place| saving.answered(place, event.property));
                }
                self.step(event.property, about, |reading, place| reading.answered(place, event.property))
            }
            XEvent::PropertyNotify(event) if event.window == self.window => {
                self.clock.told(event.time, Instant::now());
                let about = (x11rb::NONE, x11rb::NONE);
                if event.atom == self.atoms.CLOCK {
                    self.take_now(event.time)
                } else if event.state != Property::NEW_VALUE {
                    Ok(())
                } else if self.saving.as_ref().is_some_and(|saving| saving.expects(event.atom, about)) {
                    self.save(Saving::piece_arrived)
                } else {
                    self.step(event.atom, about, CopyReading::piece_arrived)
                }
            }
            XEvent::PropertyNotify(event) if event.state == Property::DELETE => self.send_on(event.window, event.atom),
            XEvent::SelectionRequest(request) => self.asked(request),
            XEvent::SelectionClear(event) if event.selection == self.atoms.CLIPBOARD => {
                self.holding = None;
                Ok(())
            }
            XEvent::KeyPress(event) => self.key_pressed(&event),
            XEvent::XinputRawKeyRelease(event) => self.key_released(event.detail as Keycode),
            XEvent::MappingNotify(event) if event.request != Mapping::POINTER => self.grab_anew(),
            XEvent::FocusIn(_) | XEvent::DestroyNotify(_) => self.press_on(),
            // A program that pasted may be gone before our answer reaches it.
            XEvent::Error(error) => {
                tracing::debug!(?error, "the X server reports an error");
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// A program pastes, or exits and wants its copy kept.
    fn asked(&mut self, request: SelectionRequestEvent) -> Result<(), End> {
        let (clipboard, manager) = (self.atoms.CLIPBOARD, self.atoms.CLIPBOARD_MANAGER);
        if request.selection == manager && request.target == self.atoms.SAVE_TARGETS {
            self.asked_to_save.push(request);
            return self.save_next();
        }
        let holding = match request.selection {
            selection if selection == clipboard => &self.holding,
            selection if selection == manager => &self.managing,
            _ => &None,
        };
        let (given, sendings) = match holding {
            Some(holding) => holding.answer(&self.place(), &request)?,
            None => {
                serving::tell(&self.place(), &request, x11rb::NONE)?;
                (false, Vec::new())
            }
        };
        // A large one has been pasted when its last piece was taken.
        if given && sendings.is_empty() && request.selection == clipboard {
            self.pasted_by(request.requestor)?;
        }
        self.sendings.extend(sendings);
        Ok(())
    }

    /// Tells that something was pasted, if by the program that has the keyboard: others only keep an eye on the
    /// clipboard.
    fn pasted_by(&self, requestor: Window) -> Result<(), End> {
        let focus = self.connection.get_input_focus()?.reply()?.focus;
        // Neither a window nor the one under the pointer: then nobody has it in particular.
        let somebody = focus > 1 && focus != self.root;
        let client = |window: Window| window & !self.connection.setup().resource_id_mask;
        if !somebody || client(focus) == client(requestor) {
            self.context.tell(Event::Pasted);
        }
        Ok(())
    }

    fn owner_changed(&mut self, event: &SelectionNotifyEvent, carried_out: u64) -> Result<(), End> {
        let owner = event.owner;
        // What was told before we asked for the owner is part of the answer.
        if owner == self.window || carried_out < self.began {
            return Ok(());
        }
        let reason = if owner == x11rb::NONE { "it went away" } else { REPLACED };
        self.supersede(carried_out, reason);
        if let Some(saving) = self.saving.take() {
            self.not_saved(&saving.request(), reason)?;
        }
        self.contest.lost(Instant::now());
        let kept = self.kept.take();
        if owner != x11rb::NONE {
            return self.begin_reading(self.atoms.CLIPBOARD, owner, event.selection_timestamp);
        }
        // A program that clears the clipboard on purpose sets no owner; one that exits is closed.
        let exited = event.subtype != SelectionEvent::SET_SELECTION_OWNER;
        if let Some(kept) = kept.filter(|_| exited && self.contest.may_take()) {
            self.take(Taking::Left(kept))?;
        }
        Ok(())
    }

    fn manager_changed(&mut self, owner: Window) -> Result<(), End> {
        if owner == self.window {
            return Ok(());
        }
        self.managing = None;
        if owner == x11rb::NONE {
            return self.take(Taking::Manager);
        }
        self.note_manager(true);
        Ok(())
    }

    fn note_manager(&mut self, another: bool) {
        if self.another_manages != another {
            self.another_manages = another;
            self.context.tell(Event::Connected { clipboard: self.kind(), notes: self.notes() });
        }
    }

    fn what_is_due(&mut self) -> Result<(), End> {
        let now = Instant::now();
        self.give_up_overdue(now)?;
        if Self::pressing_deadline(&self.pressing).is_some_and(|deadline| deadline <= now) {
            self.press_on()?;
        }
        if let Some(saving) = self.saving.take_if(|saving| saving.deadline() <= now) {
            self.not_saved(&saving.request(), "it does not answer")?;
            self.save_next()?;
        }
        while let Some(overdue) = self.sendings.iter().position(|sending| sending.deadline <= now) {
            let sending = self.sendings.swap_remove(overdue);
            self.finish(&sending)?;
        }
        if let Some((_, owner, time)) = self.settling.take_if(|(due, ..)| *due <= now) {
            let pointer = self.connection.query_pointer(self.root)?.reply()?;
            if pointer.mask.contains(KeyButMask::BUTTON1) {
                // The mouse still draws it out.
                self.settling = Some((now + SETTLING, owner, time));
            } else if self.context.rules.takes_primary() {
                self.begin_reading(AtomEnum::PRIMARY.into(), owner, time)?;
            }
        }
        Ok(())
    }

    fn send_on(&mut self, window: Window, property: Atom) -> Result<(), End> {
        let mut sendings = std::mem::take(&mut self.sendings);
        let mut done = None;
        for (number, sending) in sendings.iter_mut().enumerate() {
            if sending.property_deleted(&self.place(), window, property)? {
                done = Some(number);
            }
        }
        let done = done.map(|number| sendings.swap_remove(number));
        self.sendings = sendings;
        let Some(done) = done else { return Ok(()) };
        self.pasted_by(done.requestor)?;
        self.finish(&done)
    }

    fn finish(&self, sending: &Sending) -> Result<(), End> {
        // Another transfer to the same window still needs its events.
        if !self.sendings.iter().any(|other| other.is_for_window_of(sending)) {
            sending.finish(&self.place())?;
        }
        Ok(())
    }
}
