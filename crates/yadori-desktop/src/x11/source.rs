//! What a window is, as far as its program and the window manager tell; which one is in front, and which has the keyboard.

use super::atoms::Atoms;
use x11rb::cookie::Cookie;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, GetPropertyReply, Window};
use x11rb::rust_connection::RustConnection;
use yadori_core::Source;

/// Longest property that is read, in 32-bit units.
const LONGEST: u32 = 1024;

/// How deep windows lie in one another at most.
const DEEPEST: usize = 64;

/// A property that was asked for.
type Asked<'a> = Option<Cookie<'a, RustConnection, GetPropertyReply>>;

fn ask(connection: &RustConnection, window: Window, property: impl Into<Atom>, kind: impl Into<Atom>) -> Asked<'_> {
    connection.get_property(false, window, property, kind, 0, LONGEST).ok()
}

fn answer(asked: Asked<'_>) -> Option<GetPropertyReply> {
    asked?.reply().ok()
}

/// The first number of a property, unless that is 0.
fn first_number(asked: Asked<'_>) -> Option<u32> {
    answer(asked)?.value32()?.next().filter(|number| *number != 0)
}

/// The active window (EWMH, `_NET_ACTIVE_WINDOW`).
pub(super) fn active(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<Window> {
    first_number(ask_active(connection, atoms, root))
}

fn ask_active<'a>(connection: &'a RustConnection, atoms: &Atoms, root: Window) -> Asked<'a> {
    ask(connection, root, atoms._NET_ACTIVE_WINDOW, AtomEnum::WINDOW)
}

/// The active window, if there is one, and what it is, or else the window `otherwise`. The one that was active before most likely
/// still is: it is asked about at once, so that nothing has to be asked after another answer.
pub(super) fn active_source(
    connection: &RustConnection,
    atoms: &Atoms,
    root: Window,
    before: Option<Window>,
    otherwise: Window,
) -> (Option<Window>, Source) {
    let expected = before.unwrap_or(otherwise);
    let (active, about) = (ask_active(connection, atoms, root), AskedSource::ask(connection, atoms, expected));
    let active = first_number(active);
    let window = active.unwrap_or(otherwise);
    (active, if window == expected { about.answer() } else { source(connection, atoms, window) })
}

/// The name of the window manager (EWMH, `_NET_SUPPORTING_WM_CHECK`), if there is one.
pub(super) fn manager(connection: &RustConnection, atoms: &Atoms, root: Window) -> Option<String> {
    let manager = |window| first_number(ask(connection, window, atoms._NET_SUPPORTING_WM_CHECK, AtomEnum::WINDOW));
    let window = manager(root)?;
    // What a manager that has ended left behind does not count.
    (manager(window) == Some(window)).then(|| source(connection, atoms, window).window.unwrap_or_default())
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
    let machine = answer(ask(connection, window, AtomEnum::WM_CLIENT_MACHINE, AtomEnum::ANY))?.value;
    let own = rustix::system::uname().nodename().to_bytes().to_vec();
    if !machine.is_empty() && machine != own {
        return None;
    }
    first_number(ask(connection, window, atoms._NET_WM_PID, AtomEnum::CARDINAL))
}

/// The application and the title of a window.
pub(super) fn source(connection: &RustConnection, atoms: &Atoms, window: Window) -> Source {
    AskedSource::ask(connection, atoms, window).answer()
}

/// What was asked about a window.
struct AskedSource<'a> {
    class: Asked<'a>,
    title: Asked<'a>,
    old_title: Asked<'a>,
}

impl<'a> AskedSource<'a> {
    fn ask(connection: &'a RustConnection, atoms: &Atoms, window: Window) -> Self {
        let ask =
            |property: Atom, kind: Atom| (window != x11rb::NONE).then(|| ask(connection, window, property, kind))?;
        let (class, old_title) = (AtomEnum::WM_CLASS.into(), AtomEnum::WM_NAME.into());
        let (class, title) = (ask(class, AtomEnum::STRING.into()), ask(atoms._NET_WM_NAME, atoms.UTF8_STRING));
        Self { class, title, old_title: ask(old_title, AtomEnum::STRING.into()) }
    }

    fn answer(self) -> Source {
        let value = |asked| answer(asked).map(|reply| reply.value).filter(|value| !value.is_empty());
        // WM_CLASS is the instance's name and the class, each ended by a NUL (ICCCM, section 4.1.2.5).
        let application = value(self.class).and_then(|value| {
            let class = value.split(|byte| *byte == 0).nth(1)?.to_vec();
            Some(crate::text::from_latin1(&class)).filter(|class| !class.is_empty())
        });
        let title = value(self.title)
            .map(|value| String::from_utf8_lossy(&value).into_owned())
            .or_else(|| value(self.old_title).map(|value| crate::text::from_latin1(&value)));
        Source { application, window: title, ..Source::default() }
    }
}
