//! How the service stands, pausing it, and links to its console.

use super::App;
use super::asked::{InPath, JsonBody};
use super::contract::Contract;
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use yadori_api as api;
use yadori_engine::clock::timestamp;

async fn standing(app: &App) -> Json<api::Status> {
    let lock = app.vault.standing();
    let status = app.engine.overview.status().await.contract(&app.engine.rule_book.rules());
    Json(api::Status { encrypted: lock.encrypted, protectors: lock.protectors, older_keys: lock.older_keys, ..status })
}

/// Show how the service stands
///
/// Whether copies are kept, the latest one, what was refused and why, and how the database stands. It answers without a
/// database, too.
#[utoipa::path(get, path = "/status", tag = "service", responses((status = 200, body = api::Status)))]
pub async fn status(State(app): State<App>) -> Json<api::Status> {
    standing(&app).await
}

/// Pause capturing
///
/// For so many seconds, or until resumed. Copies made meanwhile are not kept.
#[utoipa::path(post, path = "/pause", tag = "service", request_body = api::Pause,
    responses((status = 200, body = api::Status), (status = 400, body = api::Problem)))]
pub async fn pause(State(app): State<App>, asked: JsonBody<api::Pause>) -> Result<Json<api::Status>, Problem> {
    app.engine.capture.pause(asked?.0.seconds).await?;
    Ok(standing(&app).await)
}

/// Resume capturing
///
/// Ends a pause.
#[utoipa::path(post, path = "/resume", tag = "service", responses((status = 200, body = api::Status)))]
pub async fn resume(State(app): State<App>) -> Result<Json<api::Status>, Problem> {
    app.engine.capture.resume().await?;
    Ok(standing(&app).await)
}

/// Choose whether the service is started at log-in
///
/// It is for the next log-in; this service goes on as it is. Uses systemd where it runs for this user, and the desktop's
/// autostart folder elsewhere.
#[utoipa::path(put, path = "/log-in", tag = "service", request_body = api::LogIn,
    responses((status = 200, body = api::Status), (status = 503, body = api::Problem)))]
pub async fn set_log_in(State(app): State<App>, asked: JsonBody<api::LogIn>) -> Result<Json<api::Status>, Problem> {
    crate::log_in::set(asked?.0.starts, app.vault.home()).await?;
    app.engine.history.ledger.status_changed();
    Ok(standing(&app).await)
}

/// Make a link into the console
///
/// The link lets one browser in, once, within two minutes.
#[utoipa::path(post, path = "/console-links", tag = "service", responses((status = 200, body = api::ConsoleLink)))]
pub async fn console_link(State(app): State<App>) -> Result<Json<api::ConsoleLink>, Problem> {
    let (url, until) = app.authenticator.new_link().map_err(|_| Problem::internal())?;
    Ok(Json(api::ConsoleLink { url, expires_at: timestamp(until) }))
}

/// List the browsers that were let in
///
/// The one used last comes first.
#[utoipa::path(get, path = "/console-sessions", tag = "service", responses((status = 200, body = Vec<api::ConsoleSession>)))]
pub async fn console_sessions(State(app): State<App>) -> Result<Json<Vec<api::ConsoleSession>>, Problem> {
    Ok(Json(app.console_sessions().await?))
}

/// Shut browsers out
///
/// Named by an id, the beginning of one, or `all`. Answers with those that were shut out; their pages close at once.
#[utoipa::path(delete, path = "/console-sessions/{id}", tag = "service", params(("id" = String, Path, description = "The id of a session, its beginning, or `all`.")),
    responses((status = 200, body = Vec<api::ConsoleSession>), (status = 404, body = api::Problem)))]
pub async fn shut_out(
    State(app): State<App>,
    InPath(id): InPath<String>,
) -> Result<Json<Vec<api::ConsoleSession>>, Problem> {
    Ok(Json(app.shut_out(&id).await?))
}

/// Show the door for a phone
///
/// Whether the console can be reached from the person's own network, by whom, and until when.
#[utoipa::path(get, path = "/console-door", tag = "service", responses((status = 200, body = api::ConsoleDoor)))]
pub async fn door(State(app): State<App>) -> Json<api::ConsoleDoor> {
    Json(app.door.shown())
}

/// Open a door for a phone
///
/// Listens on the address of the links with the certificate of this device, and gives a link that lets in one browser, once.
/// From there the history can be read, searched and added to. It is closed by itself, with that browser's session; opening
/// it again closes the one before.
#[utoipa::path(post, path = "/console-door", tag = "service", request_body = api::OpenDoor,
    responses((status = 200, body = api::ConsoleDoor), (status = 400, body = api::Problem)))]
pub async fn open_door(
    State(app): State<App>,
    asked: JsonBody<api::OpenDoor>,
) -> Result<Json<api::ConsoleDoor>, Problem> {
    Ok(Json(super::door::open(&app, asked?.0.seconds).await?))
}

/// Close the door for a phone
///
/// Shuts its browser out at once.
#[utoipa::path(delete, path = "/console-door", tag = "service", responses((status = 200, body = api::ConsoleDoor)))]
pub async fn close_door(State(app): State<App>) -> Json<api::ConsoleDoor> {
    Json(app.door.close())
}
