//! Where a copy is made: the window in front, as far as the compositor tells
//! (`wlr-foreign-toplevel-management-unstable-v1`).

use super::State;
use std::collections::HashMap;
use wayland_client::backend::ObjectId;
use wayland_client::{Connection, Dispatch, Proxy, QueueHandle, event_created_child};
use wayland_protocols_wlr::foreign_toplevel::v1::client::{
    zwlr_foreign_toplevel_handle_v1::{self as handle, ZwlrForeignToplevelHandleV1},
    zwlr_foreign_toplevel_manager_v1::{self as manager, ZwlrForeignToplevelManagerV1},
};
use yadori_core::Source;

/// The name of the global.
pub(super) const MANAGER: &str = "zwlr_foreign_toplevel_manager_v1";

/// Most characters of a title that are kept.
const LONGEST: usize = 1000;

struct Window {
    /// Its number here: the compositor uses its own again.
    number: u64,
    handle: ZwlrForeignToplevelHandleV1,
    application: Option<String>,
    title: Option<String>,
    active: bool,
}

/// The windows that are open.
#[derive(Default)]
pub(super) struct Windows {
    open: HashMap<ObjectId, Window>,
    opened: u64,
}

impl Windows {
    /// The application and the title of the window in front.
    pub fn source(&self) -> Source {
        self.active().map(|(_, source)| source).unwrap_or_default()
    }

    /// The window in front, and what it is.
    pub fn active(&self) -> Option<(u64, Source)> {
        let window = self.open.values().find(|window| window.active)?;
        let source =
            Source { application: window.application.clone(), window: window.title.clone(), ..Source::default() };
        Some((window.number, source))
    }

    /// The window of this number, while it is open.
    pub fn handle(&self, number: u64) -> Option<&ZwlrForeignToplevelHandleV1> {
        self.open.values().find(|window| window.number == number).map(|window| &window.handle)
    }

    fn opened(&mut self, handle: ZwlrForeignToplevelHandleV1) {
        self.opened += 1;
        let window =
            Window { number: self.opened, handle: handle.clone(), application: None, title: None, active: false };
        self.open.insert(handle.id(), window);
    }
}

fn text(text: String) -> Option<String> {
    let text: String = text.chars().take(LONGEST).collect();
    Some(text).filter(|text| !text.is_empty())
}

impl Dispatch<ZwlrForeignToplevelManagerV1, ()> for State {
    fn event(
        state: &mut Self,
        _: &ZwlrForeignToplevelManagerV1,
        event: manager::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        if let manager::Event::Toplevel { toplevel } = event {
            state.windows.opened(toplevel);
        }
    }

    event_created_child!(State, ZwlrForeignToplevelManagerV1, [
        manager::EVT_TOPLEVEL_OPCODE => (ZwlrForeignToplevelHandleV1, ())
    ]);
}

impl Dispatch<ZwlrForeignToplevelHandleV1, ()> for State {
    fn event(
        state: &mut Self,
        toplevel: &ZwlrForeignToplevelHandleV1,
        event: handle::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
        let Some(window) = state.windows.open.get_mut(&toplevel.id()) else { return };
        match event {
            handle::Event::Title { title } => window.title = text(title),
            handle::Event::AppId { app_id } => window.application = text(app_id),
            handle::Event::State { state } => {
                window.active = state.chunks_exact(4).any(|four| {
                    u32::from_ne_bytes([four[0], four[1], four[2], four[3]]) == handle::State::Activated as u32
                });
            }
            handle::Event::Closed => {
                state.windows.open.remove(&toplevel.id());
                toplevel.destroy();
            }
            _ => {}
        }
    }
}
