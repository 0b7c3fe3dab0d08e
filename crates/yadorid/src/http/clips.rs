//! Clips over HTTP.

use super::App;
use super::problem::{Asked, Problem, Sent, answer};
use axum::Json;
use axum::extract::rejection::BytesRejection;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode, header};
use bytes::Bytes;
use yadori_api as api;

/// The history, newest first, or the clips that meet a query, best first.
#[utoipa::path(get, path = "/clips", params(api::ListQuery), tag = "clips",
    responses((status = 200, body = api::ClipPage), (status = 400, body = api::Problem, description = "The query, cursor or limit makes no sense.")))]
pub async fn list(State(app): State<App>, asked: Asked<api::ListQuery>) -> Result<Json<api::ClipPage>, Problem> {
    Ok(Json(app.engine.history.find(&asked?.0).await?))
}

/// Make a clip of the body. `Content-Type` says what it is.
#[utoipa::path(post, path = "/clips", params(api::AddQuery), tag = "clips",
    request_body(content = Vec<u8>, description = "The content: text, HTML, a picture, or a `text/uri-list` of files.", content_type = "*/*"),
    responses((status = 200, body = api::Added, description = "It was there already, and is now at the top."), (status = 201, body = api::Added),
        (status = 413, body = api::Problem), (status = 415, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn add(
    State(app): State<App>,
    particulars: Asked<api::AddQuery>,
    headers: HeaderMap,
    body: Result<Bytes, BytesRejection>,
) -> Result<(StatusCode, Json<api::Added>), Problem> {
    let mime =
        headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or(yadori_core::format::PLAIN);
    let added = app.engine.keeping.add(mime, body?, particulars?.0).await?;
    Ok((if added.new { StatusCode::CREATED } else { StatusCode::OK }, Json(added)))
}

/// All there is to know of a clip.
#[utoipa::path(get, path = "/clips/{name}", tag = "clips", params(("name" = String, Path, description = "A position (`3`), a place among the pins or in the tray (`p2`, `t1`), an alias (`:sig`), an id, or the beginning of one.")),
    responses((status = 200, body = api::ClipDetail), (status = 404, body = api::Problem), (status = 409, body = api::Problem, description = "Several clips are meant.")))]
pub async fn show(State(app): State<App>, Path(name): Path<String>) -> Result<Json<api::ClipDetail>, Problem> {
    answer(&app, app.engine.history.show(&name).await).await
}

/// Put clips on the clipboard: one with all its formats, several joined; reshaped or filled in on the way out.
#[utoipa::path(post, path = "/recall", tag = "clips", request_body = api::Recall,
    responses((status = 200, body = api::Recalled), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn recall(State(app): State<App>, asked: Sent<api::Recall>) -> Result<Json<api::Recalled>, Problem> {
    answer(&app, app.engine.recalling.recall(&asked?.0).await).await
}
