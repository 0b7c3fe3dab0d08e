//! The person's devices, and what they share.

use super::App;
use super::asked::{InPath, JsonBody};
use super::conditional::{Tagged, as_seen};
use super::contract::{Contract, policy_change};
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::Response;
use yadori_api as api;
use yadori_core::sharing::Policy;

/// This device and those that are linked with it.
#[utoipa::path(get, path = "/devices", tag = "devices", responses((status = 200, body = Vec<api::Device>)))]
pub async fn devices(State(app): State<App>) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.devices().await).await
}

/// Invite another device: the answer has the code that is entered there.
#[utoipa::path(post, path = "/sync/invitation", tag = "devices", request_body = api::Invite,
    responses((status = 200, body = api::Invitation), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn invite(State(app): State<App>, asked: JsonBody<api::Invite>) -> Result<Json<api::Invitation>, Problem> {
    answer(&app, app.engine.sync.invite_device(asked?.0.seconds).await).await
}

/// Join a device that has invited.
#[utoipa::path(post, path = "/sync/join", tag = "devices", request_body = api::Join,
    responses((status = 200, body = api::Device), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn join(State(app): State<App>, asked: JsonBody<api::Join>) -> Result<Json<api::Device>, Problem> {
    let api::Join { address, code } = asked?.0;
    answer(&app, app.engine.sync.join_device(&address, &code).await).await
}

/// Leave all other devices. All keep what they have.
#[utoipa::path(post, path = "/sync/leave", tag = "devices", responses((status = 200, body = Vec<api::Device>)))]
pub async fn leave(State(app): State<App>) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.leave_devices().await).await
}

/// One device.
#[utoipa::path(get, path = "/devices/{name}", tag = "devices",
    params(("name" = String, Path, description = "Its name, or the beginning of its id.")),
    responses((status = 200, body = api::Device), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn device(State(app): State<App>, InPath(name): InPath<String>) -> Result<Json<api::Device>, Problem> {
    answer(&app, app.engine.sync.device_named(&name).await).await
}

/// Give a device another name.
#[utoipa::path(patch, path = "/devices/{name}", tag = "devices", request_body = api::RenameDevice,
    params(("name" = String, Path, description = "Its name, or the beginning of its id.")),
    responses((status = 200, body = Vec<api::Device>), (status = 400, body = api::Problem), (status = 404, body = api::Problem)))]
pub async fn rename_device(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: JsonBody<api::RenameDevice>,
) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.rename_device(&name, &asked?.0.name).await).await
}

/// Remove a device: none of the others lets it in any more.
#[utoipa::path(delete, path = "/devices/{name}", tag = "devices",
    params(("name" = String, Path, description = "Its name, or the beginning of its id."), api::RemoveDeviceQuery),
    responses((status = 200, body = api::Device), (status = 400, body = api::Problem), (status = 404, body = api::Problem)))]
pub async fn remove_device(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: QueryParams<api::RemoveDeviceQuery>,
) -> Result<Json<api::Device>, Problem> {
    answer(&app, app.engine.sync.remove_device(&name, asked?.0.introduced).await).await
}

/// Fetch what of a clip is on another device only, and tell how far that has come.
#[utoipa::path(post, path = "/clips/{name}/fetch", tag = "devices", params(("name" = String, Path, description = "A position, an id, or the beginning of an id."), api::FetchQuery),
    responses((status = 200, body = api::Fetched), (status = 404, body = api::Problem), (status = 502, body = api::Problem, description = "No device that has it is there.")))]
pub async fn fetch(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: QueryParams<api::FetchQuery>,
) -> Result<Json<api::Fetched>, Problem> {
    answer(&app, app.engine.fetching.fetch_more(&name, asked?.0.after).await).await
}

/// Hand clips over to a device, whatever is shared otherwise.
#[utoipa::path(post, path = "/send", tag = "devices", request_body = api::Send,
    responses((status = 200, body = api::Sent), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn send(State(app): State<App>, asked: JsonBody<api::Send>) -> Result<Json<api::Sent>, Problem> {
    let api::Send { clips, to, recall } = asked?.0;
    let sent = app.engine.sync.send(&clips, &to, recall).await;
    let to = sent.as_ref().map(|sent| sent.to.clone()).unwrap_or_default();
    let clips = answer(&app, sent.map(|sent| sent.clips)).await?.0;
    Ok(Json(api::Sent { clips, to, recalled: recall }))
}

/// How it stands with sharing.
#[utoipa::path(get, path = "/sync", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn sync_status(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.sync_status().await).await
}

/// Try at once to reach all devices that are away.
#[utoipa::path(post, path = "/sync/now", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn sync_now(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.sync_now().await).await
}

/// Share nothing, for a time or until resumed.
#[utoipa::path(post, path = "/sync/pause", tag = "devices", request_body = api::Pause,
    responses((status = 200, body = api::Sync), (status = 400, body = api::Problem)))]
pub async fn pause_sync(State(app): State<App>, asked: JsonBody<api::Pause>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.pause_sync(asked?.0.seconds).await).await
}

/// Share again.
#[utoipa::path(post, path = "/sync/resume", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn resume_sync(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.resume_sync().await).await
}

/// What this device shares.
#[utoipa::path(get, path = "/sync/policy", tag = "devices", responses((status = 200, body = api::Policy)))]
pub async fn show_policy(State(app): State<App>, headers: HeaderMap) -> Response {
    Tagged(policy(&app)).unless_known(&headers)
}

/// The policy that is in force.
fn policy(app: &App) -> api::Policy {
    app.engine.sync.policy().contract(&app.engine.rule_book.rules())
}

/// Change what this device shares. What is shared by now stays shared.
#[utoipa::path(patch, path = "/sync/policy", tag = "devices", request_body = api::PolicyChange,
    responses((status = 200, body = api::Policy), (status = 400, body = api::Problem)))]
pub async fn change_policy(
    State(app): State<App>,
    headers: HeaderMap,
    asked: JsonBody<api::PolicyChange>,
) -> Result<Tagged<api::Policy>, Problem> {
    let asked = asked?.0;
    let _alone = as_seen(&app, &headers, async { Ok(policy(&app)) }).await?;
    let change = |policy: &mut Policy| policy_change(policy, &asked);
    answer(&app, app.engine.sync.change_policy(&change).await).await.map(|Json(policy)| Tagged(policy))
}
