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
//! * `document`: its description
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
mod private_drawers;
mod problem;
mod protocol;
mod repeats;
mod rules;
mod sessions;
mod simulated;
mod tray;

use crate::service::Service;
use axum::Router;
use serde_json::Value;
use std::sync::{Arc, OnceLock};
use utoipa::OpenApi;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub use gate::Gate;
pub use interface::Interface;
pub(crate) use protocol::LIMITS;
pub(crate) use repeats::Repeats;

/// What handlers work with.
pub type App = Arc<Service>;

#[derive(OpenApi)]
#[openapi(
    info(title = "Yadori", description = "The history of what a person copies, on their own computer."),
    components(schemas(yadori_api::Problem, yadori_api::ClipChange, yadori_api::PartChange, yadori_api::Part, yadori_api::ExportForm)),
    security(("token" = []))
)]
struct Document;

/// The interface, and what its handlers say of themselves.
fn paths() -> (Router<App>, utoipa::openapi::OpenApi) {
    let routes = OpenApiRouter::with_openapi(Document::openapi())
        .routes(routes!(clips::list, clips::add))
        .routes(routes!(clips::show, kept::change_clip))
        .routes(routes!(clips::recall))
        .routes(routes!(changing::edit))
        .routes(routes!(changing::reshape))
        .routes(routes!(changing::ways))
        .routes(routes!(changing::expand))
        .routes(routes!(changing::qr))
        .routes(routes!(kept::pins, kept::pin))
        .routes(routes!(kept::unpin))
        .routes(routes!(kept::aliases))
        .routes(routes!(kept::drawers, kept::new_drawer))
        .routes(routes!(kept::show_drawer, kept::change_drawer, kept::remove_drawer))
        .routes(routes!(kept::put_into_drawer))
        .routes(routes!(kept::take_from_drawers))
        .routes(routes!(kept::move_in_drawer))
        .routes(routes!(kept::head_drawer))
        .routes(routes!(kept::sort_drawer))
        .merge(private_drawers::routes())
        .routes(routes!(tray::show_tray))
        .routes(routes!(tray::open_tray))
        .routes(routes!(tray::close_tray))
        .routes(routes!(tray::add_to_tray))
        .routes(routes!(tray::arrange_tray))
        .routes(routes!(tray::undo_in_tray))
        .routes(routes!(tray::restart_tray))
        .routes(routes!(tray::next_in_tray))
        .routes(routes!(tray::back_in_tray))
        .routes(routes!(tray::skip_in_tray))
        .routes(routes!(tray::pour_tray))
        .routes(routes!(keys::show_keys))
        .routes(routes!(keys::set_keys))
        .routes(routes!(keys::set_paste_keys))
        .routes(routes!(keys::reset_keys))
        .routes(routes!(keys::press_keys))
        .routes(routes!(keys::keyboard))
        .routes(routes!(forgetting::delete))
        .routes(routes!(forgetting::clear))
        .routes(routes!(forgetting::undo))
        .routes(routes!(forgetting::redo))
        .routes(routes!(forgetting::steps))
        .routes(routes!(forgetting::bin))
        .routes(routes!(forgetting::restore_from_bin))
        .routes(routes!(forgetting::empty_bin))
        .routes(routes!(rules::show_rules, rules::change_rules))
        .routes(routes!(rules::preview_rules))
        .routes(routes!(rules::test_rules))
        .routes(routes!(rules::reset_rules))
        .routes(routes!(rules::sweep_now))
        .routes(routes!(rules::stats))
        .routes(routes!(moving::export))
        .routes(routes!(moving::import))
        .routes(routes!(content::content))
        .routes(routes!(content::thumbnail))
        .routes(routes!(events::events))
        .routes(routes!(devices::devices))
        .routes(routes!(devices::invite))
        .routes(routes!(devices::join))
        .routes(routes!(devices::leave))
        .routes(routes!(devices::device, devices::rename_device, devices::remove_device))
        .routes(routes!(devices::send))
        .routes(routes!(devices::fetch))
        .routes(routes!(devices::sync_status))
        .routes(routes!(devices::sync_now))
        .routes(routes!(devices::pause_sync))
        .routes(routes!(devices::resume_sync))
        .routes(routes!(devices::show_relay, devices::set_relay, devices::leave_relay))
        .routes(routes!(devices::show_policy, devices::change_policy))
        .merge(lock::routes())
        .routes(routes!(control::status))
        .routes(routes!(control::pause))
        .routes(routes!(control::resume))
        .routes(routes!(control::set_log_in))
        .routes(routes!(control::console_link))
        .routes(routes!(control::door, control::open_door, control::close_door))
        .routes(routes!(control::console_sessions))
        .routes(routes!(control::shut_out))
        .routes(routes!(simulated::copy))
        .routes(routes!(simulated::exit))
        .routes(routes!(simulated::paste));
    OpenApiRouter::new().nest(yadori_api::BASE, routes).split_for_parts()
}

/// The description of the interface, made when somebody first asks for it: few ever do.
///
/// # Panics
/// If it cannot be written as JSON, which would be a defect of this crate.
fn document() -> &'static Value {
    static DOCUMENT: OnceLock<Value> = OnceLock::new();
    DOCUMENT.get_or_init(describe)
}

fn describe() -> Value {
    let mut document = paths().1;
    let own = Document::openapi();
    document.info = own.info.clone();
    document.merge(own);
    let scheme = HttpBuilder::new()
        .scheme(HttpAuthScheme::Bearer)
        .description(Some("The token of run/api.json; browsers have a cookie instead."));
    document.components.get_or_insert_default().add_security_scheme("token", SecurityScheme::Http(scheme.build()));
    document::complete(serde_json::to_value(document).expect("a document of plain data"))
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
