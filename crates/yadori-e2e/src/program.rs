//! A program that copies and pastes on an X server, honestly or not.

use crate::PATIENCE;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::JoinHandle;
use std::time::Instant;
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ChangeWindowAttributesAux, ConnectionExt, CreateWindowAux, EventMask, PropMode, Property,
    SELECTION_NOTIFY_EVENT, SelectionNotifyEvent, SelectionRequestEvent, Window, WindowClass,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

/// How a program behaves that owns the clipboard.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// It gives what it offers.
    Honest,
    /// It gives what it offers in pieces of so many bytes.
    Pieces(usize),
    /// It never answers.
    Silent,
    /// It tells its targets, and refuses to give any.
    Liar,
    /// It begins a transfer in pieces, gives one, and goes no further.
    Stalls,
    /// It begins a transfer in pieces, gives one, and exits.
    Dies,
    /// It gives what it offers, but what is empty it never gives.
    HalfSilent,
    /// It announces a small transfer in pieces, and sends without end.
    Floods,
}

/// A program that owns the clipboard until it is dropped.
pub struct Program {
    over: Arc<AtomicBool>,
    served: Arc<AtomicUsize>,
    waker: RustConnection,
    window: Window,
    worker: Option<JoinHandle<()>>,
}

pub(crate) fn connect(display: &str) -> (RustConnection, Window) {
    let (connection, screen) = x11rb::connect(Some(display)).expect("the test's own X server");
    let root = connection.setup().roots[screen].root;
    let window = connection.generate_id().expect("an id");
    let attributes = CreateWindowAux::new().event_mask(EventMask::PROPERTY_CHANGE);
    connection
        .create_window(0, window, root, 0, 0, 1, 1, 0, WindowClass::INPUT_ONLY, x11rb::COPY_FROM_PARENT, &attributes)
        .expect("a window");
    connection.flush().expect("the X server");
    (connection, window)
}

pub(crate) fn atom(connection: &RustConnection, name: &str) -> Atom {
    connection.intern_atom(false, name.as_bytes()).expect("an atom").reply().expect("an atom").atom
}

impl Program {
    /// Copies: owns the clipboard, and offers these targets.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn copy(display: &str, targets: &[(&str, &[u8])], manner: Manner) -> Self {
        let (connection, window) = connect(display);
        let clipboard = atom(&connection, "CLIPBOARD");
        let targets: Vec<(Atom, Vec<u8>)> =
            targets.iter().map(|(name, data)| (atom(&connection, name), data.to_vec())).collect();
        let time = server_time(&connection, window);
        connection.set_selection_owner(window, clipboard, time).expect("the clipboard");
        let owner = connection.get_selection_owner(clipboard).expect("the owner").reply().expect("the owner").owner;
        assert_eq!(owner, window, "the clipboard was not taken");
        let (over, served) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let (waker, _) = x11rb::connect(Some(display)).expect("the test's own X server");
        let state = Serving {
            connection,
            targets,
            manner,
            time,
            over: over.clone(),
            served: served.clone(),
            pieces: HashMap::new(),
        };
        let worker = std::thread::spawn(move || state.serve());
        Self { over, served, waker, window, worker: Some(worker) }
    }

    /// How many requests it has been sent.
    pub fn served(&self) -> usize {
        self.served.load(Ordering::SeqCst)
    }

    /// Exits.
    pub fn exit(mut self) {
        self.finish();
    }

    fn finish(&mut self) {
        self.over.store(true, Ordering::SeqCst);
        // Any event wakes it.
        let wake = x11rb::protocol::xproto::ClientMessageEvent::new(32, self.window, AtomEnum::STRING, [0u32; 5]);
        let _ = self.waker.send_event(false, self.window, EventMask::NO_EVENT, wake);
        let _ = self.waker.flush();
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        self.finish();
    }
}

pub(crate) fn server_time(connection: &RustConnection, window: Window) -> u32 {
    connection
        .change_property8(PropMode::APPEND, window, AtomEnum::WM_NAME, AtomEnum::STRING, &[])
        .expect("a property");
    connection.flush().expect("the X server");
    loop {
        if let Event::PropertyNotify(event) = connection.wait_for_event().expect("an event") {
            return event.time;
        }
    }
}

struct Serving {
    connection: RustConnection,
    targets: Vec<(Atom, Vec<u8>)>,
    manner: Manner,
    time: u32,
    over: Arc<AtomicBool>,
    served: Arc<AtomicUsize>,
    /// What is left of transfers in pieces.
    pieces: HashMap<(Window, Atom), (Atom, Vec<u8>)>,
}

impl Serving {
    fn serve(mut self) {
        self.serve_on();
        // A server may pass over what it has not carried out yet of a program that is gone.
        let _ = self.connection.get_input_focus().map(x11rb::cookie::Cookie::reply);
    }

    fn serve_on(&mut self) {
        while !self.over.load(Ordering::SeqCst) {
            match self.connection.wait_for_event() {
                Ok(Event::SelectionRequest(request)) => {
                    self.served.fetch_add(1, Ordering::SeqCst);
                    if self.manner != Manner::Silent {
                        self.answer(&request);
                    }
                }
                Ok(Event::PropertyNotify(event)) if event.state == Property::DELETE => {
                    if self.next_piece(event.window, event.atom) {
                        return;
                    }
                }
                Ok(Event::SelectionClear(_)) | Err(_) => return,
                Ok(_) => {}
            }
        }
    }

    fn answer(&mut self, request: &SelectionRequestEvent) {
        let list = atom(&self.connection, "TARGETS");
        let given = if request.target == list {
            let mut all = vec![list, atom(&self.connection, "TIMESTAMP")];
            all.extend(self.targets.iter().map(|(target, _)| *target));
            self.put32(request, AtomEnum::ATOM.into(), &all)
        } else if request.target == atom(&self.connection, "TIMESTAMP") {
            self.put32(request, AtomEnum::INTEGER.into(), &[self.time])
        } else if self.manner == Manner::Liar {
            false
        } else {
            match self.targets.iter().find(|(target, _)| *target == request.target).cloned() {
                Some((target, data)) => self.set_attributes(request, target, data),
                None => false,
            }
        };
        let notify = SelectionNotifyEvent {
            response_type: SELECTION_NOTIFY_EVENT,
            sequence: 0,
            time: request.time,
            requestor: request.requestor,
            selection: request.selection,
            target: request.target,
            property: if given { request.property } else { x11rb::NONE },
        };
        let _ = self.connection.send_event(false, request.requestor, EventMask::NO_EVENT, notify);
        let _ = self.connection.flush();
    }

    fn put32(&self, request: &SelectionRequestEvent, kind: Atom, values: &[u32]) -> bool {
        self.connection.change_property32(PropMode::REPLACE, request.requestor, request.property, kind, values).is_ok()
    }

    fn set_attributes(&mut self, request: &SelectionRequestEvent, target: Atom, data: Vec<u8>) -> bool {
        if matches!(self.manner, Manner::Honest | Manner::HalfSilent) {
            return self
                .connection
                .change_property8(PropMode::REPLACE, request.requestor, request.property, target, &data)
                .is_ok();
        }
        let watch = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
        let _ = self.connection.change_window_attributes(request.requestor, &watch);
        let announced = if self.manner == Manner::Floods { 10 } else { data.len() as u32 };
        self.pieces.insert((request.requestor, request.property), (target, data));
        self.put32(request, atom(&self.connection, "INCR"), &[announced])
    }

    /// Sends the next piece; tells whether the program is to exit.
    fn next_piece(&mut self, window: Window, property: Atom) -> bool {
        let Some((kind, rest)) = self.pieces.get_mut(&(window, property)) else { return false };
        let size = match self.manner {
            Manner::Pieces(size) => size,
            Manner::Floods => 1 << 20,
            _ => 64 * 1024,
        };
        let piece: Vec<u8> =
            if self.manner == Manner::Floods { vec![b'x'; size] } else { rest.drain(..size.min(rest.len())).collect() };
        let _ = self.connection.change_property8(PropMode::REPLACE, window, property, *kind, &piece);
        let _ = self.connection.flush();
        match self.manner {
            Manner::Stalls => drop(self.pieces.remove(&(window, property))),
            Manner::Dies => return true,
            _ if piece.is_empty() => drop(self.pieces.remove(&(window, property))),
            _ => {}
        }
        false
    }
}

/// A window with the focus, as a window manager would announce it, until it is dropped.
pub struct ActiveWindow {
    _connection: RustConnection,
}

impl ActiveWindow {
    /// Shows a window of this application (its class) and title.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn show(display: &str, application: &str, title: &str) -> Self {
        let (connection, window) = connect(display);
        let root = connection.setup().roots[0].root;
        let class = format!("{}\0{application}\0", application.to_lowercase());
        let utf8 = atom(&connection, "UTF8_STRING");
        let name = atom(&connection, "_NET_WM_NAME");
        let active = atom(&connection, "_NET_ACTIVE_WINDOW");
        connection
            .change_property8(PropMode::REPLACE, window, AtomEnum::WM_CLASS, AtomEnum::STRING, class.as_bytes())
            .expect("a property");
        connection.change_property8(PropMode::REPLACE, window, name, utf8, title.as_bytes()).expect("a property");
        connection.change_property32(PropMode::REPLACE, root, active, AtomEnum::WINDOW, &[window]).expect("a property");
        // Everything has been carried out when an answer comes.
        connection.get_input_focus().expect("the X server").reply().expect("the X server");
        Self { _connection: connection }
    }
}

/// Pastes: asks the clipboard's owner for a target, in pieces if it gives so. `None` when it refuses or does
/// not answer.
///
/// # Panics
/// If the X server refuses.
pub fn paste(display: &str, target: &str) -> Option<Vec<u8>> {
    let (connection, window) = connect(display);
    let [clipboard, target, answer, incr] =
        ["CLIPBOARD", target, "TRIAL_ANSWER", "INCR"].map(|name| atom(&connection, name));
    connection.convert_selection(window, clipboard, target, answer, x11rb::CURRENT_TIME).expect("the X server");
    connection.flush().expect("the X server");
    let deadline = Instant::now() + PATIENCE;
    let fetch = || {
        let reply = connection
            .get_property(true, window, answer, AtomEnum::ANY, 0, u32::MAX / 4)
            .expect("a property")
            .reply()
            .expect("a property");
        (reply.type_, reply.value)
    };
    let mut pieces: Option<Vec<u8>> = None;
    while Instant::now() < deadline {
        match connection.wait_for_event().expect("an event") {
            Event::SelectionNotify(event) if event.property == x11rb::NONE => return None,
            Event::SelectionNotify(_) => {
                let (kind, value) = fetch();
                if kind != incr {
                    return Some(value);
                }
                pieces = Some(Vec::new());
            }
            Event::PropertyNotify(event) if event.atom == answer && event.state == Property::NEW_VALUE => {
                if let Some(pieces) = &mut pieces {
                    let (_, value) = fetch();
                    if value.is_empty() {
                        return Some(std::mem::take(pieces));
                    }
                    pieces.extend_from_slice(&value);
                }
            }
            _ => {}
        }
    }
    None
}

/// The names of the targets that the clipboard's owner offers.
///
/// # Panics
/// If the X server refuses.
pub fn targets(display: &str) -> Vec<String> {
    let (connection, _) = connect(display);
    let list = paste(display, "TARGETS").unwrap_or_default();
    let atoms = list.chunks_exact(4).map(|four| u32::from_ne_bytes([four[0], four[1], four[2], four[3]]));
    atoms
        .map(|atom| {
            String::from_utf8(connection.get_atom_name(atom).expect("a name").reply().expect("a name").name)
                .expect("a name")
        })
        .collect()
}

/// Several targets in one request (`MULTIPLE`): what each gave.
///
/// # Panics
/// If the X server refuses.
pub fn paste_multiple(display: &str, wanted: &[&str]) -> Vec<Option<Vec<u8>>> {
    let (connection, window) = connect(display);
    let [clipboard, multiple, pair, answer] =
        ["CLIPBOARD", "MULTIPLE", "ATOM_PAIR", "TRIAL_ANSWER"].map(|name| atom(&connection, name));
    let pairs: Vec<Atom> = wanted
        .iter()
        .enumerate()
        .flat_map(|(n, name)| [atom(&connection, name), atom(&connection, &format!("TRIAL_{n}"))])
        .collect();
    connection.change_property32(PropMode::REPLACE, window, answer, pair, &pairs).expect("a property");
    connection.convert_selection(window, clipboard, multiple, answer, x11rb::CURRENT_TIME).expect("the X server");
    connection.flush().expect("the X server");
    loop {
        if let Event::SelectionNotify(event) = connection.wait_for_event().expect("an event") {
            assert_ne!(event.property, x11rb::NONE, "MULTIPLE was refused");
            break;
        }
    }
    let given = connection
        .get_property(false, window, answer, AtomEnum::ANY, 0, 1024)
        .expect("a property")
        .reply()
        .expect("a property");
    let given: Vec<Atom> = given.value32().expect("pairs").collect();
    let read = |property: Atom| {
        connection
            .get_property(true, window, property, AtomEnum::ANY, 0, u32::MAX / 4)
            .expect("a property")
            .reply()
            .expect("a property")
            .value
    };
    given.chunks_exact(2).map(|pair| (pair[1] != x11rb::NONE).then(|| read(pair[1]))).collect()
}

/// Clears the clipboard on purpose: sets no owner.
///
/// # Panics
/// If the X server refuses.
pub fn clear(display: &str) {
    let (connection, _) = connect(display);
    connection
        .set_selection_owner(x11rb::NONE, atom(&connection, "CLIPBOARD"), x11rb::CURRENT_TIME)
        .expect("the clipboard");
    connection.get_input_focus().expect("the X server").reply().expect("the X server");
}

/// Whether anybody owns the clipboard.
///
/// # Panics
/// If the X server refuses.
pub fn is_owned(display: &str) -> bool {
    let (connection, _) = connect(display);
    let clipboard = atom(&connection, "CLIPBOARD");
    connection.get_selection_owner(clipboard).expect("the owner").reply().expect("the owner").owner != x11rb::NONE
}

/// Asks whoever keeps what exiting programs leave to keep the present copy: these targets of it, or all if
/// none are named. Tells whether that was done.
///
/// # Panics
/// If the X server refuses, or nobody answers.
pub fn save_targets(display: &str, targets: &[&str]) -> bool {
    let (connection, window) = connect(display);
    let [manager, save, list] =
        ["CLIPBOARD_MANAGER", "SAVE_TARGETS", "TRIAL_TARGETS"].map(|name| atom(&connection, name));
    let targets: Vec<Atom> = targets.iter().map(|name| atom(&connection, name)).collect();
    connection.change_property32(PropMode::REPLACE, window, list, AtomEnum::ATOM, &targets).expect("a property");
    connection.convert_selection(window, manager, save, list, x11rb::CURRENT_TIME).expect("the X server");
    connection.flush().expect("the X server");
    loop {
        if let Event::SelectionNotify(event) = connection.wait_for_event().expect("an event") {
            return event.property != x11rb::NONE;
        }
    }
}

/// Another program that keeps what exiting programs leave, until it is dropped.
pub struct Keeper {
    _connection: RustConnection,
}

impl Keeper {
    /// Takes that part over.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn own(display: &str) -> Self {
        let (connection, window) = connect(display);
        let manager = atom(&connection, "CLIPBOARD_MANAGER");
        let time = server_time(&connection, window);
        connection.set_selection_owner(window, manager, time).expect("the selection");
        connection.get_input_focus().expect("the X server").reply().expect("the X server");
        Self { _connection: connection }
    }
}
