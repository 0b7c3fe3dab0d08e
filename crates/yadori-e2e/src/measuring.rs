//! Programs that copy and paste again and again over one connection, for measuring.

use crate::compositor::Compositor;
use crate::display::Display;
use crate::home::Home;
use crate::program::{atom, connect};
use crate::service::Service;
use crate::wayland_program::{WaylandCopier, WaylandPaster};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Instant;
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xfixes::{ConnectionExt as _, SelectionEventMask};
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ChangeWindowAttributesAux, ConnectionExt, EventMask, PropMode, Property, SELECTION_NOTIFY_EVENT,
    SelectionNotifyEvent, Window,
};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

/// A desktop of its own with a program that copies and one that pastes.
pub enum Desk {
    /// An X server.
    X11(Display, Copier, Paster),
    /// A compositor, and the MIME type that is copied.
    Wayland(Compositor, WaylandCopier, WaylandPaster, &'static str),
}

impl Desk {
    /// An X server on which everything is copied under this MIME type.
    ///
    /// # Panics
    /// If it does not start.
    pub fn x11(mime: &'static str) -> Self {
        let display = Display::start();
        let target = if mime == "text/plain" { "UTF8_STRING" } else { mime };
        let (copier, paster) = (Copier::connect(display.name(), target), Paster::connect(display.name()));
        paster.watch();
        Self::X11(display, copier, paster)
    }

    /// A compositor on which everything is copied under this MIME type.
    ///
    /// # Panics
    /// If it does not start.
    pub fn wayland(mime: &'static str) -> Self {
        let compositor = Compositor::start();
        let copier = WaylandCopier::connect(compositor.socket(), mime);
        let paster = WaylandPaster::connect(compositor.socket());
        Self::Wayland(compositor, copier, paster, mime)
    }

    /// The service on it.
    ///
    /// # Panics
    /// If it does not start.
    pub fn service(&self, home: &Home) -> Service {
        match self {
            Self::X11(display, ..) => Service::on_display(home, display),
            Self::Wayland(compositor, ..) => Service::on_compositor(home, compositor),
        }
    }

    /// Copies this. Gives the moment just before.
    ///
    /// # Panics
    /// If the desktop refuses.
    pub fn copy(&mut self, content: Vec<u8>) -> Instant {
        match self {
            Self::X11(_, copier, _) => copier.copy(content),
            Self::Wayland(_, copier, ..) => copier.copy(content),
        }
    }

    /// Learns what is on the clipboard, as a program does before it pastes.
    ///
    /// # Panics
    /// If the desktop refuses.
    pub fn look(&mut self) {
        if let Self::Wayland(_, _, paster, _) = self {
            paster.look();
        }
    }

    /// Waits until somebody else has put something on the clipboard, as who pastes at once would see it.
    ///
    /// # Panics
    /// If the desktop refuses.
    pub fn look_until_taken(&mut self) {
        match self {
            Self::X11(_, copier, paster) => paster.wait_for_another_owner(copier.window()),
            Self::Wayland(_, _, paster, _) => {
                let before = paster.offers();
                while paster.offers() == before {
                    paster.wait();
                }
            }
        }
    }

    /// Asks the desktop for something that it knows, and waits for the answer.
    ///
    /// # Panics
    /// If the desktop refuses.
    pub fn ask(&mut self) {
        match self {
            Self::X11(_, _, paster) => {
                paster.connection.get_input_focus().expect("the X server").reply().expect("an answer");
            }
            Self::Wayland(_, _, paster, _) => paster.look(),
        }
    }

    /// Pastes; gives the bytes.
    ///
    /// # Panics
    /// If the desktop or the owner refuses.
    pub fn paste(&mut self) -> Vec<u8> {
        match self {
            Self::X11(_, copier, paster) => paster.paste(copier.target()),
            Self::Wayland(_, _, paster, mime) => paster.paste(mime),
        }
    }

    /// Reads what is on the clipboard as one must who does not know what it is: asks what there is, and then for that.
    ///
    /// # Panics
    /// If the desktop or the owner refuses.
    pub fn ask_and_paste(&mut self) -> Vec<u8> {
        match self {
            Self::X11(_, copier, paster) => {
                let offered = paster.paste(paster.targets);
                let target = copier.target();
                assert!(offered.chunks_exact(4).any(|atom| atom == target.to_ne_bytes()), "it offers what it copies");
                paster.paste(target)
            }
            // A compositor tells what there is by itself.
            Self::Wayland(_, _, paster, mime) => paster.paste(mime),
        }
    }

    /// The usual tool of the system copies these texts, one after the other, while a program reads each of them and does nothing
    /// else but ask first what there is, as it must to spare what is marked as secret. Gives those that it could read.
    ///
    /// # Panics
    /// If the desktop refuses.
    pub fn reads_of_burst(&mut self, texts: &[String]) -> HashSet<String> {
        let last = texts.last().map_or(&[][..], |text| text.as_bytes());
        let mut read = HashSet::new();
        std::thread::scope(|scope| match self {
            Self::X11(display, copier, paster) => {
                let display = &*display;
                scope.spawn(move || texts.iter().for_each(|text| display.xclip("UTF8_STRING", text.as_bytes())));
                while !read.contains(last) {
                    read.extend(paster.next_read(copier.target()));
                }
            }
            Self::Wayland(compositor, _, paster, mime) => {
                paster.look();
                let compositor = &*compositor;
                scope.spawn(move || texts.iter().for_each(|text| compositor.wl_copy("text/plain", text.as_bytes())));
                while !read.contains(last) {
                    let before = paster.offers();
                    while paster.offers() == before {
                        paster.wait();
                    }
                    read.insert(paster.paste(mime));
                }
            }
        });
        texts.iter().filter(|text| read.contains(text.as_bytes())).cloned().collect()
    }
}

/// A program that copies again and again.
pub struct Copier {
    connection: Arc<RustConnection>,
    window: Window,
    clipboard: Atom,
    target: Atom,
    content: Arc<std::sync::Mutex<Vec<u8>>>,
}

impl Copier {
    /// Connects; everything will be copied under this target.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn connect(display: &str, target: &str) -> Self {
        let (connection, window) = connect(display);
        let [clipboard, target, targets] = ["CLIPBOARD", target, "TARGETS"].map(|name| atom(&connection, name));
        let incr = atom(&connection, "INCR");
        let connection = Arc::new(connection);
        let content: Arc<std::sync::Mutex<Vec<u8>>> = Arc::default();
        let (serving, serving_content) = (connection.clone(), content.clone());
        std::thread::spawn(move || {
            let mut rest: HashMap<(Window, Atom), Vec<u8>> = HashMap::new();
            while let Ok(event) = serving.wait_for_event() {
                match event {
                    Event::SelectionRequest(request) => {
                        if request.target == targets {
                            let list = [targets, target];
                            let _ = serving.change_property32(
                                PropMode::REPLACE,
                                request.requestor,
                                request.property,
                                AtomEnum::ATOM,
                                &list,
                            );
                        } else {
                            let content = serving_content.lock().expect("the content").clone();
                            if content.len() > 256 * 1024 {
                                let watch = ChangeWindowAttributesAux::new().event_mask(EventMask::PROPERTY_CHANGE);
                                let _ = serving.change_window_attributes(request.requestor, &watch);
                                let size = [content.len() as u32];
                                let _ = serving.change_property32(
                                    PropMode::REPLACE,
                                    request.requestor,
                                    request.property,
                                    incr,
                                    &size,
                                );
                                rest.insert((request.requestor, request.property), content);
                            } else {
                                let _ = serving.change_property8(
                                    PropMode::REPLACE,
                                    request.requestor,
                                    request.property,
                                    target,
                                    &content,
                                );
                            }
                        }
                        let notify = SelectionNotifyEvent {
                            response_type: SELECTION_NOTIFY_EVENT,
                            sequence: 0,
                            time: request.time,
                            requestor: request.requestor,
                            selection: request.selection,
                            target: request.target,
                            property: request.property,
                        };
                        let _ = serving.send_event(false, request.requestor, EventMask::NO_EVENT, notify);
                        let _ = serving.flush();
                    }
                    Event::PropertyNotify(event) if event.state == Property::DELETE => {
                        if let Some(left) = rest.get_mut(&(event.window, event.atom)) {
                            let piece: Vec<u8> = left.drain(..left.len().min(256 * 1024)).collect();
                            let _ =
                                serving.change_property8(PropMode::REPLACE, event.window, event.atom, target, &piece);
                            let _ = serving.flush();
                            if piece.is_empty() {
                                rest.remove(&(event.window, event.atom));
                            }
                        }
                    }
                    _ => {}
                }
            }
        });
        Self { connection, window, clipboard, target, content }
    }

    /// Copies this. Gives the moment just before.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn copy(&mut self, content: Vec<u8>) -> Instant {
        *self.content.lock().expect("the content") = content;
        let before = Instant::now();
        // Ours would be older than that of whoever took the clipboard since.
        self.connection.set_selection_owner(self.window, self.clipboard, x11rb::CURRENT_TIME).expect("the clipboard");
        self.connection.flush().expect("the X server");
        before
    }

    /// The window that owns what it copies.
    pub fn window(&self) -> Window {
        self.window
    }

    /// The target under which it copies.
    pub fn target(&self) -> u32 {
        self.target
    }
}

/// A program that pastes again and again.
pub struct Paster {
    connection: RustConnection,
    window: Window,
    clipboard: Atom,
    answer: Atom,
    incr: Atom,
    targets: Atom,
}

impl Paster {
    /// Connects.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn connect(display: &str) -> Self {
        let (connection, window) = connect(display);
        let [clipboard, answer, incr, targets] =
            ["CLIPBOARD", "TRIAL_ANSWER", "INCR", "TARGETS"].map(|name| atom(&connection, name));
        Self { connection, window, clipboard, answer, incr, targets }
    }

    /// Waits until what is on the clipboard is owned by another window than this. It must [watch](Self::watch).
    fn wait_for_another_owner(&self, window: Window) {
        let is_another = |event| matches!(event, Event::XfixesSelectionNotify(event) if event.owner != window && event.owner != x11rb::NONE);
        while !is_another(self.connection.wait_for_event().expect("an event")) {}
    }

    /// From here on it hears of every copy.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn watch(&self) {
        self.connection.xfixes_query_version(5, 0).expect("the X server").reply().expect("a version");
        self.connection
            .xfixes_select_selection_input(self.window, self.clipboard, SelectionEventMask::SET_SELECTION_OWNER)
            .expect("the X server");
        self.connection.flush().expect("the X server");
    }

    /// Waits for what comes next: asks for what was copied, or takes the answer. An owner that is replaced before it answers
    /// is not waited for.
    fn next_read(&self, target: u32) -> Option<Vec<u8>> {
        let ask = |target, time| {
            let asked = self.connection.convert_selection(self.window, self.clipboard, target, self.answer, time);
            asked.expect("the X server");
            self.connection.flush().expect("the X server");
        };
        match self.connection.wait_for_event().expect("an event") {
            Event::XfixesSelectionNotify(event) if event.owner != x11rb::NONE => {
                ask(self.targets, event.timestamp);
                None
            }
            Event::SelectionNotify(event) if event.property != x11rb::NONE => {
                let cookie =
                    self.connection.get_property(true, self.window, self.answer, AtomEnum::ANY, 0, u32::MAX / 4);
                let value = cookie.expect("a property").reply().expect("a property").value;
                if event.target == target {
                    return Some(value);
                }
                ask(target, event.time);
                None
            }
            _ => None,
        }
    }

    /// Pastes under this target; gives the bytes.
    ///
    /// # Panics
    /// If the X server or the owner refuses.
    pub fn paste(&self, target: u32) -> Vec<u8> {
        self.connection
            .convert_selection(self.window, self.clipboard, target, self.answer, x11rb::CURRENT_TIME)
            .expect("the X server");
        self.connection.flush().expect("the X server");
        let fetch = || {
            let cookie = self
                .connection
                .get_property(true, self.window, self.answer, AtomEnum::ANY, 0, u32::MAX / 4)
                .expect("a property");
            let reply = cookie.reply().expect("a property");
            (reply.type_, reply.value)
        };
        let mut pieces: Option<Vec<u8>> = None;
        loop {
            match self.connection.wait_for_event().expect("an event") {
                Event::SelectionNotify(event) => {
                    assert_ne!(event.property, x11rb::NONE, "the owner refuses");
                    let (kind, value) = fetch();
                    if kind != self.incr {
                        return value;
                    }
                    pieces = Some(Vec::new());
                }
                Event::PropertyNotify(event) if event.state == Property::NEW_VALUE && event.atom == self.answer => {
                    if let Some(pieces) = &mut pieces {
                        let (_, value) = fetch();
                        if value.is_empty() {
                            return std::mem::take(pieces);
                        }
                        pieces.extend_from_slice(&value);
                    }
                }
                _ => {}
            }
        }
    }
}
