//! A window of an X11 program in which a person types and pastes: it pastes what is on the clipboard when its keys for that are
//! pressed, and remembers all that was written into it.

use crate::PATIENCE;
use crate::keys::{code, connect_keyboard};
use crate::program::atom;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread::JoinHandle;
use std::time::Instant;
use x11rb::connection::Connection;
use x11rb::protocol::Event;
use x11rb::protocol::xproto::{
    Atom, AtomEnum, ClientMessageEvent, ConnectionExt, CreateWindowAux, EventMask, InputFocus, KEY_PRESS_EVENT,
    KEY_RELEASE_EVENT, KeyButMask, Keycode, Keysym, MapState, PropMode, Window, WindowClass,
};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

/// Keys, as the X server numbers them (`keysymdef.h`).
pub mod keysyms {
    #![allow(missing_docs, reason = "they are called what they are")]
    pub const SPACE: u32 = 0x20;
    pub const V: u32 = 0x76;
    pub const ENTER: u32 = 0xff0d;
    pub const ESCAPE: u32 = 0xff1b;
    pub const HOME: u32 = 0xff50;
    pub const DOWN: u32 = 0xff54;
    pub const SHIFT: u32 = 0xffe1;
    pub const CONTROL: u32 = 0xffe3;
    pub const CAPS_LOCK: u32 = 0xffe5;
    pub const ALT: u32 = 0xffe9;
    pub const DELETE: u32 = 0xffff;
}

/// What happened in a pad.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Written {
    /// It has the keyboard.
    Focused,
    /// A key was pressed, together with modifiers (`Ctrl+Shift+v`).
    Typed(String),
    /// This was pasted.
    Pasted(String),
}

/// An open window, until it is closed or dropped.
pub struct Pad {
    connection: RustConnection,
    window: Window,
    root: Window,
    written: Receiver<Written>,
    worker: Option<JoinHandle<()>>,
}

impl Pad {
    /// Opens a window of this application (its class), which pastes when this key is pressed with Ctrl, and waits until it can be seen.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn open(display: &str, application: &str, pastes_with: Keysym) -> Self {
        let (connection, screen) = x11rb::connect(Some(display)).expect("the test's own X server");
        let screen = &connection.setup().roots[screen];
        let (root, visual, white) = (screen.root, screen.root_visual, screen.white_pixel);
        let window = connection.generate_id().expect("an id");
        let events = EventMask::EXPOSURE | EventMask::KEY_PRESS | EventMask::FOCUS_CHANGE | EventMask::STRUCTURE_NOTIFY;
        let attributes = CreateWindowAux::new().event_mask(events).background_pixel(white);
        let class = WindowClass::INPUT_OUTPUT;
        connection.create_window(0, window, root, 20, 20, 300, 200, 0, class, visual, &attributes).expect("a window");
        let names = format!("{}\0{application}\0", application.to_lowercase());
        for (property, value) in [(AtomEnum::WM_CLASS, names.as_bytes()), (AtomEnum::WM_NAME, application.as_bytes())] {
            connection.change_property8(PropMode::REPLACE, window, property, AtomEnum::STRING, value).expect("a name");
        }
        connection.map_window(window).expect("a window");
        connection.flush().expect("the X server");
        let (tells, written) = channel();
        let (own, _) = x11rb::connect(Some(display)).expect("the test's own X server");
        let (shown, seen) = channel();
        let worker = std::thread::spawn(move || {
            let mut work = Work { connection, window, pastes_with, tells, shown: Some(shown) };
            while work.next().is_some() {}
        });
        seen.recv_timeout(PATIENCE).expect("the window is shown");
        Self { connection: own, window, root, written, worker: Some(worker) }
    }

    /// Its window.
    pub fn window(&self) -> Window {
        self.window
    }

    /// Gets the keyboard, where there is no window manager to give it.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn focus(&self) {
        self.connection.set_input_focus(InputFocus::PARENT, self.window, x11rb::CURRENT_TIME).expect("the keyboard");
        self.connection.flush().expect("the X server");
        self.wait(&Written::Focused);
    }

    /// Waits until this happened; gives what happened before.
    ///
    /// # Panics
    /// If it does not happen.
    pub fn wait(&self, expected: &Written) -> Vec<Written> {
        let deadline = Instant::now() + PATIENCE;
        let mut before = Vec::new();
        loop {
            match self.written.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
                Ok(written) if written == *expected => return before,
                Ok(written) => before.push(written),
                Err(_) => panic!("{expected:?} did not happen; what did: {before:?}"),
            }
        }
    }

    /// Waits until this was pasted; gives what happened before.
    ///
    /// # Panics
    /// If it is not.
    pub fn pasted(&self, text: &str) -> Vec<Written> {
        self.wait(&Written::Pasted(text.to_owned()))
    }

    /// What has happened since, without waiting.
    pub fn rest(&self) -> Vec<Written> {
        self.written.try_iter().collect()
    }

    /// Its program is killed.
    pub fn kill(mut self) {
        self.end();
    }

    fn end(&mut self) {
        let end = ClientMessageEvent::new(32, self.window, AtomEnum::STRING, [0u32; 5]);
        let _ = self.connection.send_event(false, self.window, EventMask::NO_EVENT, end);
        let _ = self.connection.flush();
        if let Some(worker) = self.worker.take() {
            let _ = worker.join();
        }
        // When the server answers, it has heard of the end of the connection as well.
        let _ = self.connection.get_geometry(self.root).map(x11rb::cookie::Cookie::reply);
    }
}

impl Drop for Pad {
    fn drop(&mut self) {
        self.end();
    }
}

struct Work {
    connection: RustConnection,
    window: Window,
    pastes_with: Keysym,
    tells: Sender<Written>,
    shown: Option<Sender<()>>,
}

impl Work {
    fn atoms(&self) -> [Atom; 3] {
        ["CLIPBOARD", "UTF8_STRING", "PAD"].map(|name| atom(&self.connection, name))
    }

    /// Handles the next event; none when it is the last.
    fn next(&mut self) -> Option<()> {
        let [clipboard, utf8, property] = self.atoms();
        match self.connection.wait_for_event().ok()? {
            Event::Expose(_) => drop(self.shown.take().map(|shown| shown.send(()))),
            Event::FocusIn(_) => drop(self.tells.send(Written::Focused)),
            Event::KeyPress(event) => {
                let symbol = self.symbol(event.detail);
                let held = |mask: KeyButMask, name| event.state.contains(mask).then_some(name);
                let names: Vec<&str> = [
                    held(KeyButMask::CONTROL, "Ctrl"),
                    held(KeyButMask::MOD1, "Alt"),
                    held(KeyButMask::SHIFT, "Shift"),
                ]
                .into_iter()
                .flatten()
                .collect();
                let key =
                    char::from_u32(symbol).filter(char::is_ascii_graphic).map_or(format!("{symbol:x}"), String::from);
                self.tells.send(Written::Typed([names.as_slice(), &[&key]].concat().join("+"))).ok()?;
                if symbol == self.pastes_with
                    && event.state.contains(KeyButMask::CONTROL)
                    && !event.state.contains(KeyButMask::MOD1)
                {
                    self.connection.convert_selection(self.window, clipboard, utf8, property, event.time).ok()?;
                    self.connection.flush().ok()?;
                }
            }
            Event::SelectionNotify(event) => {
                let text = match event.property {
                    x11rb::NONE => "(refused)".to_owned(),
                    property => {
                        let asked =
                            self.connection.get_property(true, self.window, property, AtomEnum::ANY, 0, 1 << 20);
                        String::from_utf8_lossy(&asked.ok()?.reply().ok()?.value).into_owned()
                    }
                };
                self.tells.send(Written::Pasted(text)).ok()?;
            }
            Event::ClientMessage(_) => return None,
            _ => {}
        }
        Some(())
    }

    fn symbol(&self, code: Keycode) -> Keysym {
        let asked = self.connection.get_keyboard_mapping(code, 1).expect("the keyboard").reply().expect("the keyboard");
        asked.keysyms.first().copied().unwrap_or(0)
    }
}

/// Holds keys down, by their numbers (`keysymdef.h`), or lets go of them.
///
/// # Panics
/// If the X server refuses.
pub fn hold(display: &str, keys: &[Keysym], down: bool) {
    let connection = connect_keyboard(display);
    let kind = if down { KEY_PRESS_EVENT } else { KEY_RELEASE_EVENT };
    for key in keys {
        connection.xtest_fake_input(kind, code(&connection, *key), 0, x11rb::NONE, 0, 0, 0).expect("a key");
    }
    connection.get_input_focus().expect("the X server").reply().expect("the X server");
}

/// Whether a key is down, as the X server sees it.
///
/// # Panics
/// If the X server refuses.
pub fn is_down(display: &str, key: Keysym) -> bool {
    let connection = connect_keyboard(display);
    let code = code(&connection, key);
    let keys = connection.query_keymap().expect("the keyboard").reply().expect("the keyboard").keys;
    keys[usize::from(code / 8)] & (1 << (code % 8)) != 0
}

/// Presses keys together, by their numbers, and lets go of them.
///
/// # Panics
/// If the X server refuses.
pub fn press(display: &str, keys: &[Keysym]) {
    hold(display, keys, true);
    hold(display, &keys.iter().rev().copied().collect::<Vec<_>>(), false);
}

/// The picker's window, if it can be seen, whatever lies around it.
pub fn picker_window(connection: &RustConnection, root: Window) -> Option<Window> {
    seen_window(connection, root, "org.yadori.Picker")
}

/// A window of this class, if one can be seen.
pub fn seen_window(connection: &RustConnection, root: Window, wanted: &str) -> Option<Window> {
    let below = |window: Window| connection.query_tree(window).ok()?.reply().ok().map(|tree| tree.children);
    let mut windows = below(root)?;
    while let Some(window) = windows.pop() {
        let class = connection.get_property(false, window, AtomEnum::WM_CLASS, AtomEnum::STRING, 0, 64);
        let class = class.ok().and_then(|asked| asked.reply().ok()).map(|reply| reply.value).unwrap_or_default();
        if String::from_utf8_lossy(&class).contains(wanted) {
            let seen = connection.get_window_attributes(window).ok().and_then(|asked| asked.reply().ok());
            if seen.is_some_and(|seen| seen.map_state == MapState::VIEWABLE) {
                return Some(window);
            }
        }
        windows.extend(below(window).unwrap_or_default());
    }
    None
}
