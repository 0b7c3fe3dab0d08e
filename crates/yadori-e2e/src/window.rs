//! A window of an X11 program, with the name that window managers show.

use crate::program::{Manner, Program, atom};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{AtomEnum, ConnectionExt, CreateWindowAux, EventMask, PropMode, WindowClass};
use x11rb::rust_connection::RustConnection;
use x11rb::wrapper::ConnectionExt as _;

/// An open window, until it is dropped.
pub struct Window {
    _connection: RustConnection,
    display: String,
}

impl Window {
    /// Opens a window of this application (its class) and title.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn show(display: &str, application: &str, title: &str) -> Self {
        let (connection, screen) = x11rb::connect(Some(display)).expect("the test's own X server");
        let screen = &connection.setup().roots[screen];
        let (root, visual) = (screen.root, screen.root_visual);
        let window = connection.generate_id().expect("an id");
        let attributes = CreateWindowAux::new().event_mask(EventMask::EXPOSURE).background_pixel(screen.white_pixel);
        let class = WindowClass::INPUT_OUTPUT;
        connection.create_window(0, window, root, 0, 0, 600, 400, 0, class, visual, &attributes).expect("a window");
        let (name, utf8) = (atom(&connection, "_NET_WM_NAME"), atom(&connection, "UTF8_STRING"));
        let instance = format!("{}\0{application}\0", application.to_lowercase());
        for (property, kind, value) in
            [(AtomEnum::WM_CLASS.into(), AtomEnum::STRING.into(), instance.as_bytes()), (name, utf8, title.as_bytes())]
        {
            connection.change_property8(PropMode::REPLACE, window, property, kind, value).expect("a property");
        }
        connection.map_window(window).expect("a window");
        connection.get_input_focus().expect("the X server").reply().expect("the X server");
        Self { _connection: connection, display: display.to_owned() }
    }

    /// Its program copies.
    ///
    /// # Panics
    /// If the X server refuses.
    pub fn copy(&self, targets: &[(&str, &[u8])]) -> Program {
        Program::copy(&self.display, targets, Manner::Honest)
    }
}
