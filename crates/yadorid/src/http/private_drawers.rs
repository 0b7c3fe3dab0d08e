//! Private drawers over HTTP.

use super::App;
use super::asked::{InPath, JsonBody};
use super::problem::{Problem, answer};
use axum::Json;
use axum::extract::State;
use std::time::Duration;
use yadori_api as api;

/// Give a drawer a passphrase
///
/// An ordinary one becomes private, and stays open for five minutes: from then on no other device is told of it, and those
/// that have its clips are told that they are gone. One that is private and open gets another passphrase.
#[utoipa::path(put, path = "/drawers/{drawer}/passphrase", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::DrawerPassphrase, responses((status = 200, body = api::Drawer), (status = 404, body = api::Problem),
        (status = 409, body = api::Problem, description = "It is closed."), (status = 422, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn set_drawer_passphrase(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: JsonBody<api::DrawerPassphrase>,
) -> Result<Json<api::Drawer>, Problem> {
    let passphrase = asked?.0.passphrase;
    answer(&app, app.engine.private_drawers.set_passphrase(&name, &passphrase).await).await
}

/// Take the passphrase from a drawer
///
/// A private one that is open becomes ordinary.
#[utoipa::path(delete, path = "/drawers/{drawer}/passphrase", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    responses((status = 200, body = api::Drawer), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn remove_drawer_passphrase(
    State(app): State<App>,
    InPath(name): InPath<String>,
) -> Result<Json<api::Drawer>, Problem> {
    answer(&app, app.engine.private_drawers.make_ordinary(&name).await).await
}

/// Open a private drawer
///
/// For some minutes; one that is open stays so for as many from now on. After some wrong passphrases, each further one has to wait.
#[utoipa::path(post, path = "/drawers/{drawer}/open", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    request_body = api::OpenDrawer, responses((status = 200, body = api::OpenedDrawer), (status = 400, body = api::Problem),
        (status = 403, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 429, body = api::Problem)))]
pub async fn open_drawer(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: JsonBody<api::OpenDrawer>,
) -> Result<Json<api::OpenedDrawer>, Problem> {
    let api::OpenDrawer { passphrase, minutes } = asked?.0;
    let time = minutes.map(|minutes| Duration::from_secs(u64::from(minutes) * 60));
    answer(&app, app.engine.private_drawers.open(&name, &passphrase, time).await).await
}

/// Close a private drawer
///
/// What lies in it leaves the history, and is sealed. Answers when that is done.
#[utoipa::path(post, path = "/drawers/{drawer}/close", tag = "kept", params(("drawer" = String, Path, description = "The drawer's name.")),
    responses((status = 200, body = api::Drawer), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn close_drawer(State(app): State<App>, InPath(name): InPath<String>) -> Result<Json<api::Drawer>, Problem> {
    answer(&app, app.engine.private_drawers.close(&name).await).await
}
