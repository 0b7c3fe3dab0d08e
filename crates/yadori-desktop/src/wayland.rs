//! The clipboard of a Wayland compositor, through `ext-data-control-v1` or `wlr-data-control-unstable-v1`.
//!
//! One thread owns the connection. It sleeps until the compositor, an order, a pipe or a deadline wakes it,
//! and never waits for another program. Each seat has a clipboard of its own; copies are taken from all, and
//! what is recalled is put on all.
//!
//! * `protocol`: the two protocols as one
//! * `reading`: a copy is read
//! * `serving`: what we hold is given to programs that paste
//! * `windows`: where a copy was made
//! * `pressing`: the keys that paste are pressed, where they are meant for

mod pressing;
mod protocol;
mod reading;
mod serving;
mod windows;

use crate::Shortcoming;
use crate::commands::{self, DesktopCommand, Orders, timespec};
use crate::contest::{Contest, Verdict};
use crate::session::{self, End, Session, SessionContext};
use crate::{ClipboardKind, ConnectError, Desktop, Event, GrabState, OfferError, Reading, SETTLING};
use pressing::{Keyboard, Pressing};
use protocol::{Device, DeviceEvent, Manager, Offer, SourceEvent};
use reading::{CopyReading, Progress};
use rustix::event::{PollFd, PollFlags};
use serving::{Holding, Sending};
use std::collections::{BTreeMap, HashMap, VecDeque};
use std::convert::Infallible;
use std::hash::{BuildHasher, RandomState};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::oneshot;
use wayland_client::backend::{ObjectId, WaylandError as TransportError};
use wayland_client::protocol::wl_callback::{self, WlCallback};
use wayland_client::protocol::wl_registry::{self, WlRegistry};
use wayland_client::protocol::wl_seat::{self, WlSeat};
use wayland_client::{Connection, Dispatch, EventQueue, QueueHandle};
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_manager_v1::ZwpVirtualKeyboardManagerV1;
use wayland_protocols_wlr::foreign_toplevel::v1::client::zwlr_foreign_toplevel_manager_v1::ZwlrForeignToplevelManagerV1;
use yadori_core::capture::Refusal;
use yadori_core::{Format, own};

/// Why there is no connection to a compositor.
#[derive(Debug, Error)]
pub enum WaylandError {
    /// Nothing says where it is.
    #[error("WAYLAND_DISPLAY is not set, or XDG_RUNTIME_DIR is not")]
    NoName,
    /// No compositor, or it does not let us in.
    #[error("the compositor at {0} cannot be reached")]
    Connect(String, #[source] std::io::Error),
    /// It does not keep to the protocol.
    #[error("the compositor at {0} does not answer as it should: {1}")]
    Setup(String, String),
}

/// How long the compositor may take to tell what it has.
const PATIENCE: Duration = Duration::from_secs(10);

/// Connects to the compositor at this socket (`None` for that of `WAYLAND_DISPLAY`), and again whenever it
/// comes back. Must be called within a Tokio runtime. What is on the clipboard already is told as the first
/// copy. A compositor that gives no access to its clipboard is told of as [`Event::Lost`].
///
/// # Errors
/// When there is no such compositor now.
pub fn connect(socket: Option<&Path>, reading: Arc<Reading>) -> Result<Desktop, ConnectError> {
    let socket = socket.map(Path::to_owned);
    let open = move |context: &SessionContext| -> Result<Box<dyn Session>, ConnectError> {
        Ok(Box::new(open(socket.as_deref(), context)?))
    };
    session::keep(Box::new(open), reading, false)
}

/// One connection.
pub(crate) fn open(socket: Option<&Path>, context: &SessionContext) -> Result<Wayland, WaylandError> {
    let path = socket.map(Path::to_owned).or_else(socket_of_the_session).ok_or(WaylandError::NoName)?;
    let name = || path.display().to_string();
    let stream = UnixStream::connect(&path).map_err(|error| WaylandError::Connect(name(), error))?;
    let connection = Connection::from_socket(stream).map_err(|error| WaylandError::Setup(name(), error.to_string()))?;
    let mut queue = connection.new_event_queue();
    let handle = queue.handle();
    let registry = connection.display().get_registry(&handle, ());
    connection.display().sync(&handle, Sync::Registry);
    let unique = RandomState::new().hash_one(std::process::id());
    let mut state = State {
        context: context.clone(),
        handle,
        registry,
        globals: Vec::new(),
        told_globals: false,
        manager: None,
        mark: format!("application/x-yadori-{unique:016x}"),
        seats: BTreeMap::new(),
        held: None,
        offers: HashMap::new(),
        readings: Vec::new(),
        sendings: Vec::new(),
        replies: HashMap::new(),
        asked: 0,
        windows: windows::Windows::default(),
        keyboards: None,
        keyboard: None,
        pressing: VecDeque::new(),
        began: Instant::now(),
    };
    let until = Instant::now() + PATIENCE;
    while !state.told_globals {
        wait(&connection, &mut queue, &mut state, &[], Some(until))
            .map_err(|reason| WaylandError::Setup(name(), reason))?;
        if Instant::now() > until {
            return Err(WaylandError::Setup(name(), format!("no answer within {} s", PATIENCE.as_secs())));
        }
    }
    Ok(Wayland { connection, queue, state })
}

fn socket_of_the_session() -> Option<PathBuf> {
    let name = PathBuf::from(std::env::var_os("WAYLAND_DISPLAY").filter(|name| !name.is_empty())?);
    if name.is_absolute() { Some(name) } else { Some(Path::new(&std::env::var_os("XDG_RUNTIME_DIR")?).join(name)) }
}

/// Carries out what the compositor has sent; if it has sent nothing, sleeps until it, or one of `others`, has
/// something, or until `until`.
fn wait(
    connection: &Connection,
    queue: &mut EventQueue<State>,
    state: &mut State,
    others: &[PollFd<'_>],
    until: Option<Instant>,
) -> Result<(), String> {
    let dispatched = queue.dispatch_pending(state).map_err(|error| error.to_string())?;
    let blocked = match connection.flush() {
        Ok(()) => false,
        Err(TransportError::Io(error)) if error.kind() == std::io::ErrorKind::WouldBlock => true,
        Err(error) => return Err(error.to_string()),
    };
    let Some(guard) = queue.prepare_read().filter(|_| dispatched == 0) else { return Ok(()) };
    let ready = {
        let fd = guard.connection_fd();
        let wanted = if blocked { PollFlags::IN | PollFlags::OUT } else { PollFlags::IN };
        let mut polled = vec![PollFd::new(&fd, wanted)];
        polled.extend(others.iter().cloned());
        let is_busy = |polled: &mut [PollFd<'_>]| {
            rustix::event::poll(polled, Some(&timespec(Duration::ZERO))).is_ok_and(|ready| ready > 0)
        };
        if state.context.has_untold() && !is_busy(&mut polled) {
            state.context.tell_all();
        }
        let timeout = until.map(|until| timespec(until.saturating_duration_since(Instant::now())));
        match rustix::event::poll(&mut polled, timeout.as_ref()) {
            Ok(_) => polled[0].revents().intersects(PollFlags::IN | PollFlags::HUP | PollFlags::ERR),
            Err(rustix::io::Errno::INTR) => false,
            Err(error) => return Err(error.to_string()),
        }
    };
    if ready {
        match guard.read() {
            Ok(_) => {}
            Err(TransportError::Io(error)) if error.kind() == std::io::ErrorKind::WouldBlock => {}
            Err(error) => return Err(error.to_string()),
        }
    } else {
        drop(guard);
    }
    Ok(())
}

/// A connection to a compositor.
pub(crate) struct Wayland {
    connection: Connection,
    queue: EventQueue<State>,
    state: State,
}

/// What is known of the compositor, and what is under way with it.
struct State {
    context: SessionContext,
    handle: QueueHandle<State>,
    registry: WlRegistry,
    /// What the compositor has: number, interface, version.
    globals: Vec<(u32, String, u32)>,
    told_globals: bool,
    manager: Option<Manager>,
    /// A format of this name is part of whatever we offer ourselves, and of nothing else.
    mark: String,
    seats: BTreeMap<u32, Seat>,
    /// What was on the clipboard before the compositor went away, until something else is.
    held: Option<Vec<Format>>,
    /// Offers that are not yet anywhere, and the names of their formats.
    offers: HashMap<ObjectId, Vec<String>>,
    readings: Vec<CopyReading>,
    sendings: Vec<Sending>,
    /// Who wants to know that an offer has been carried out.
    replies: HashMap<u64, oneshot::Sender<Result<(), OfferError>>>,
    asked: u64,
    windows: windows::Windows,
    /// What makes keyboards that we can press keys of, if the compositor lets us.
    keyboards: Option<ZwpVirtualKeyboardManagerV1>,
    keyboard: Option<Keyboard>,
    /// Pastes that wait for their windows to have the keyboard.
    pressing: VecDeque<Pressing>,
    began: Instant,
}

/// One seat and its clipboard.
struct Seat {
    seat: WlSeat,
    device: Option<Device>,
    /// Whether anything is on it, once that is known.
    owned: Option<bool>,
    /// What is on it, as far as we could use it: what its owner gave, or what we offer.
    kept: Option<Vec<Format>>,
    holding: Option<Holding>,
    contest: Contest,
    /// A selection that was made, and from when on it may be read.
    settling: Option<(Instant, Offer, Vec<String>)>,
}

/// What the compositor has done when it answers.
#[derive(Clone, Copy)]
enum Sync {
    /// It has told what it has.
    Registry,
    /// It has put something on the clipboards.
    Offered(u64),
}

impl Session for Wayland {
    fn kind(&self) -> ClipboardKind {
        ClipboardKind::Wayland
    }

    fn unusable(&self) -> Option<Shortcoming> {
        let known = |(_, interface, _): &(u32, String, u32)| protocol::MANAGERS.contains(&interface.as_str());
        (!self.state.globals.iter().any(known)).then_some(Shortcoming::NoAccess)
    }

    fn work(&mut self, orders: &mut Orders, held: &mut Option<Vec<Format>>) -> End {
        self.state.held = held.take();
        let Err(end) = self.work_on(orders);
        *held = self.state.seats.values_mut().find_map(|seat| seat.kept.take()).or(self.state.held.take());
        end
    }
}

impl Wayland {
    fn work_on(&mut self, orders: &mut Orders) -> Result<Infallible, End> {
        self.state.begin();
        loop {
            let state = &mut self.state;
            state.what_is_due();
            state.context.tell_overdue();
            // Orders go before what happened since they were given.
            for order in orders.take()? {
                match order {
                    DesktopCommand::Offer(offer) => {
                        if let Some(asked) = state.offer(offer) {
                            self.connection.display().sync(&state.handle, Sync::Offered(asked));
                        }
                    }
                    DesktopCommand::Paste(paste, reply) => state.paste(paste, reply),
                    DesktopCommand::Focus(reply) => drop(reply.send(state.focus())),
                    DesktopCommand::Held(reply) => drop(reply.send(state.on_the_clipboard())),
                    DesktopCommand::Grab(keys, reply) => {
                        let none = keys.into_iter().map(|(action, _)| (action, GrabState::Unsupported));
                        let _ = reply.send(none.collect());
                    }
                    DesktopCommand::LetGo => state.let_go(),
                }
            }
            state.press_on(Instant::now());
            self.sleep(orders)?;
        }
    }

    fn sleep(&mut self, orders: &Orders) -> Result<(), End> {
        let until = self.state.next_deadline();
        // Pipes stay open while they are polled, whatever the compositor sends in between.
        let readings = std::mem::take(&mut self.state.readings);
        let sendings = std::mem::take(&mut self.state.sendings);
        let mut others = vec![orders.poll_fd()];
        let pipes = readings.iter().flat_map(CopyReading::pipes);
        others.extend(pipes.map(|pipe| PollFd::new(pipe, PollFlags::IN)));
        others.extend(sendings.iter().map(|sending| PollFd::new(&sending.into, PollFlags::OUT)));
        let waited = wait(&self.connection, &mut self.queue, &mut self.state, &others, until);
        drop(others);
        self.state.readings.splice(0..0, readings);
        self.state.sendings.splice(0..0, sendings);
        self.state.supersede();
        waited.map_err(|reason| End::Desktop(format!("the compositor is gone: {reason}")))?;
        self.state.read_and_send();
        Ok(())
    }
}

impl State {
    /// Takes the globals that we use.
    fn begin(&mut self) {
        for (number, interface, version) in self.globals.clone() {
            self.found(number, &interface, version);
        }
    }

    fn found(&mut self, number: u32, interface: &str, version: u32) {
        let preferred =
            protocol::MANAGERS.into_iter().find(|name| self.globals.iter().any(|(_, known, _)| known == name));
        if interface == "wl_seat" {
            let seat = self.registry.bind(number, version.min(2), &self.handle, ());
            let device = self.manager.as_ref().map(|manager| manager.device(&seat, number, &self.handle));
            let (owned, kept, holding, contest, settling) = (None, None, None, Contest::default(), None);
            self.seats.insert(number, Seat { seat, device, owned, kept, holding, contest, settling });
            self.plug_in();
        } else if interface == pressing::MANAGER {
            self.keyboards = Some(self.registry.bind(number, 1, &self.handle, ()));
            self.plug_in();
        } else if interface == windows::MANAGER {
            let _: ZwlrForeignToplevelManagerV1 = self.registry.bind(number, version.min(3), &self.handle, ());
        } else if self.manager.is_none() && preferred == Some(interface) {
            let manager = Manager::bind(&self.registry, number, interface, version, &self.handle);
            for (number, seat) in &mut self.seats {
                seat.device = Some(manager.device(&seat.seat, *number, &self.handle));
            }
            self.manager = Some(manager);
        }
    }

    fn lost(&mut self, number: u32) {
        self.globals.retain(|(other, ..)| *other != number);
        self.readings.retain(|reading| reading.seat != number);
        if let Some(Seat { device: Some(device), .. }) = self.seats.remove(&number) {
            device.destroy();
        }
    }

    fn offer_event(&mut self, offer: &ObjectId, mime: String) {
        if let Some(names) = self.offers.get_mut(offer)
            && names.len() < crate::wanted::MOST_NAMES
        {
            names.push(mime);
        }
    }

    fn device_event(&mut self, number: u32, event: DeviceEvent) {
        match event {
            DeviceEvent::Offered(offer) => {
                self.offers.insert(offer.id(), Vec::new());
            }
            DeviceEvent::Selection(offer) => {
                let offer = offer.map(|offer| (self.offers.remove(&offer.id()).unwrap_or_default(), offer));
                self.copied(number, offer);
            }
            DeviceEvent::Primary(offer) => {
                let offer = offer.map(|offer| (self.offers.remove(&offer.id()).unwrap_or_default(), offer));
                let wanted = self.context.rules.takes_primary();
                let Some(seat) = self.seats.get_mut(&number) else { return };
                if let Some((_, before, _)) = seat.settling.take() {
                    before.destroy();
                }
                match offer {
                    Some((names, offer)) if wanted => seat.settling = Some((Instant::now() + SETTLING, offer, names)),
                    Some((_, offer)) => offer.destroy(),
                    None => {}
                }
            }
            DeviceEvent::Finished => self.lost(number),
        }
    }

    /// Something else, or nothing, is on a seat's clipboard.
    fn copied(&mut self, number: u32, offer: Option<(Vec<String>, Offer)>) {
        let mark = self.mark.clone();
        let Some(seat) = self.seats.get_mut(&number) else { return };
        // What we hold is ours until that is cancelled; this was sent before we took it.
        let stale = seat.holding.is_some();
        let Some((names, offer)) = offer else {
            if stale {
                return;
            }
            let kept = match seat.owned.replace(false) {
                None => self.held.clone(),
                // The owner has exited, or has cleared the clipboard: the protocol does not tell which.
                Some(_) => seat.kept.take().filter(|_| seat.contest.may_take()),
            };
            if let Some(kept) = kept {
                self.own(number, &own::offered_back(kept));
            }
            return;
        };
        seat.owned = Some(true);
        if names.contains(&mark) {
            offer.destroy();
            return;
        }
        if !stale {
            seat.kept = None;
            seat.contest.lost(Instant::now());
        }
        self.held = None;
        self.begin_reading(number, false, offer, names);
    }

    /// Of the readings of one clipboard, only the latest is of what is on it now.
    fn supersede(&mut self) {
        for number in 0..self.readings.len() {
            let (before, after) = self.readings.split_at_mut(number + 1);
            let reading = &mut before[number];
            reading.superseded |=
                after.iter().any(|later| (later.seat, later.selected) == (reading.seat, reading.selected));
        }
    }

    fn begin_reading(&mut self, number: u32, selected: bool, offer: Offer, names: Vec<String>) {
        let rules = &self.context.rules;
        let source = self.windows.source();
        if !rules.is_listening() {
            offer.destroy();
            return self.context.tell(Event::Missed { refusal: Refusal::Paused, source });
        }
        match CopyReading::begin(number, selected, offer, names, source.clone(), (rules.size_limit(), rules.patience)) {
            Ok(mut reading) => match reading.progress() {
                Progress::Going => self.readings.push(reading),
                progress => self.ended(reading, progress),
            },
            Err(error) => {
                let refusal = Refusal::Undelivered(format!("no pipe could be had: {error}"));
                self.context.tell(Event::Missed { refusal, source });
            }
        }
    }

    fn read_and_send(&mut self) {
        for mut reading in std::mem::take(&mut self.readings) {
            match reading.read() {
                Progress::Going => self.readings.push(reading),
                progress => self.ended(reading, progress),
            }
        }
        self.sendings.retain_mut(|sending| !sending.go_on());
    }

    /// A copy, or a selection, has been read or not.
    fn ended(&mut self, reading: CopyReading, progress: Progress) {
        if reading.is_of_own() {
            return self.own_read(reading, progress);
        }
        match progress {
            Progress::Going => {}
            Progress::Failed(_) if reading.selected => {}
            Progress::Failed(refusal) => {
                self.context.tell(Event::Missed { refusal, source: self.windows.source() });
            }
            Progress::Done(copy) if reading.selected => {
                self.context.copied(copy);
            }
            Progress::Done(copy) => {
                let formats = copy.formats.clone();
                let Some(seat) = self.seats.get_mut(&reading.seat) else {
                    return self.context.tell_verdict(Verdict::Copy, copy);
                };
                self.context.tell_verdict(seat.contest.judge(&formats), copy);
                if reading.superseded || seat.holding.is_some() {
                    return;
                }
                // Its owner may have gone while it was being read.
                if seat.owned == Some(true) {
                    seat.kept = Some(formats);
                    self.readings.extend(reading.own());
                } else if seat.contest.may_take() {
                    self.own(reading.seat, &own::offered_back(formats));
                }
            }
        }
    }

    /// What a program keeps for itself belongs to its copy, which has been told, and stays when it exits.
    fn own_read(&mut self, mut reading: CopyReading, progress: Progress) {
        let Progress::Done(copy) = progress else { return };
        if reading.superseded {
            return;
        }
        let order = reading.order();
        if let Some(seat) = self.seats.get_mut(&reading.seat)
            && let Some(kept) = seat.kept.take()
        {
            seat.kept = Some(own::in_order([kept, copy.formats.clone()].concat(), &order));
        }
        self.context.tell(Event::Own(copy.formats, order));
    }

    fn next_deadline(&self) -> Option<Instant> {
        (self.sendings.iter().map(|sending| sending.deadline))
            .chain(self.readings.iter().map(|reading| reading.deadline))
            .chain(self.pressing.iter().map(|pressing| pressing.deadline))
            .chain(self.seats.values().filter_map(|seat| seat.settling.as_ref().map(|(due, ..)| *due)))
            .min()
    }

    fn what_is_due(&mut self) {
        let now = Instant::now();
        self.sendings.retain(|sending| sending.deadline > now);
        while let Some(overdue) = self.readings.iter().position(|reading| reading.deadline <= now) {
            let mut overdue = self.readings.remove(overdue);
            // What came before the owner fell silent is better than nothing.
            let progress = overdue.done().map_or_else(
                || {
                    let reason = format!("no answer within {} s", self.context.rules.patience.as_secs_f32());
                    Progress::Failed(Refusal::Undelivered(reason))
                },
                Progress::Done,
            );
            self.ended(overdue, progress);
        }
        let settled: Vec<(u32, Offer, Vec<String>)> = (self.seats.iter_mut())
            .filter_map(|(number, seat)| {
                let (_, offer, names) = seat.settling.take_if(|(due, ..)| *due <= now)?;
                Some((*number, offer, names))
            })
            .collect();
        for (number, offer, names) in settled {
            if self.context.rules.takes_primary() {
                self.begin_reading(number, true, offer, names);
            } else {
                offer.destroy();
            }
        }
    }

    /// Puts formats on a seat's clipboard.
    fn own(&mut self, number: u32, formats: &[Format]) {
        let (Some(manager), Some(seat)) = (&self.manager, self.seats.get_mut(&number)) else { return };
        let Some(device) = &seat.device else { return };
        let holding = Holding::new(manager.source(number, &self.handle), formats, &self.mark);
        device.set_selection(holding.source());
        seat.contest.took(Instant::now(), formats);
        seat.holding = Some(holding);
        seat.kept = Some(formats.to_vec());
        seat.owned = Some(true);
    }

    /// Puts formats on all clipboards. Gives the number under which to be told that it is done.
    fn offer(&mut self, offer: commands::Offer) -> Option<u64> {
        let seats: Vec<u32> =
            self.seats.iter().filter(|(_, seat)| seat.device.is_some()).map(|(number, _)| *number).collect();
        if seats.is_empty() {
            let _ = offer.reply.send(Err(OfferError::Lost));
            return None;
        }
        for number in seats {
            self.own(number, &offer.formats);
        }
        self.held = None;
        self.asked += 1;
        self.replies.insert(self.asked, offer.reply);
        Some(self.asked)
    }

    /// What is on the clipboards, as far as it was read or is offered by us.
    fn on_the_clipboard(&self) -> Option<Vec<Format>> {
        self.seats.values().find_map(|seat| seat.kept.clone()).or_else(|| self.held.clone())
    }

    fn let_go(&mut self) {
        self.seats.values_mut().filter(|seat| seat.holding.is_none()).for_each(|seat| seat.kept = None);
    }

    fn source_event(&mut self, number: u32, source: &ObjectId, event: SourceEvent) {
        let Some(seat) = self.seats.get_mut(&number) else { return };
        if !seat.holding.as_ref().is_some_and(|holding| holding.is(source)) {
            return;
        }
        match event {
            SourceEvent::Send(name, into) => {
                let holding = seat.holding.as_ref();
                if holding.is_some_and(|holding| holding.has_content(&name)) {
                    self.context.tell(Event::Pasted);
                }
                self.sendings.extend(holding.and_then(|holding| holding.send(&name, into)));
            }
            SourceEvent::Cancelled => {
                seat.holding = None;
                seat.kept = None;
                seat.contest.lost(Instant::now());
            }
        }
    }
}

impl Dispatch<WlRegistry, ()> for State {
    fn event(
        state: &mut Self,
        _: &WlRegistry,
        event: wl_registry::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        match event {
            wl_registry::Event::Global { name, interface, version } => {
                state.globals.push((name, interface.clone(), version));
                if state.told_globals {
                    let had = state.manager.is_some();
                    state.found(name, &interface, version);
                    if !had && state.manager.is_some() {
                        state.context.tell(Event::Connected { clipboard: ClipboardKind::Wayland, notes: Vec::new() });
                    }
                }
            }
            wl_registry::Event::GlobalRemove { name } => state.lost(name),
            _ => {}
        }
    }
}

impl Dispatch<WlSeat, ()> for State {
    fn event(_: &mut Self, _: &WlSeat, _: wl_seat::Event, (): &(), _: &Connection, _: &QueueHandle<Self>) {}
}

impl Dispatch<WlCallback, Sync> for State {
    fn event(
        state: &mut Self,
        _: &WlCallback,
        _: wl_callback::Event,
        sync: &Sync,
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        match sync {
            Sync::Registry => state.told_globals = true,
            Sync::Offered(asked) => {
                if let Some(reply) = state.replies.remove(asked) {
                    state.context.answer(reply, Ok(()));
                }
            }
        }
    }
}
