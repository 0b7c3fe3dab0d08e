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
use yadori_engine::sync::relay::RelaySetError;

/// List the devices
///
/// This one first, then those that are linked with it, with what they are behind by and why they are away.
#[utoipa::path(get, path = "/devices", tag = "devices", responses((status = 200, body = Vec<api::Device>)))]
pub async fn devices(State(app): State<App>) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.devices().await).await
}

/// Invite another device
///
/// The answer has the code to enter there, and where this device can be reached. `via` the relay, the two need not be able to
/// reach each other: the relay passes on what they say, and learns neither the code nor anything else.
#[utoipa::path(post, path = "/sync/invitation", tag = "devices", request_body = api::Invite,
    responses((status = 200, body = api::Invitation), (status = 400, body = api::Problem), (status = 404, body = api::Problem, description = "There is no relay."), (status = 409, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn invite(State(app): State<App>, asked: JsonBody<api::Invite>) -> Result<Json<api::Invitation>, Problem> {
    let api::Invite { seconds, via } = asked?.0;
    answer(&app, app.engine.sync.invite_device(seconds, via == Some(api::Via::Relay)).await).await
}

/// Join a device that has invited
///
/// From then on the two have one history.
#[utoipa::path(post, path = "/sync/join", tag = "devices", request_body = api::Join,
    responses((status = 200, body = api::Device), (status = 400, body = api::Problem), (status = 403, body = api::Problem), (status = 409, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn join(State(app): State<App>, asked: JsonBody<api::Join>) -> Result<Json<api::Device>, Problem> {
    let api::Join { address, code } = asked?.0;
    answer(&app, app.engine.sync.join_device(&address, &code).await).await
}

/// Leave all other devices
///
/// Every device keeps what it has. This one needs a new invitation to come back.
#[utoipa::path(post, path = "/sync/leave", tag = "devices", responses((status = 200, body = Vec<api::Device>)))]
pub async fn leave(State(app): State<App>) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.leave_devices().await).await
}

/// Show a device
///
/// Named by its name, or by its id or the beginning of it.
#[utoipa::path(get, path = "/devices/{name}", tag = "devices",
    params(("name" = String, Path, description = "Its name, or the beginning of its id.")),
    responses((status = 200, body = api::Device), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn device(State(app): State<App>, InPath(name): InPath<String>) -> Result<Json<api::Device>, Problem> {
    answer(&app, app.engine.sync.device_named(&name).await).await
}

/// Rename a device
///
/// The new name is told to all other devices.
#[utoipa::path(patch, path = "/devices/{name}", tag = "devices", request_body = api::RenameDevice,
    params(("name" = String, Path, description = "Its name, or the beginning of its id.")),
    responses((status = 200, body = Vec<api::Device>), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn rename_device(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: JsonBody<api::RenameDevice>,
) -> Result<Json<Vec<api::Device>>, Problem> {
    answer(&app, app.engine.sync.rename_device(&name, &asked?.0.name).await).await
}

/// Remove a device
///
/// None of the others lets it in any more. What it has, it keeps.
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

/// Fetch a clip's content from another device
///
/// Starts fetching what is not here yet, and says how far it has come. With `after` it answers as soon as there is more.
#[utoipa::path(post, path = "/clips/{name}/fetch", tag = "devices", params(("name" = String, Path, description = "A position, an id, or the beginning of an id."), api::FetchQuery),
    responses((status = 200, body = api::Fetched), (status = 404, body = api::Problem), (status = 502, body = api::Problem, description = "No device that has it is there.")))]
pub async fn fetch(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: QueryParams<api::FetchQuery>,
) -> Result<Json<api::Fetched>, Problem> {
    answer(&app, app.engine.fetching.fetch_more(&name, asked?.0.after).await).await
}

/// Send clips to a device
///
/// Whatever is shared otherwise; what looks like a secret never leaves. With `recall` the last of them is put on that
/// device's clipboard.
#[utoipa::path(post, path = "/send", tag = "devices", request_body = api::Send,
    responses((status = 200, body = api::Sent), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn send(State(app): State<App>, asked: JsonBody<api::Send>) -> Result<Json<api::Sent>, Problem> {
    let api::Send { clips, to, recall } = asked?.0;
    let sent = app.engine.sync.send(&clips, &to, recall).await;
    let to = sent.as_ref().map(|sent| sent.to.clone()).unwrap_or_default();
    let clips = answer(&app, sent.map(|sent| sent.clips)).await?.0;
    Ok(Json(api::Sent { clips, to, recalled: recall }))
}

/// Show how sharing stands
///
/// Where this device is reached, whether sharing is paused, and each device.
#[utoipa::path(get, path = "/sync", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn sync_status(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.sync_status().await).await
}

/// Connect now
///
/// Tries at once to reach all devices that are away.
#[utoipa::path(post, path = "/sync/now", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn sync_now(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.sync_now().await).await
}

/// Pause sharing
///
/// For so many seconds, or until resumed. What happens meanwhile is shared afterwards.
#[utoipa::path(post, path = "/sync/pause", tag = "devices", request_body = api::Pause,
    responses((status = 200, body = api::Sync), (status = 400, body = api::Problem)))]
pub async fn pause_sync(State(app): State<App>, asked: JsonBody<api::Pause>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.pause_sync(asked?.0.seconds).await).await
}

/// Resume sharing
///
/// Ends a pause.
#[utoipa::path(post, path = "/sync/resume", tag = "devices", responses((status = 200, body = api::Sync)))]
pub async fn resume_sync(State(app): State<App>) -> Result<Json<api::Sync>, Problem> {
    answer(&app, app.engine.sync.resume_sync().await).await
}

/// Show what this device shares
///
/// As values, and as sentences.
#[utoipa::path(get, path = "/sync/policy", tag = "devices", responses((status = 200, body = api::Policy)))]
pub async fn show_policy(State(app): State<App>, headers: HeaderMap) -> Response {
    Tagged(policy(&app)).unless_known(&headers)
}

/// The policy that is in force.
fn policy(app: &App) -> api::Policy {
    app.engine.sync.policy().contract(&app.engine.rule_book.rules())
}

/// Change what this device shares
///
/// What is left out stays as it is, and what was shared by now stays shared. Takes `If-Match`.
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

/// Show the relay
///
/// How it stands with it, and what the mailbox holds.
#[utoipa::path(get, path = "/sync/relay", tag = "devices", responses((status = 200, body = api::Relay), (status = 404, body = api::Problem)))]
pub async fn show_relay(State(app): State<App>) -> Result<Json<api::Relay>, Problem> {
    let status = app.engine.sync.relay_status().await.ok_or(RelaySetError::None);
    answer(&app, status).await
}

/// Use a relay
///
/// Opens a mailbox there for this device and those that are linked with it; they are told when they are next connected. From then on
/// what they tell each other waits there, sealed, for those that are not.
#[utoipa::path(put, path = "/sync/relay", tag = "devices", request_body = api::SetRelay,
    responses((status = 200, body = api::Relay), (status = 400, body = api::Problem), (status = 409, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn set_relay(State(app): State<App>, asked: JsonBody<api::SetRelay>) -> Result<Json<api::Relay>, Problem> {
    answer(&app, app.engine.sync.set_relay(&asked?.0.invitation).await).await
}

/// Leave the relay
///
/// For all devices: the mailbox is erased, if the relay answers.
#[utoipa::path(delete, path = "/sync/relay", tag = "devices",
    responses((status = 200, body = api::RelayLeft), (status = 404, body = api::Problem)))]
pub async fn leave_relay(State(app): State<App>) -> Result<Json<api::RelayLeft>, Problem> {
    Ok(Json(api::RelayLeft { erased: app.engine.sync.remove_relay().await? }))
}
