//! Editing, reshaping, filling in, and QR codes over HTTP.

use super::App;
use super::asked::{InPath, JsonBody};
use super::clips::detail;
use super::conditional::as_seen;
use super::problem::{Problem, QueryParams, answer};
use axum::Json;
use axum::extract::State;
use axum::extract::rejection::BytesRejection;
use axum::http::{HeaderMap, header};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use qrcode::render::svg;
use qrcode::{EcLevel, QrCode};
use yadori_api as api;
use yadori_core::reshape::WAYS;

/// Edit a clip's text
///
/// A new clip with the text of the body takes the place and the attributes of the old one, which goes to the bin. `POST
/// /undo` brings the old one back. The body is `text/plain` in UTF-8. Takes `If-Match`.
#[utoipa::path(put, path = "/clips/{name}/text", tag = "clips", params(("name" = String, Path, description = "A clip's name."), api::EditQuery),
    request_body(content = String, description = "The new text, in UTF-8.", content_type = "text/plain"),
    responses((status = 200, body = api::Edited), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn edit(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: QueryParams<api::EditQuery>,
    headers: HeaderMap,
    body: Result<Bytes, BytesRejection>,
) -> Result<Json<api::Edited>, Problem> {
    if !is_plain_text(&headers) {
        return Err(Problem::not_plain_text());
    }
    let _alone = as_seen(&app, &headers, detail(&app, &name)).await?;
    answer(&app, app.engine.keeping.edit(&name, &body?, asked?.0.copies).await).await
}

/// Whether the body is said to be a text in UTF-8.
fn is_plain_text(headers: &HeaderMap) -> bool {
    let mime = headers.get(header::CONTENT_TYPE).and_then(|mime| mime.to_str().ok()).unwrap_or_default();
    let mut parts = mime.split(';').map(str::trim);
    let is_plain = parts.next().is_some_and(|essence| essence.eq_ignore_ascii_case("text/plain"));
    let mut charsets =
        parts.filter_map(|part| part.split_once('=')).filter(|(name, _)| name.eq_ignore_ascii_case("charset"));
    is_plain
        && charsets.all(|(_, charset)| {
            ["utf-8", "us-ascii"].iter().any(|known| charset.trim_matches('"').eq_ignore_ascii_case(known))
        })
}

/// Reshape a clip's text
///
/// Shows what would come of it, or saves it in the clip's place (`save`). `GET /ways` lists the ways.
#[utoipa::path(post, path = "/reshape", tag = "clips", request_body = api::Reshape,
    responses((status = 200, body = api::Reshaped), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn reshape(State(app): State<App>, asked: JsonBody<api::Reshape>) -> Result<Json<api::Reshaped>, Problem> {
    let api::Reshape { clip, ways, save } = asked?.0;
    answer(&app, app.engine.keeping.reshape(&clip, &ways, save).await).await
}

/// List the ways to reshape a text
///
/// Each with what it takes.
#[utoipa::path(get, path = "/ways", tag = "clips", responses((status = 200, body = Vec<api::Way>)))]
pub async fn ways() -> Json<Vec<api::Way>> {
    Json(WAYS.iter().map(|(name, does)| api::Way { name: (*name).into(), does: (*does).into() }).collect())
}

/// Fill in the aliases of a text
///
/// Each `:alias` in the text is replaced by the words of its clip. What stands for nothing stays as it is, and is named.
#[utoipa::path(post, path = "/expand", tag = "kept", request_body = api::Expand,
    responses((status = 200, body = api::Expanded), (status = 422, body = api::Problem, description = "Placeholders ask for something.")))]
pub async fn expand(State(app): State<App>, asked: JsonBody<api::Expand>) -> Result<Json<api::Expanded>, Problem> {
    let api::Expand { text, answers } = asked?.0;
    answer(&app, app.engine.recalling.expand(&text, &answers).await).await
}

/// Show a clip as a QR code
///
/// An SVG picture of a short text or a link, to be read by a phone. Sensitive clips have none.
#[utoipa::path(get, path = "/clips/{name}/qr", tag = "clips", params(("name" = String, Path, description = "A clip's name.")),
    responses((status = 200, description = "The code.", content_type = "image/svg+xml"), (status = 404, body = api::Problem), (status = 422, body = api::Problem)))]
pub async fn qr(State(app): State<App>, InPath(name): InPath<String>) -> Result<Response, Problem> {
    let text = answer(&app, app.engine.history.show(&name).await).await?.0;
    let text = text.text.filter(|_| text.text_is_whole).ok_or_else(Problem::no_qr)?;
    let code = QrCode::with_error_correction_level(text.as_bytes(), EcLevel::M)
        .or_else(|_| QrCode::with_error_correction_level(text.as_bytes(), EcLevel::L))
        .map_err(|_| Problem::no_qr())?;
    let image = code.render::<svg::Color<'_>>().min_dimensions(240, 240).build();
    Ok(([(header::CONTENT_TYPE, "image/svg+xml")], image).into_response())
}
