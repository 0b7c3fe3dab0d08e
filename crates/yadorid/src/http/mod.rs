//! The service over HTTP.
//!
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
//! * `server`: connections, and how many there may be

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
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{Extensions, HeaderMap, StatusCode, Version, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router, middleware};
use serde_json::Value;
use std::sync::{Arc, OnceLock};
use tower_http::CompressionLevel;
use tower_http::compression::CompressionLayer;
use utoipa::OpenApi;
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;

pub use gate::Gate;
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
fn interface() -> (Router<App>, utoipa::openapi::OpenApi) {
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
    let mut document = interface().1;
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

/// Everything that is served.
pub fn router(service: App) -> Router {
    let pages = Router::new()
        .merge(interface().0)
        .route(&format!("{}/openapi.json", yadori_api::BASE), get(async || Json(document())))
        .fallback(console::page)
        .method_not_allowed_fallback(async || problem::Problem::wrong_method())
        .layer(DefaultBodyLimit::disable())
        .with_state(service.clone());
    // Who is let in is found out first: it decides what a path means.
    Router::new()
        .fallback_service(pages)
        .layer(middleware::from_fn_with_state(service.clone(), repeats::layer))
        .layer(CompressionLayer::new().quality(CompressionLevel::Fastest).compress_when(is_worth_compressing))
        .layer(middleware::map_response(conditional::tag_compressed))
        .layer(middleware::from_fn_with_state(service.clone(), while_database_is_away))
        .layer(middleware::from_fn_with_state(service.clone(), auth::guard))
        .layer(middleware::from_fn_with_state(service, bodies::layer))
        .layer(middleware::from_fn(protocol::layer))
        .layer(middleware::from_fn(run_to_completion))
}

/// Smaller answers are sent as they are: it takes longer to make them smaller than to send them.
const WORTH_COMPRESSING: u64 = 4 * 1024;

/// Text is, if it is large; what comes bit by bit is not, since a bit would wait for others.
fn is_worth_compressing(_: StatusCode, _: Version, headers: &HeaderMap, _: &Extensions) -> bool {
    let mime = headers.get(header::CONTENT_TYPE).and_then(|mime| mime.to_str().ok()).unwrap_or_default();
    let is_text = ["text/", "application/json", "application/problem+json", "image/svg+xml"];
    let length = headers.get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse::<u64>().ok());
    is_text.iter().any(|text| mime.starts_with(text))
        && !mime.starts_with("text/event-stream")
        && length.is_none_or(|length| length >= WORTH_COMPRESSING)
}

/// How long a request waits for the database to be back before it is told that it is away.
const BACK: std::time::Duration = std::time::Duration::from_millis(800);

/// The same, when it is started again on purpose.
const BACK_FROM_PAUSE: std::time::Duration = std::time::Duration::from_secs(5);

/// While the service's own database is away, whoever asks is told so at once, instead of waiting in vain for each of
/// several questions to it. How the service stands is told in any case.
async fn while_database_is_away(State(app): State<App>, request: Request, next: Next) -> Response {
    let needs_it = request.uri().path().strip_prefix(yadori_api::BASE).is_some_and(|path| !WITHOUT_IT.contains(&path));
    if needs_it && app.engine.server.away().is_some() {
        let patience = if app.engine.server.is_paused() { BACK_FROM_PAUSE } else { BACK };
        let _ = tokio::time::timeout(patience, app.engine.server.is_back()).await;
        if let Some(failure) = app.engine.server.away() {
            return problem::Problem::database_away(failure.as_ref()).into_response();
        }
    }
    next.run(request).await
}

/// What can be asked without a database.
const WITHOUT_IT: [&str; 5] = ["/status", "/events", "/openapi.json", "/lock", "/lock/open"];

/// Runs handlers that may change records to completion even if the client disconnects, so that what is on record is also
/// announced. What only looks ends when nobody waits for it any more.
async fn run_to_completion(request: Request, next: Next) -> Response {
    // What has to be fetched from another device, or made from what is there, is then on record.
    let fetches = ["/content", "/thumbnail"].iter().any(|end| request.uri().path().ends_with(end));
    let only_looks = request.method().is_safe() && !fetches;
    let handling = tokio::spawn(next.run(request));
    let _ends = only_looks.then(|| AbortOnDrop(handling.abort_handle()));
    match handling.await {
        Ok(response) => response,
        Err(failure) => {
            tracing::error!(%failure, "a request brought a defect to light");
            problem::Problem::internal().into_response()
        }
    }
}

/// Ends a task when it is dropped; one that is done stays so.
struct AbortOnDrop(tokio::task::AbortHandle);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}
