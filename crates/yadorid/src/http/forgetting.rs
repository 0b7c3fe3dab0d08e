//! Deleting, clearing, undoing, and the bin over HTTP.

use super::App;
use super::asked::JsonBody;
use super::contract::kind_of;
use super::kept::clips;
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use yadori_api as api;
use yadori_engine::retention::delete::Slice;

/// Delete clips
///
/// They go to the bin, and `step` undoes it; with `for_good` nothing is left to bring back.
#[utoipa::path(post, path = "/delete", tag = "forgetting", request_body = api::Delete,
    responses((status = 200, body = api::Deleted), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn delete(State(app): State<App>, asked: JsonBody<api::Delete>) -> Result<Json<api::Deleted>, Problem> {
    let api::Delete { clips, for_good } = asked?.0;
    answer(&app, app.engine.retention.delete(&clips, for_good).await).await
}

/// Clear the history, or a part of it
///
/// What is kept stays, unless `kept_too` says otherwise. Say what to clear: `"all": true`, or one of the filters. With
/// `dry_run` the clips are only counted; send that count as `expected`, and nothing is cleared if there are others by then.
#[utoipa::path(post, path = "/clear", tag = "forgetting", request_body = api::Clear,
    responses((status = 200, body = api::Cleared), (status = 400, body = api::Problem, description = "It is not said what to clear."), (status = 409, body = api::Problem, description = "There are others than were expected.")))]
pub async fn clear(State(app): State<App>, asked: JsonBody<api::Clear>) -> Result<Json<api::Cleared>, Problem> {
    let asked = asked?.0;
    let narrowed = asked.older_than_seconds.is_some()
        || asked.newer_than_seconds.is_some()
        || asked.kind.is_some()
        || asked.application.is_some()
        || asked.device.is_some();
    if !asked.all && !narrowed {
        return Err(Problem::nothing_to_clear());
    }
    let slice = Slice {
        older_than_seconds: asked.older_than_seconds,
        newer_than_seconds: asked.newer_than_seconds,
        kind: asked.kind.map(kind_of),
        application: asked.application,
        device: asked.device,
        kept_too: asked.kept_too,
        for_good: asked.for_good,
        dry_run: asked.dry_run,
        expected: asked.expected,
    };
    answer(&app, app.engine.retention.clear(&slice).await).await
}

/// Undo
///
/// Brings back what was deleted, cleared or edited: the latest, or the one with this number.
#[utoipa::path(post, path = "/undo", tag = "forgetting", request_body = api::Undo,
    responses((status = 200, body = api::Undone), (status = 404, body = api::Problem)))]
pub async fn undo(State(app): State<App>, asked: JsonBody<api::Undo>) -> Result<Json<api::Undone>, Problem> {
    answer(&app, app.engine.retention.undo(asked?.0.step).await).await
}

/// Do again what was undone
///
/// The latest, or the one with this number.
#[utoipa::path(post, path = "/redo", tag = "forgetting", request_body = api::Undo,
    responses((status = 200, body = api::Undone), (status = 404, body = api::Problem)))]
pub async fn redo(State(app): State<App>, asked: JsonBody<api::Undo>) -> Result<Json<api::Undone>, Problem> {
    answer(&app, app.engine.retention.redo(asked?.0.step).await).await
}

/// List what can be undone
///
/// And what has been, latest first.
#[utoipa::path(get, path = "/steps", tag = "forgetting", responses((status = 200, body = Vec<api::Step>)))]
pub async fn steps(State(app): State<App>) -> Result<Json<Vec<api::Step>>, Problem> {
    answer(&app, app.engine.retention.steps().await).await
}

/// List what waits in the bin
///
/// Latest first. What was deleted, cleared or swept waits there for 24 hours, and can be restored.
#[utoipa::path(get, path = "/bin", tag = "forgetting", params(api::BinQuery),
    responses((status = 200, body = api::Bin), (status = 400, body = api::Problem)))]
pub async fn bin(State(app): State<App>, asked: QueryParams<api::BinQuery>) -> Result<Json<api::Bin>, Problem> {
    let api::BinQuery { skip, limit } = asked?.0;
    answer(&app, app.engine.retention.bin(skip.unwrap_or(0), limit).await).await
}

/// Restore clips from the bin
///
/// Clips are named by their places in the bin, or by the beginnings of their ids. They return to where they were: to the
/// history, and to their pin or drawer.
#[utoipa::path(post, path = "/bin/restore", tag = "forgetting", request_body = api::Named,
    responses((status = 200, body = api::Clips), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn restore_from_bin(
    State(app): State<App>,
    asked: JsonBody<api::Named>,
) -> Result<Json<api::Clips>, Problem> {
    clips(&app, app.engine.retention.restore(&asked?.0.clips).await).await
}

/// Empty the bin
///
/// Forgets everything in it for good. This cannot be undone.
#[utoipa::path(post, path = "/bin/empty", tag = "forgetting", responses((status = 200, body = api::Forgotten)))]
pub async fn empty_bin(State(app): State<App>) -> Result<Json<api::Forgotten>, Problem> {
    Ok(Json(api::Forgotten { count: app.engine.retention.empty_bin().await? }))
}
