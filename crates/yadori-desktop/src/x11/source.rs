//! What a window is, as far as its program and the window manager tell; which one is in front, and which has the keyboard.

use super::atoms::Atoms;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, Window};
use x11rb::rust_connection::RustConnection;
use yadori_core::Source;

/// Longest property that is read, in 32-bit units.
const LONGEST: u32 = 1024;

/// How deep windows lie in one another at most.
const DEEPEST: usize = 64;

/// The first number of a property, unless that is 0.
fn number(connection: &RustConnection, window: Window, property: Atom, kind: AtomEnum) -> Option<u32> {
    let asked = connection.get_property(false, window, property, kind, 0, 1).ok()?;
    asked.reply().ok()?.value32()?.next().filter(|number| *number != 0)
}

/// The active window (EWMH, `_NET_ACTIVE_WINDOW`).
pub(super) fn active(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<Window> {
    number(connection, root, atoms._NET_ACTIVE_WINDOW, AtomEnum::WINDOW)
}

/// The name of the window manager (EWMH, `_NET_SUPPORTING_WM_CHECK`), if there is one.
pub(super) fn manager(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<String> {
    let window = number(connection, root, atoms._NET_SUPPORTING_WM_CHECK, AtomEnum::WINDOW)?;
    // What a manager that has ended left behind does not count.
    (number(connection, window, atoms._NET_SUPPORTING_WM_CHECK, AtomEnum::WINDOW) == Some(window))
        .then(|| source(connection, atoms, window).window.unwrap_or_default())
}

/// The window that has the keyboard: that of a program which its manager knows (or the outermost), and the very one.
pub(super) fn focused(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<(Window, Window)> {
    let focus = connection.get_input_focus().ok()?.reply().ok()?.focus;
    // 0 is none, 1 whichever the pointer is over.
    let focus = if focus <= 1 || focus == root { active(connection, atoms, root)? } else { focus };
    let mut outermost = focus;
    for window in ancestors(connection, focus) {
        outermost = window;
        let state = connection.get_property(false, window, atoms.WM_STATE, AtomEnum::ANY, 0, 0).ok()?.reply().ok()?;
        if state.type_ != x11rb::NONE {
            break;
        }
    }
    Some((outermost, focus))
}

/// A window and those around it, without the root.
pub(super) fn ancestors(connection: &RustConnection, window: Window) -> impl Iterator<Item = Window> {
    let mut next = Some(window);
    std::iter::from_fn(move || {
        let window = next?;
        let tree = connection.query_tree(window).ok()?.reply().ok()?;
        next = Some(tree.parent).filter(|parent| *parent != tree.root && *parent != x11rb::NONE);
        Some(window)
    })
    .take(DEEPEST)
}

/// The process of a window (EWMH, `_NET_WM_PID`), as the program says; if it is on this machine.
pub(super) fn process(connection: &RustConnection, atoms: &Atoms, window: Window) -> Option<u32> {
    let asked = connection.get_property(false, window, AtomEnum::WM_CLIENT_MACHINE, AtomEnum::ANY, 0, LONGEST).ok()?;
    let machine = asked.reply().ok()?.value;
    let own = rustix::system::uname().nodename().to_bytes().to_vec();
    if !machine.is_empty() && machine != own {
        return None;
    }
    number(connection, window, atoms._NET_WM_PID, AtomEnum::CARDINAL)
}

/// The application and the title of a window.
pub(super) fn source(connection: &RustConnection, atoms: &Atoms, window: Window) -> Source {
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
