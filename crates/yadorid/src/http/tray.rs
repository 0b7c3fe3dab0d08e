//! The tray over HTTP.

use super::App;
use super::asked::JsonBody;
use super::problem::{Problem, answer};
use axum::Json;
use axum::extract::State;
use yadori_api as api;
use yadori_engine::recalling::Recall;

/// Show the tray
///
/// What lies in it, in its order, and which clip is dealt next.
#[utoipa::path(get, path = "/tray", tag = "tray", responses((status = 200, body = api::Tray)))]
pub async fn show_tray(State(app): State<App>) -> Result<Json<api::Tray>, Problem> {
    answer(&app, app.engine.dealer.show_tray().await).await
}

/// Open the tray
///
/// From now on, copies join it.
#[utoipa::path(post, path = "/tray/open", tag = "tray", request_body = api::OpenTray, responses((status = 200, body = api::Tray)))]
pub async fn open_tray(State(app): State<App>, asked: JsonBody<api::OpenTray>) -> Result<Json<api::Tray>, Problem> {
    answer(&app, app.engine.dealer.open_tray(asked?.0.empty).await).await
}

/// Close the tray
///
/// Copies join it no more. Its clips stay in the history; they can be kept as a drawer.
#[utoipa::path(post, path = "/tray/close", tag = "tray", request_body = api::CloseTray,
    responses((status = 200, body = api::Tray), (status = 400, body = api::Problem), (status = 409, body = api::Problem), (status = 502, body = api::Problem)))]
pub async fn close_tray(State(app): State<App>, asked: JsonBody<api::CloseTray>) -> Result<Json<api::Tray>, Problem> {
    let api::CloseTray { keep_as, empty } = asked?.0;
    answer(&app, app.engine.dealer.close_tray(keep_as.as_deref(), empty).await).await
}

/// Add clips to the tray
///
/// At its end; the same clip may lie there more than once. Takes an `Idempotency-Key`.
#[utoipa::path(post, path = "/tray/add", tag = "tray", request_body = api::Named,
    responses((status = 200, body = api::Tray), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn add_to_tray(State(app): State<App>, asked: JsonBody<api::Named>) -> Result<Json<api::Tray>, Problem> {
    answer(&app, app.engine.dealer.add_to_tray(&asked?.0.clips).await).await
}

/// Move or drop a clip in the tray
///
/// To another place, or out of it.
#[utoipa::path(post, path = "/tray/arrange", tag = "tray", request_body = api::TrayPlace,
    responses((status = 200, body = api::Tray), (status = 404, body = api::Problem)))]
pub async fn arrange_tray(State(app): State<App>, asked: JsonBody<api::TrayPlace>) -> Result<Json<api::Tray>, Problem> {
    let api::TrayPlace { place, at } = asked?.0;
    answer(&app, app.engine.dealer.arrange_tray(place, at).await).await
}

/// Take back what joined the tray last
///
/// It stays in the history.
#[utoipa::path(post, path = "/tray/undo", tag = "tray", responses((status = 200, body = api::Tray), (status = 404, body = api::Problem)))]
pub async fn undo_in_tray(State(app): State<App>) -> Result<Json<api::Tray>, Problem> {
    answer(&app, app.engine.dealer.undo_in_tray().await).await
}

/// Deal from the beginning
///
/// Lets all clips of the tray wait again.
#[utoipa::path(post, path = "/tray/restart", tag = "tray", responses((status = 200, body = api::Tray)))]
pub async fn restart_tray(State(app): State<App>) -> Result<Json<api::Tray>, Problem> {
    answer(&app, app.engine.dealer.restart_tray().await).await
}

/// Deal the next clip
///
/// Puts the first waiting clip on the clipboard, and moves on.
#[utoipa::path(post, path = "/tray/next", tag = "tray", request_body = api::DealNext,
    responses((status = 200, body = api::Dealt), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn next_in_tray(State(app): State<App>, asked: JsonBody<api::DealNext>) -> Result<Json<api::Dealt>, Problem> {
    let api::DealNext { auto, paste } = asked?.0;
    let dealer = &app.engine.dealer;
    let dealt = if paste { dealer.deal_and_paste().await } else { dealer.deal_next(auto).await };
    answer(&app, dealt).await
}

/// Go one back in the tray
///
/// The clip that was dealt last waits again, and the one before it is put on the clipboard.
#[utoipa::path(post, path = "/tray/back", tag = "tray",
    responses((status = 200, body = api::Dealt), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub async fn back_in_tray(State(app): State<App>) -> Result<Json<api::Dealt>, Problem> {
    answer(&app, app.engine.dealer.deal_back().await).await
}

/// Skip a clip in the tray
///
/// Passes over the first waiting clip.
#[utoipa::path(post, path = "/tray/skip", tag = "tray", responses((status = 200, body = api::Dealt), (status = 404, body = api::Problem)))]
pub async fn skip_in_tray(State(app): State<App>) -> Result<Json<api::Dealt>, Problem> {
    answer(&app, app.engine.dealer.skip_in_tray().await).await
}

/// Pour the tray
///
/// Puts all that lies in the tray, or in a drawer, on the clipboard, joined.
#[utoipa::path(post, path = "/tray/pour", tag = "tray", request_body = api::Pour,
    responses((status = 200, body = api::Recalled), (status = 404, body = api::Problem), (status = 409, body = api::Problem),
        (status = 422, body = api::Problem, description = "Not all can be joined.")))]
pub async fn pour_tray(State(app): State<App>, asked: JsonBody<api::Pour>) -> Result<Json<api::Recalled>, Problem> {
    let api::Pour { join, plain, skip_others, drawer } = asked?.0;
    let how = Recall { join, plain, skip_others, ..Recall::default() };
    answer(&app, app.engine.dealer.pour(drawer.as_deref(), &how).await).await
}
