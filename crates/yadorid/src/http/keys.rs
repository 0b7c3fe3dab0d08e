//! Keys that reach the service from every program, and the window that has the keyboard, over HTTP.

use super::App;
use super::asked::{InPath, JsonBody};
use super::contract::keys::{focus, keys};
use super::problem::Problem;
use axum::Json;
use axum::extract::State;
use yadori_api as api;

/// List the keys
///
/// Of each action, and whether they reach the service; another program may hold them.
#[utoipa::path(get, path = "/keys", tag = "keys", responses((status = 200, body = api::Keys)))]
pub async fn show_keys(State(app): State<App>) -> Json<api::Keys> {
    Json(keys(&app.engine.keys))
}

/// Set the keys of an action
///
/// Instead of those before. Without `keys` the action has none.
#[utoipa::path(put, path = "/keys/actions/{action}", tag = "keys", request_body = api::SetKeys,
    params(("action" = String, Path, description = "The action's name.")),
    responses((status = 200, body = api::Keys), (status = 400, body = api::Problem), (status = 409, body = api::Problem, description = "Another action has these keys.")))]
pub async fn set_keys(
    State(app): State<App>,
    InPath(action): InPath<String>,
    asked: JsonBody<api::SetKeys>,
) -> Result<Json<api::Keys>, Problem> {
    app.engine.keys.set(&action, asked?.0.keys.as_deref()).await?;
    Ok(Json(keys(&app.engine.keys)))
}

/// Set the keys that paste in an application
///
/// For programs in which Ctrl+V is not the way. Without `keys` they are forgotten.
#[utoipa::path(put, path = "/keys/applications/{application}", tag = "keys", request_body = api::SetKeys,
    params(("application" = String, Path, description = "The application, as clips name it as their source.")),
    responses((status = 200, body = api::Keys), (status = 400, body = api::Problem)))]
pub async fn set_paste_keys(
    State(app): State<App>,
    InPath(application): InPath<String>,
    asked: JsonBody<api::SetKeys>,
) -> Result<Json<api::Keys>, Problem> {
    app.engine.keys.set_paste(&application, asked?.0.keys.as_deref()).await?;
    Ok(Json(keys(&app.engine.keys)))
}

/// Reset the keys
///
/// Gives all actions their default keys.
#[utoipa::path(post, path = "/keys/reset", tag = "keys", responses((status = 200, body = api::Keys)))]
pub async fn reset_keys(State(app): State<App>) -> Result<Json<api::Keys>, Problem> {
    app.engine.keys.reset().await?;
    Ok(Json(keys(&app.engine.keys)))
}

/// Do what an action's keys do
///
/// For compositors that give keys to commands only.
#[utoipa::path(post, path = "/keys/press", tag = "keys", request_body = api::PressKeys,
    responses((status = 200, body = api::Keys), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn press_keys(State(app): State<App>, asked: JsonBody<api::PressKeys>) -> Result<Json<api::Keys>, Problem> {
    if let Err(error) = app.engine.keys.act_on(&asked?.0.action).await {
        return Err(Problem::from(error).with_candidates(&app).await);
    }
    Ok(Json(keys(&app.engine.keys)))
}

/// Show which window has the keyboard
///
/// For a recall that pastes `into` it later.
#[utoipa::path(get, path = "/keyboard", tag = "keys", responses((status = 200, body = api::KeyboardFocus)))]
pub async fn keyboard(State(app): State<App>) -> Json<api::KeyboardFocus> {
    Json(focus(app.engine.recalling.focus().await))
}
