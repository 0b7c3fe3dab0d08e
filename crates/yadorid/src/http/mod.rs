//! The service over HTTP.
//!
//! * `interface`: what each request passes on its way to a handler, and its answer on its way out
//! * `auth`: who is let in, and under which names and from which pages we may be asked
//! * `asked`: what a request says
//! * `protocol`, `bodies`: what every request must keep to, and what it brings along
//! * `conditional`, `repeats`: changes of what was seen only, and additions that are made once
//! * `problem`: errors as RFC 9457 problem documents, in one place
//! * `clips`, `content`, `changing`, `kept`, `tray`, `keys`, `forgetting`, `rules`, `moving`, `events`, `control`, `simulated`: the interface under `/api/v1`
//! * `listings`: pages of the history, in JSON that is kept
//! * `paths`, `document`: which handler answers what, and the description of it all
//! * `contract`: what the engine says in the words of the interface
//! * `console`: the pages
//! * `gate`, `lock`: what is told while the history is locked, and the lock

mod asked;
pub mod auth;
mod bodies;
mod changing;
mod clips;
mod conditional;
pub(crate) mod console;
mod content;
mod contract;
mod control;
mod devices;
mod document;
pub(crate) mod door;
mod events;
mod forgetting;
mod gate;
mod interface;
mod kept;
mod keys;
mod listings;
mod lock;
mod moving;
mod paths;
mod private_drawers;
mod problem;
mod protocol;
mod repeats;
mod rules;
mod sessions;
mod simulated;
mod tray;

use crate::service::Service;
use serde_json::Value;
use std::sync::{Arc, OnceLock};

pub use gate::Gate;
pub use interface::Interface;
pub(crate) use protocol::LIMITS;
pub(crate) use repeats::Repeats;

/// What handlers work with.
pub type App = Arc<Service>;

/// The description of the interface, made when somebody first asks for it: few ever do.
///
/// # Panics
/// If it cannot be written as JSON, which would be a defect of this crate.
fn document() -> &'static Value {
    static DOCUMENT: OnceLock<Value> = OnceLock::new();
    DOCUMENT
        .get_or_init(|| document::complete(serde_json::to_value(paths::described()).expect("a document of plain data")))
}

/// The OpenAPI document, as it is served and as it is committed.
///
/// # Panics
/// If the document cannot be written as JSON, which would be a defect of this crate.
pub fn openapi_json() -> String {
    let mut text = serde_json::to_string_pretty(document()).expect("a document of plain data");
    text.push('\n');
    text
}
