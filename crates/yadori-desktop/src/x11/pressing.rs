//! Pressing the keys that paste, in the window that has the keyboard (XTEST).

use super::atoms::Atoms;
use super::source;
use std::path::Path;
use x11rb::connection::Connection;
use x11rb::errors::ReplyError;
use x11rb::protocol::xproto::{ConnectionExt as _, KEY_PRESS_EVENT, KEY_RELEASE_EVENT, Keycode, Window};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;

const CONTROL: u32 = 0xffe3;
const SHIFT: u32 = 0xffe1;
const V: u32 = 0x76;

/// Whether the window that has the keyboard is a terminal's: by its class, or because its process serves a
/// pseudo-terminal itself (`/dev/ptmx`, see pty(7)).
fn has_terminal(connection: &RustConnection, atoms: &Atoms, root: Window) -> bool {
    let application = source::source(connection, atoms, root, x11rb::NONE).application.unwrap_or_default();
    application.to_ascii_lowercase().contains("term")
        || source::process(connection, atoms, root).is_some_and(serves_terminal)
}

fn serves_terminal(process: u32) -> bool {
    let is_terminal = |path: &Path| matches!(path.to_str(), Some("/dev/ptmx" | "/dev/pts/ptmx"));
    let opened = std::fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten();
    opened.filter_map(|file| std::fs::read_link(file.path()).ok()).any(|path| is_terminal(&path))
}

/// Presses Ctrl+V, or in a terminal Ctrl+Shift+V.
///
/// # Errors
/// Why that cannot be done.
pub(super) fn paste(connection: &RustConnection, atoms: &Atoms, root: Window) -> Result<(), String> {
    let broken = |error: ReplyError| format!("the X server refused: {error}");
    let setup = connection.setup();
    let (first, last) = (setup.min_keycode, setup.max_keycode);
    let mapping = connection.get_keyboard_mapping(first, last - first + 1).map_err(ReplyError::from).map_err(broken)?;
    let mapping = mapping.reply().map_err(broken)?;
    let per_key = usize::from(mapping.keysyms_per_keycode).max(1);
    let key = |symbol: u32| -> Result<Keycode, String> {
        let place = mapping.keysyms.chunks(per_key).position(|symbols| symbols.contains(&symbol));
        place.map(|place| first + place as u8).ok_or_else(|| "the keyboard has no such keys".to_owned())
    };
    let mut keys = vec![key(CONTROL)?];
    if has_terminal(connection, atoms, root) {
        keys.push(key(SHIFT)?);
    }
    keys.push(key(V)?);

    let press = |kind: u8, key: Keycode| -> Result<(), String> {
        let sent = connection.xtest_fake_input(kind, key, x11rb::CURRENT_TIME, root, 0, 0, 0);
        sent.map_err(ReplyError::from).and_then(x11rb::cookie::VoidCookie::check).map_err(broken)
    };
    // Keys that the person still holds, of the shortcut that brought us here, would make it another one.
    let held =
        connection.query_keymap().map_err(ReplyError::from).and_then(x11rb::cookie::Cookie::reply).map_err(broken)?;
    let modifiers = connection.get_modifier_mapping().map_err(ReplyError::from).and_then(x11rb::cookie::Cookie::reply);
    for modifier in modifiers.map_err(broken)?.keycodes {
        let down = held.keys[usize::from(modifier / 8)] & (1 << (modifier % 8)) != 0;
        if modifier != 0 && down {
            press(KEY_RELEASE_EVENT, modifier)?;
        }
    }
    for key in &keys {
        press(KEY_PRESS_EVENT, *key)?;
    }
    for key in keys.iter().rev() {
        press(KEY_RELEASE_EVENT, *key)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_serves_a_terminal_is_known_by_that() {
        let mut sleeping = std::process::Command::new("sleep");
        let mut other = sleeping.arg("60").spawn().unwrap();
        assert!(!serves_terminal(other.id()));
        other.kill().unwrap();
        other.wait().unwrap();
        let _terminal = std::fs::File::open("/dev/ptmx").unwrap();
        assert!(serves_terminal(std::process::id()));
    }
}
