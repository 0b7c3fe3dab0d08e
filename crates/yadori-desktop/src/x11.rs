//! The clipboard of an X server: the CLIPBOARD selection, watched through XFIXES.
//!
//! One thread owns the connection. It sleeps until the server, an order or a deadline wakes it, and
//! never waits for another program: reading a copy and giving one away are small state machines.
//!
//! * `reading`: a copy is read
//! * `serving`: what we hold is given to programs that paste
//! * `source`: where a copy was made
//! * `text`: the encodings of X11

mod atoms;
mod reading;
mod serving;
mod source;
mod text;

use crate::{Clipboard, Desktop, Event, OfferError, Reading, Teller};
use atoms::Atoms;
use reading::{CopyReading, Place, Progress, REPLACED};
use rustix::event::{PollFd, PollFlags, Timespec};
use serving::{Holding, Sending};
use std::cell::Cell;
use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::sync::{Arc, mpsc};
use std::time::Instant;
use thiserror::Error;
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use x11rb::connection::Connection;
use x11rb::errors::{ConnectError, ReplyOrIdError};
use x11rb::protocol::Event as XEvent;
use x11rb::protocol::xfixes::{ConnectionExt as _, SelectionEvent, SelectionEventMask};
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ConnectionExt as _, CreateWindowAux, EventMask, PropMode, Property, Timestamp, Window, WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;
use yadori_core::Format;
use yadori_core::capture::Refusal;

/// Why there is no connection to an X server.
#[derive(Debug, Error)]
pub enum X11Error {
    /// No server, or it does not let us in.
    #[error("the X server {0} cannot be reached")]
    Connect(String, #[source] ConnectError),
    /// It refused something that we cannot do without.
    #[error("the X server refused")]
    Setup(#[from] ReplyOrIdError),
    /// No thread or no pipe could be had.
    #[error("the system refused")]
    System(#[from] std::io::Error),
}

/// Connects to the X server of this name (`None` for that of `DISPLAY`). Must be called within a Tokio
/// runtime. What is on the clipboard already is told as the first copy.
///
/// # Errors
/// When there is no such server, or it does not offer what is needed.
pub fn connect(display: Option<&str>, reading: Arc<Reading>) -> Result<Desktop, X11Error> {
    let name = || display.map_or_else(|| std::env::var("DISPLAY").unwrap_or_else(|_| "(none)".into()), str::to_owned);
    let (connection, screen) = x11rb::connect(display).map_err(|error| X11Error::Connect(name(), error))?;
    let atoms = Atoms::new(&connection).map_err(ReplyOrIdError::from)?.reply().map_err(ReplyOrIdError::from)?;
    let root = connection.setup().roots[screen].root;
    let window = window(&connection, root)?;
    connection.xfixes_query_version(5, 0).map_err(ReplyOrIdError::from)?.reply().map_err(ReplyOrIdError::from)?;
    let events = SelectionEventMask::SET_SELECTION_OWNER
        | SelectionEventMask::SELECTION_WINDOW_DESTROY
        | SelectionEventMask::SELECTION_CLIENT_CLOSE;
    connection.xfixes_select_selection_input(window, atoms.CLIPBOARD, events).map_err(ReplyOrIdError::from)?;

    let (teller, events) = Teller::new();
    let (orders, received) = mpsc::channel();
    let (wake, woken) = UnixStream::pair()?;
    wake.set_nonblocking(true)?;
    woken.set_nonblocking(true)?;
    let worker = Worker {
        connection,
        atoms,
        root,
        window,
        teller,
        runtime: Handle::current(),
        rules: reading.clone(),
        orders: received,
        woken,
        waiting: Vec::new(),
        questions: Cell::new(0),
        readings: Vec::new(),
        read: None,
        holding: None,
        sendings: Vec::new(),
    };
    std::thread::Builder::new().name("x11".into()).spawn(move || worker.run())?;
    Ok(Desktop { clipboard: Arc::new(X11 { orders, wake }), events, reading })
}

/// An invisible window to own the selection and to receive answers.
fn window(connection: &RustConnection, root: Window) -> Result<Window, ReplyOrIdError> {
    let window = connection.generate_id()?;
    let attributes = CreateWindowAux::new().event_mask(EventMask::PROPERTY_CHANGE);
    connection.create_window(
        0,
        window,
        root,
        0,
        0,
        1,
        1,
        0,
        WindowClass::INPUT_ONLY,
        x11rb::COPY_FROM_PARENT,
        &attributes,
    )?;
    connection.change_property8(PropMode::REPLACE, window, AtomEnum::WM_NAME, AtomEnum::STRING, b"yadorid")?;
    connection.change_property8(
        PropMode::REPLACE,
        window,
        AtomEnum::WM_CLASS,
        AtomEnum::STRING,
        b"yadorid\0Yadori\0",
    )?;
    Ok(window)
}

struct Offer {
    formats: Vec<Format>,
    reply: oneshot::Sender<Result<(), OfferError>>,
}

struct X11 {
    orders: mpsc::Sender<Offer>,
    /// Closed when the last handle is dropped, which ends the worker.
    wake: UnixStream,
}

impl Clipboard for X11 {
    fn name(&self) -> &'static str {
        "x11"
    }

    fn offer(&self, formats: Vec<Format>) -> oneshot::Receiver<Result<(), OfferError>> {
        let (reply, answer) = oneshot::channel();
        match self.orders.send(Offer { formats, reply }) {
            // When the pipe is full, the worker has enough to wake up for.
            Ok(()) => drop((&self.wake).write(&[1])),
            Err(mpsc::SendError(offer)) => drop(offer.reply.send(Err(OfferError::Lost))),
        }
        answer
    }
}

struct Worker {
    connection: RustConnection,
    atoms: Atoms,
    root: Window,
    window: Window,
    teller: Teller,
    runtime: Handle,
    rules: Arc<Reading>,
    orders: mpsc::Receiver<Offer>,
    woken: UnixStream,
    /// Offers that wait for the server's time.
    waiting: Vec<Offer>,
    questions: Cell<usize>,
    /// The copies being read: the present owner's last, and before it those of owners that were replaced.
    readings: Vec<CopyReading>,
    /// What was last read, while its owner still has the clipboard.
    read: Option<Vec<Format>>,
    holding: Option<Holding>,
    sendings: Vec<Sending>,
}

/// Ends the worker: the service is ending, or the server is gone.
enum End {
    Service,
    Server(String),
}

impl<E: Into<ReplyOrIdError>> From<E> for End {
    fn from(error: E) -> Self {
        Self::Server(error.into().to_string())
    }
}

impl Worker {
    fn run(mut self) {
        if let Err(End::Server(reason)) = self.work() {
            tracing::error!(%reason, "the connection to the X server is gone");
            let lost = self.teller.tell(Event::Lost(reason));
            self.runtime.block_on(lost);
        }
    }

    fn place(&self) -> Place<'_> {
        Place { connection: &self.connection, atoms: &self.atoms, window: self.window, questions: &self.questions }
    }

    fn work(&mut self) -> Result<(), End> {
        let owner = self.connection.get_selection_owner(self.atoms.CLIPBOARD)?.reply()?.owner;
        if owner != x11rb::NONE {
            self.begin_reading(owner, x11rb::CURRENT_TIME)?;
        }
        loop {
            while let Some(event) = self.connection.poll_for_event_with_sequence()? {
                self.handle(event)?;
            }
            self.give_up_overdue()?;
            self.take_orders()?;
            self.connection.flush()?;
            // Requests may have read events off the connection, so look again before sleeping.
            match self.connection.poll_for_event_with_sequence()? {
                Some(event) => self.handle(event)?,
                None => self.sleep()?,
            }
        }
    }

    fn sleep(&mut self) -> Result<(), End> {
        let deadlines = self
            .sendings
            .iter()
            .map(|sending| sending.deadline)
            .chain(self.readings.iter().map(|reading| reading.deadline));
        let timeout = deadlines.min().map(|deadline| {
            let left = deadline.saturating_duration_since(Instant::now());
            Timespec { tv_sec: left.as_secs() as i64, tv_nsec: i64::from(left.subsec_nanos()) }
        });
        let mut ready = [PollFd::new(self.connection.stream(), PollFlags::IN), PollFd::new(&self.woken, PollFlags::IN)];
        match rustix::event::poll(&mut ready, timeout.as_ref()) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(error) => return Err(End::Server(error.to_string())),
        }
        let mut bytes = [0; 64];
        match self.woken.read(&mut bytes) {
            Ok(0) => Err(End::Service),
            _ => Ok(()),
        }
    }

    /// Asks for the server's time, by which ownership must be claimed (ICCCM, section 2.1).
    fn take_orders(&mut self) -> Result<(), End> {
        let before = self.waiting.len();
        self.waiting.extend(self.orders.try_iter());
        if self.waiting.len() > before {
            self.connection.change_property8(PropMode::APPEND, self.window, self.atoms.CLOCK, AtomEnum::STRING, &[])?;
        }
        Ok(())
    }

    fn handle(&mut self, (event, carried_out): (XEvent, u64)) -> Result<(), End> {
        match event {
            XEvent::XfixesSelectionNotify(event) if event.selection == self.atoms.CLIPBOARD => {
                self.owner_changed(event.owner, event.selection_timestamp, event.subtype, carried_out)
            }
            XEvent::SelectionNotify(event) if event.selection == self.atoms.CLIPBOARD => {
                self.step(event.property, event.target, |reading, place| reading.answered(place, event.property))
            }
            XEvent::PropertyNotify(event) if event.window == self.window => {
                if event.atom == self.atoms.CLOCK {
                    self.offer_waiting(event.time)
                } else if event.state == Property::NEW_VALUE {
                    self.step(event.atom, x11rb::NONE, CopyReading::piece_arrived)
                } else {
                    Ok(())
                }
            }
            XEvent::PropertyNotify(event) if event.state == Property::DELETE => self.send_on(event.window, event.atom),
            XEvent::SelectionRequest(request) => {
                let Some(holding) = &self.holding else { return Ok(()) };
                let sendings = holding.answer(&self.place(), &request)?;
                self.sendings.extend(sendings);
                Ok(())
            }
            XEvent::SelectionClear(_) => {
                self.holding = None;
                Ok(())
            }
            // A program that pasted may be gone before our answer reaches it.
            XEvent::Error(error) => {
                tracing::debug!(?error, "the X server reports an error");
                Ok(())
            }
            _ => Ok(()),
        }
    }

    fn owner_changed(
        &mut self,
        owner: Window,
        time: Timestamp,
        how: SelectionEvent,
        carried_out: u64,
    ) -> Result<(), End> {
        if owner == self.window {
            return Ok(());
        }
        let reason = if owner == x11rb::NONE { "it went away" } else { REPLACED };
        self.supersede(carried_out, reason);
        let read = self.read.take();
        if owner != x11rb::NONE {
            return self.begin_reading(owner, time);
        }
        // A program that clears the clipboard on purpose sets no owner; one that exits is closed.
        if how != SelectionEvent::SET_SELECTION_OWNER
            && let Some(formats) = read
        {
            self.own(&formats, x11rb::CURRENT_TIME)?;
        }
        Ok(())
    }

    /// There is another owner: gives up the readings whose questions it would answer.
    fn supersede(&mut self, carried_out: u64, reason: &str) {
        let (goes_on, over) = std::mem::take(&mut self.readings)
            .into_iter()
            .partition(|reading| reading.is_superseded() || reading.asked_before(carried_out));
        self.readings = goes_on;
        self.readings.iter_mut().for_each(CopyReading::supersede);
        let over: Vec<CopyReading> = over;
        for _ in over {
            self.missed(Refusal::Undelivered(reason.into()), yadori_core::Source::default());
        }
    }

    fn begin_reading(&mut self, owner: Window, time: Timestamp) -> Result<(), End> {
        if !self.rules.is_listening() {
            let source = source::source(&self.connection, &self.atoms, self.root, owner);
            self.missed(Refusal::Paused, source);
            return Ok(());
        }
        self.readings.push(CopyReading::begin(&self.place(), owner, time, self.rules.size_limit, self.rules.patience)?);
        Ok(())
    }

    /// Moves the reading on that waits for an answer in this property.
    fn step(
        &mut self,
        property: Atom,
        target: Atom,
        step: impl FnOnce(&mut CopyReading, &Place<'_>) -> Result<Progress, ReplyOrIdError>,
    ) -> Result<(), End> {
        let Some(place) = self.readings.iter().position(|reading| reading.expects(property, target, &self.atoms))
        else {
            return Ok(());
        };
        let mut reading = self.readings.remove(place);
        match step(&mut reading, &self.place())? {
            Progress::Going => {
                // Looked up while the owner makes its last answer, so that it takes no time of its own.
                if reading.window.is_none() && reading.waits_for_the_last() {
                    reading.window = Some(source::source(&self.connection, &self.atoms, self.root, reading.owner));
                }
                self.readings.insert(place, reading);
            }
            Progress::Done(mut copy) => {
                let page = copy.source.page.take();
                let window = reading
                    .window
                    .take()
                    .unwrap_or_else(|| source::source(&self.connection, &self.atoms, self.root, reading.owner));
                copy.source = yadori_core::Source { page, ..window };
                if !reading.is_superseded() {
                    self.read = Some(copy.formats.clone());
                }
                self.runtime.block_on(self.teller.copied(copy));
            }
            Progress::Failed(refusal) => {
                let source = source::source(&self.connection, &self.atoms, self.root, reading.owner);
                self.missed(refusal, source);
            }
        }
        Ok(())
    }

    fn missed(&self, refusal: Refusal, source: yadori_core::Source) {
        self.runtime.block_on(self.teller.tell(Event::Missed { refusal, source }));
    }

    fn give_up_overdue(&mut self) -> Result<(), End> {
        let now = Instant::now();
        while let Some(overdue) = self.readings.iter().position(|reading| reading.deadline <= now) {
            let overdue = self.readings.remove(overdue);
            let reason = format!("no answer within {} s", self.rules.patience.as_secs_f32());
            let source = source::source(&self.connection, &self.atoms, self.root, overdue.owner);
            self.missed(Refusal::Undelivered(reason), source);
        }
        while let Some(overdue) = self.sendings.iter().position(|sending| sending.deadline <= now) {
            let sending = self.sendings.swap_remove(overdue);
            self.finish(&sending)?;
        }
        Ok(())
    }

    fn offer_waiting(&mut self, time: Timestamp) -> Result<(), End> {
        let waiting = std::mem::take(&mut self.waiting);
        // Only the last of several can stay on the clipboard; the others were put there and replaced.
        for Offer { formats, reply } in waiting {
            let owned = self.own(&formats, time)?;
            let _ = reply.send(if owned { Ok(()) } else { Err(OfferError::Taken) });
        }
        Ok(())
    }

    /// Takes the clipboard; tells whether it is ours.
    fn own(&mut self, formats: &[Format], time: Timestamp) -> Result<bool, End> {
        let holding = Holding::new(&self.place(), formats, time)?;
        self.connection.set_selection_owner(self.window, self.atoms.CLIPBOARD, time)?;
        let owned = self.connection.get_selection_owner(self.atoms.CLIPBOARD)?.reply()?.owner == self.window;
        if owned {
            self.holding = Some(holding);
            self.read = None;
            self.supersede(0, "something else was put on the clipboard before it answered");
        }
        Ok(owned)
    }

    fn send_on(&mut self, window: Window, property: Atom) -> Result<(), End> {
        let mut sendings = std::mem::take(&mut self.sendings);
        let mut done = None;
        for (place, sending) in sendings.iter_mut().enumerate() {
            if sending.property_deleted(&self.place(), window, property)? {
                done = Some(place);
            }
        }
        let done = done.map(|place| sendings.swap_remove(place));
        self.sendings = sendings;
        done.map_or(Ok(()), |done| self.finish(&done))
    }

    fn finish(&self, sending: &Sending) -> Result<(), End> {
        // Another transfer to the same window still needs its events.
        if !self.sendings.iter().any(|other| other.is_for_window_of(sending)) {
            sending.finish(&self.place())?;
        }
        Ok(())
    }
}
