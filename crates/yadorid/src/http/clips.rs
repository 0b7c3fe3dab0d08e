//! Clips over HTTP.

use super::App;
use super::asked::{InPath, JsonBody};
use super::conditional::Tagged;
use super::contract::{Contract, mark_of};
use super::listings;
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::BytesRejection;
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use yadori_api as api;
use yadori_core::MillisSinceEpoch;
use yadori_engine::history::find::PageRequest;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::recalling::Recall;

/// List or search clips
///
/// Without `q`, the history, newest first. With it, the clips that match, best first; `marks` says where. Pages follow one
/// another by `next` and `cursor`.
#[utoipa::path(get, path = "/clips", params(api::ListQuery), tag = "clips",
    responses((status = 200, body = api::ClipPage), (status = 400, body = api::Problem, description = "The query, cursor or limit makes no sense.")))]
pub async fn list(State(app): State<App>, asked: QueryParams<api::ListQuery>) -> Result<Response, Problem> {
    let api::ListQuery { q, cursor, limit, zone } = asked?.0;
    let page = app.engine.history.find(&PageRequest { query: q, cursor, limit, zone }).await?;
    let rules = app.engine.rule_book.rules();
    Ok(([(header::CONTENT_TYPE, "application/json")], listings::json(&page, &rules)).into_response())
}

/// Add a clip
///
/// The body is its content, and `Content-Type` says what it is: a text, HTML, a picture, or a `text/uri-list` of files.
/// What is there already moves to the top and is answered with 200. Takes an `Idempotency-Key`.
#[utoipa::path(post, path = "/clips", params(api::AddQuery), tag = "clips",
    request_body(content = Vec<u8>, description = "The content: text, HTML, a picture, or a `text/uri-list` of files.", content_type = "*/*"),
    responses((status = 200, body = api::Added, description = "It was there already, and is now at the top."), (status = 201, body = api::Added),
        (status = 404, body = api::Problem, description = "There is no such drawer."), (status = 409, body = api::Problem, description = "Another clip has the alias."),
        (status = 413, body = api::Problem), (status = 415, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn add(
    State(app): State<App>,
    attributes: QueryParams<api::AddQuery>,
    headers: HeaderMap,
    body: Result<Bytes, BytesRejection>,
) -> Result<Response, Problem> {
    let mime =
        headers.get(header::CONTENT_TYPE).and_then(|value| value.to_str().ok()).unwrap_or(yadori_core::format::PLAIN);
    let asked = attributes?.0;
    let copied_at = asked.copied_at.map(|at| MillisSinceEpoch(u64::try_from(at.as_millisecond()).unwrap_or(0)));
    let new = NewClip {
        title: asked.title,
        copied_at,
        application: asked.application,
        window: asked.window,
        pin: asked.pin,
        drawer: asked.drawer,
        mark: asked.mark.map(mark_of),
        alias: asked.alias,
        fills: asked.fill,
    };
    let added = app.engine.keeping.add(mime, body?, new).await?;
    let status = if added.new { StatusCode::CREATED } else { StatusCode::OK };
    let added = added.contract(&app.engine.rule_book.rules());
    let location = added.new.then(|| [(header::LOCATION, format!("{}/clips/{}", api::BASE, added.clip.id))]);
    Ok((status, location, Json(added)).into_response())
}

/// Show a clip
///
/// With its formats, its words (at most the first 64 KiB) and its files. The `ETag` is that of what can be changed; use of
/// the clip does not change it.
#[utoipa::path(get, path = "/clips/{name}", tag = "clips", params(("name" = String, Path, description = "A position (`3`), a place among the pins or in the tray (`p2`, `t1`), an alias (`:sig`), an id, or the beginning of one.")),
    responses((status = 200, body = api::ClipDetail), (status = 304, description = "It is as it was."), (status = 404, body = api::Problem), (status = 409, body = api::Problem, description = "Several clips are meant.")))]
pub async fn show(
    State(app): State<App>,
    InPath(name): InPath<String>,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    Ok(Tagged(detail(&app, &name).await?).unless_known(&headers))
}

/// What a clip is now.
pub(super) async fn detail(app: &App, name: &str) -> Result<api::ClipDetail, Problem> {
    answer(app, app.engine.history.show(name).await).await.map(|Json(detail)| detail)
}

/// Put clips on the clipboard
///
/// One with all its formats, or several joined; reshaped or filled in on the way out, while the clips stay as they are.
/// With `paste` it is pasted into the window that has the keyboard.
#[utoipa::path(post, path = "/recall", tag = "clips", request_body = api::Recall,
    responses((status = 200, body = api::Recalled), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn recall(State(app): State<App>, asked: JsonBody<api::Recall>) -> Result<Json<api::Recalled>, Problem> {
    let asked = asked?.0;
    let into = match asked.into.as_deref() {
        Some(window) => Some(window.parse().map_err(|_| Problem::not_a_window(window))?),
        None => None,
    };
    let how = Recall {
        plain: asked.plain,
        join: asked.join,
        reshape: asked.reshape,
        fill: asked.fill,
        answers: asked.answers,
        ask_usual: asked.ask_usual,
        paste: asked.paste,
        into,
        restore: asked.restore,
        skip_others: asked.skip_others,
        at_once: asked.at_once,
    };
    answer(&app, app.engine.recalling.recall(&asked.clips, &how).await).await
}
