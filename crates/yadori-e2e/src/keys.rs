//! A keyboard for programs with windows: the X server's test extension, or a virtual one on a compositor.

use crate::compositor::Compositor;
use crate::display::Display;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{ConnectionExt as _, InputFocus, KEY_PRESS_EVENT, KEY_RELEASE_EVENT, Keysym, Window};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;

/// A desktop with a keyboard.
pub enum Desktop {
    /// An X server.
    X11(Display),
    /// A compositor.
    Wayland(Compositor),
}

/// A key, and whether Ctrl is held down with it.
#[derive(Clone, Copy, Debug)]
pub struct Key(pub &'static str, pub bool);

/// Keys by the names that both systems give them, and the numbers of X11 (`keysymdef.h`).
const NUMBERS: [(&str, Keysym); 9] = [
    ("Tab", 0xff09),
    ("Menu", 0xff67),
    ("a", 0x61),
    ("c", 0x63),
    ("l", 0x6c),
    ("v", 0x76),
    ("y", 0x79),
    ("Escape", 0xff1b),
    ("3", 0x33),
];

/// Before each key the keyboard itself waits a moment: a menu needs one to open, and no program tells when it
/// has. (The keys of one call come from one keyboard; when it goes, so does an open menu.)
const PAUSE_MILLIS: u32 = 200;

const CONTROL: Keysym = 0xffe3;

impl Desktop {
    /// Whether a window whose title contains this is in front; on an X server without a window manager, it
    /// gets the keyboard by being asked for.
    ///
    /// # Panics
    /// If the desktop does not answer.
    pub fn is_in_front(&self, title: &str) -> bool {
        match self {
            Self::Wayland(compositor) => compositor.tell("-t get_tree").contains(title),
            Self::X11(display) => {
                let (connection, screen) = x11rb::connect(Some(display.name())).expect("the test's own X server");
                let root = connection.setup().roots[screen].root;
                let Some(window) = find(&connection, root, title) else { return false };
                let focused = connection.set_input_focus(InputFocus::PARENT, window, x11rb::CURRENT_TIME);
                focused.is_ok_and(|done| done.check().is_ok())
            }
        }
    }

    /// Presses keys, one after the other.
    ///
    /// # Panics
    /// If the desktop does not take them.
    pub fn press(&self, keys: &[Key]) {
        match self {
            Self::Wayland(compositor) => {
                let mut command = compositor.command("wtype");
                for Key(name, control) in keys {
                    command.args(["-s", &PAUSE_MILLIS.to_string()]);
                    if *control {
                        command.args(["-M", "ctrl", "-k", name, "-m", "ctrl"]);
                    } else {
                        command.args(["-k", name]);
                    }
                }
                assert!(command.status().expect("wtype").success(), "wtype failed");
            }
            Self::X11(display) => {
                let (connection, _) = x11rb::connect(Some(display.name())).expect("the test's own X server");
                for Key(name, control) in keys {
                    let (_, number) = NUMBERS.iter().find(|(known, _)| known == name).expect("a known key");
                    let held = if *control { vec![code(&connection, CONTROL)] } else { Vec::new() };
                    let pressed: Vec<u8> = held.into_iter().chain([code(&connection, *number)]).collect();
                    for (kind, codes) in [
                        (KEY_PRESS_EVENT, pressed.clone()),
                        (KEY_RELEASE_EVENT, pressed.into_iter().rev().collect::<Vec<_>>()),
                    ] {
                        for (place, code) in codes.into_iter().enumerate() {
                            let pause = if kind == KEY_PRESS_EVENT && place == 0 { PAUSE_MILLIS } else { 0 };
                            connection.xtest_fake_input(kind, code, pause, x11rb::NONE, 0, 0, 0).expect("a key");
                        }
                    }
                }
                connection.get_input_focus().expect("the X server").reply().expect("the X server");
            }
        }
    }
}

/// The window with such a title, wherever it lies.
fn find(connection: &RustConnection, window: Window, title: &str) -> Option<Window> {
    let name = crate::program::atom(connection, "_NET_WM_NAME");
    let named = connection.get_property(false, window, name, x11rb::NONE, 0, 1024).ok()?.reply().ok()?;
    if String::from_utf8_lossy(&named.value).contains(title) {
        return Some(window);
    }
    let below = connection.query_tree(window).ok()?.reply().ok()?.children;
    below.into_iter().find_map(|window| find(connection, window, title))
}

/// A connection by which keys are pressed.
pub(crate) fn connect_keyboard(display: &str) -> RustConnection {
    x11rb::connect(Some(display)).expect("the test's own X server").0
}

/// The code by which the X server's keyboard has a key.
pub(crate) fn code(connection: &RustConnection, key: Keysym) -> u8 {
    let setup = connection.setup();
    let (first, last) = (setup.min_keycode, setup.max_keycode);
    let map = connection.get_keyboard_mapping(first, last - first + 1).expect("the keyboard").reply().expect("it");
    let place = map.keysyms.chunks(usize::from(map.keysyms_per_keycode)).position(|keys| keys.first() == Some(&key));
    first + u8::try_from(place.expect("the key is on the keyboard")).expect("a code")
}
