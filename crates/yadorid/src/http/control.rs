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
    Json(app.engine.overview.status().await.contract(&app.engine.rule_book.rules()))
}

/// How the service stands.
#[utoipa::path(get, path = "/status", tag = "service", responses((status = 200, body = api::Status)))]
pub async fn status(State(app): State<App>) -> Json<api::Status> {
    standing(&app).await
}

/// Stop capturing, for a time or until resumed.
#[utoipa::path(post, path = "/pause", tag = "service", request_body = api::Pause,
    responses((status = 200, body = api::Status), (status = 400, body = api::Problem)))]
pub async fn pause(State(app): State<App>, asked: JsonBody<api::Pause>) -> Result<Json<api::Status>, Problem> {
    app.engine.capture.pause(asked?.0.seconds).await?;
    Ok(standing(&app).await)
}

/// Capture again.
#[utoipa::path(post, path = "/resume", tag = "service", responses((status = 200, body = api::Status)))]
pub async fn resume(State(app): State<App>) -> Result<Json<api::Status>, Problem> {
    app.engine.capture.resume().await?;
    Ok(standing(&app).await)
}

/// A link by which one browser is let into the console, once.
#[utoipa::path(post, path = "/console-links", tag = "service", responses((status = 200, body = api::ConsoleLink)))]
pub async fn console_link(State(app): State<App>) -> Result<Json<api::ConsoleLink>, Problem> {
    let (url, until) = app.authenticator.new_link().map_err(|_| Problem::internal())?;
    Ok(Json(api::ConsoleLink { url, expires_at: timestamp(until) }))
}

/// The browsers that were let in, the one used last first.
#[utoipa::path(get, path = "/console-sessions", tag = "service", responses((status = 200, body = Vec<api::ConsoleSession>)))]
pub async fn console_sessions(State(app): State<App>) -> Result<Json<Vec<api::ConsoleSession>>, Problem> {
    Ok(Json(app.console_sessions().await?))
}

/// Shut a browser out: its id, or the beginning of that, or `all`. Gives those that were shut out.
#[utoipa::path(delete, path = "/console-sessions/{id}", tag = "service", params(("id" = String, Path, description = "The id of a session, its beginning, or `all`.")),
    responses((status = 200, body = Vec<api::ConsoleSession>), (status = 404, body = api::Problem)))]
pub async fn shut_out(
    State(app): State<App>,
    InPath(id): InPath<String>,
) -> Result<Json<Vec<api::ConsoleSession>>, Problem> {
    Ok(Json(app.shut_out(&id).await?))
}
