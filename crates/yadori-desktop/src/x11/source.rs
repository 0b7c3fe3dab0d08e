//! Where a copy was made: the window in front, as far as the window manager tells.

use super::atoms::Atoms;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, Window};
use x11rb::rust_connection::RustConnection;
use yadori_core::Source;

/// Longest property that is read, in 32-bit units.
const LONGEST: u32 = 1024;

/// The first number of a property, unless that is 0.
fn number(connection: &RustConnection, window: Window, property: Atom, kind: AtomEnum) -> Option<u32> {
    let asked = connection.get_property(false, window, property, kind, 0, 1).ok()?;
    asked.reply().ok()?.value32()?.next().filter(|number| *number != 0)
}

/// The process of the active window (EWMH, `_NET_WM_PID`), as the program says; if it is on this machine.
pub(super) fn process(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<u32> {
    let window = number(connection, root, atoms._NET_ACTIVE_WINDOW, AtomEnum::WINDOW)?;
    let asked = connection.get_property(false, window, AtomEnum::WM_CLIENT_MACHINE, AtomEnum::ANY, 0, LONGEST).ok()?;
    let machine = asked.reply().ok()?.value;
    let own = rustix::system::uname().nodename().to_bytes().to_vec();
    if !machine.is_empty() && machine != own {
        return None;
    }
    number(connection, window, atoms._NET_WM_PID, AtomEnum::CARDINAL)
}

/// The application and the title of the active window (EWMH, `_NET_ACTIVE_WINDOW`), or without a window
/// manager of the window that owns the selection.
pub(super) fn source(connection: &RustConnection, atoms: &Atoms, root: Window, owner: Window) -> Source {
    let window = number(connection, root, atoms._NET_ACTIVE_WINDOW, AtomEnum::WINDOW).unwrap_or(owner);
    if window == x11rb::NONE {
        return Source::default();
    }
    let class = connection.get_property(false, window, AtomEnum::WM_CLASS, AtomEnum::STRING, 0, LONGEST);
    let title = connection.get_property(false, window, atoms._NET_WM_NAME, atoms.UTF8_STRING, 0, LONGEST);
    let old_title = connection.get_property(false, window, AtomEnum::WM_NAME, AtomEnum::STRING, 0, LONGEST);
    let _ = connection.flush();
    let read = |cookie: Result<
        x11rb::cookie::Cookie<'_, RustConnection, x11rb::protocol::xproto::GetPropertyReply>,
        _,
    >| {
        cookie.ok().and_then(|cookie| cookie.reply().ok()).map(|reply| reply.value).filter(|value| !value.is_empty())
    };
    // WM_CLASS is the instance's name and the class, each ended by a NUL (ICCCM, section 4.1.2.5).
    let application = read(class).and_then(|value| {
        let class = value.split(|byte| *byte == 0).nth(1)?.to_vec();
        Some(crate::text::from_latin1(&class)).filter(|class| !class.is_empty())
    });
    let title = read(title)
        .map(|value| String::from_utf8_lossy(&value).into_owned())
        .or_else(|| read(old_title).map(|value| crate::text::from_latin1(&value)));
    Source { application, window: title, ..Source::default() }
}
