//! Where the window appears, and who gets the keyboard when it is gone. On X11, it appears at the pointer, within its monitor; on
//! Wayland, where the compositor puts it.

use gdk4_x11::{X11Display, X11Surface};
use gtk4::prelude::*;
use gtk4::{Window, gdk};
use std::cell::{Cell, OnceCell};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{ConfigureWindowAux, ConnectionExt as _, InputFocus};
use x11rb::rust_connection::RustConnection;

/// How far from the pointer, and from the edges of the monitor, the window stays at least, in pixels.
const APART: i32 = 8;

/// A place within an area: as wanted if there is room, else pushed inside.
fn within(wanted: i32, length: i32, (start, room): (i32, i32)) -> i32 {
    wanted.min(start + room - length - APART).max(start + APART)
}

/// Puts windows in their place.
#[derive(Default)]
pub struct Place {
    connection: OnceCell<Option<(RustConnection, usize)>>,
    /// The window that had the keyboard before, on X11.
    had_keyboard: Cell<Option<u32>>,
}

impl Place {
    /// Prepares a window that is about to be shown.
    pub fn before(&self, window: &Window) {
        gtk4::prelude::WidgetExt::realize(window);
        let Some(surface) = window.surface().and_downcast::<X11Surface>() else { return };
        surface.set_skip_taskbar_hint(true);
        surface.set_skip_pager_hint(true);
        // The person has just asked for it: window managers give the keyboard to what was asked for last.
        let now = gdk4_x11::x11_get_server_time(&surface);
        surface.set_user_time(now);
        if !gtk4::prelude::WidgetExt::is_visible(window)
            && let Some((connection, _)) = self.x11(&surface.display())
        {
            let focus = connection.get_input_focus().ok().and_then(|asked| asked.reply().ok());
            self.had_keyboard.set(focus.map(|focus| focus.focus));
        }
        self.put(window);
    }

    /// Gives the keyboard back once the window is gone. A window manager does so itself; without one, nobody would have it.
    pub fn give_keyboard_back(&self, display: &gdk::Display) {
        let (Some(before), Some((connection, screen))) = (self.had_keyboard.take(), self.x11(display)) else { return };
        // What was asked of the server before is done then.
        display.sync();
        let root = connection.setup().roots[*screen].root;
        let nobody = [u32::from(InputFocus::NONE), u32::from(InputFocus::POINTER_ROOT), root];
        let focus = connection.get_input_focus().ok().and_then(|asked| asked.reply().ok());
        if focus.is_some_and(|focus| nobody.contains(&focus.focus)) && !nobody.contains(&before) {
            let _ = connection.set_input_focus(InputFocus::PARENT, before, x11rb::CURRENT_TIME);
            // Until it has come to pass; a window that is gone by now is no error of ours.
            let _ = connection.get_input_focus().map(x11rb::cookie::Cookie::reply);
        }
    }

    fn x11(&self, display: &gdk::Display) -> Option<&(RustConnection, usize)> {
        if !display.is::<X11Display>() {
            return None;
        }
        let name = display.name();
        self.connection.get_or_init(|| x11rb::connect(Some(&name)).ok()).as_ref()
    }

    /// Puts a window where the person is.
    pub fn put(&self, window: &Window) {
        let Some(surface) = window.surface() else { return };
        let display = surface.display();
        let Some(x11) = surface.downcast_ref::<X11Surface>() else { return };
        let Some((connection, screen)) = self.x11(&display) else { return };
        let root = connection.setup().roots[*screen].root;
        let Some(pointer) = connection.query_pointer(root).ok().and_then(|asked| asked.reply().ok()) else { return };
        let (x, y) = (i32::from(pointer.root_x), i32::from(pointer.root_y));
        let scale = surface.scale_factor();
        let (width, height) = (window.default_width() * scale, window.default_height() * scale);
        let Some(area) = monitor(&display, x / scale, y / scale) else { return };
        let place = ConfigureWindowAux::new()
            .x(within(x + APART, width, (area.x() * scale, area.width() * scale)))
            .y(within(y + APART, height, (area.y() * scale, area.height() * scale)));
        let _ = connection.configure_window(x11.xid() as u32, &place);
        let _ = connection.flush();
    }
}

/// The monitor at a point, or the first one.
fn monitor(display: &gdk::Display, x: i32, y: i32) -> Option<gdk::Rectangle> {
    let monitors = display.monitors();
    let areas: Vec<gdk::Rectangle> =
        monitors.iter::<gdk::Monitor>().flatten().map(|monitor| monitor.geometry()).collect();
    areas.iter().find(|area| area.contains_point(x, y)).or_else(|| areas.first()).copied()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_window_stays_on_its_monitor() {
        let monitor = (1280, 1280);
        assert_eq!(within(1300, 460, monitor), 1300);
        assert_eq!(within(2500, 460, monitor), 1280 + 1280 - 460 - APART);
        assert_eq!(within(1200, 460, monitor), 1280 + APART);
        assert_eq!(within(1300, 4000, monitor), 1280 + APART, "its beginning can be seen in any case");
    }
}
