//! The bytes of clips: by format, whole or in ranges, and small pictures.
//!
//! What a clip contains comes from anywhere, so it is served as if it were hostile: never with the powers
//! of our own pages. HTML and SVG that are opened by themselves are sandboxed, so that nothing in them
//! runs.

use super::App;
use super::asked::InPath;
use super::conditional::is_none_of;
use super::problem::Problem;
use crate::service::Service;
use axum::body::Body;
use axum::extract::rejection::QueryRejection;
use axum::extract::{Query, State};
use axum::http::header::{self, HeaderMap};
use axum::http::{HeaderValue, Method, StatusCode};
use axum::response::{IntoResponse, Response};
use futures_util::stream;
use std::ops::Range;
use std::sync::Arc;
use yadori_api as api;
use yadori_core::format;
use yadori_engine::fetching::FetchError;
use yadori_store::{StoredFormat, Thumbnail};

const SANDBOX: &str = "default-src 'none'; style-src 'unsafe-inline'; img-src data:; sandbox; frame-ancestors 'none'";

/// Get a clip's content
///
/// The bytes of one format, exactly as they were captured. Takes `If-None-Match`, `If-Range` and one `Range`. Content that
/// is on another device is fetched first, which may take a while; see `at_once`.
#[utoipa::path(get, path = "/clips/{name}/content", tag = "clips",
    params(("name" = String, Path, description = "A position, an id, or the beginning of an id."), api::ContentQuery),
    responses((status = 200, description = "The bytes, exactly as they were captured.", content_type = "*/*"), (status = 206, description = "A range of them."),
        (status = 304, description = "Not changed."), (status = 404, body = api::Problem), (status = 416, body = api::Problem)))]
pub async fn content(
    State(app): State<App>,
    InPath(name): InPath<String>,
    asked: Result<Query<api::ContentQuery>, QueryRejection>,
    method: Method,
    headers: HeaderMap,
) -> Result<Response, Problem> {
    let (record, _) = match app.engine.history.find_clip(&name).await {
        Ok(found) => found,
        Err(error) => return Err(Problem::from(error).with_candidates(&app).await),
    };
    let asked = asked?.0;
    if asked.at_once && record.elsewhere {
        return Err(FetchError::Elsewhere.into());
    }
    app.engine.fetching.fetch_whole(&record).await?;
    let wanted = asked.format.map(|mime| format::canonical_mime(&mime));
    let formats = app.engine.history.store.formats(record.number).await?;
    let found =
        formats.into_iter().enumerate().find(|(_, stored)| wanted.as_ref().is_none_or(|mime| *mime == stored.mime));
    let (place, stored) = found.ok_or_else(|| Problem::no_such_format(wanted.as_deref().unwrap_or("at all")))?;
    // A new copy may bring other bytes under the same type.
    let etag = format!("\"{}-{:x}-{place}\"", record.id, record.life.copied.to_bits());
    let said = |name: header::HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    if !is_none_of(&etag, &headers) {
        let same = [(header::ETAG, etag.as_str()), (header::CACHE_CONTROL, CACHE), (header::ACCEPT_RANGES, "bytes")];
        return Ok((StatusCode::NOT_MODIFIED, same, [(header::CONTENT_SECURITY_POLICY, SANDBOX)]).into_response());
    }
    // A range is of a GET, and of the content that the client has begun with (RFC 9110, sections 14.2 and 13.1.5).
    let goes_on = said(header::IF_RANGE).is_none_or(|tag| tag.trim() == etag);
    let range = match said(header::RANGE).filter(|_| method == Method::GET && goes_on) {
        Some(range) => parse_range(range, stored.size).map_err(|OutOfRange| Problem::bad_range(stored.size))?,
        None => None,
    };
    let (status, bytes) = match &range {
        Some(range) => (StatusCode::PARTIAL_CONTENT, range.clone()),
        None => (StatusCode::OK, 0..stored.size),
    };
    let size = stored.size;
    let mime = HeaderValue::from_str(&stored.mime).unwrap_or(HeaderValue::from_static("application/octet-stream"));
    let length = bytes.end - bytes.start;
    let mut response = (status, Body::from_stream(pieces(app, stored, bytes.clone()))).into_response();
    let set = response.headers_mut();
    set.insert(header::CONTENT_TYPE, mime);
    set.insert(header::CONTENT_LENGTH, length.into());
    set.insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    set.insert(header::CONTENT_SECURITY_POLICY, HeaderValue::from_static(SANDBOX));
    set.insert(header::CACHE_CONTROL, HeaderValue::from_static(CACHE));
    if let Ok(etag) = HeaderValue::from_str(&etag) {
        set.insert(header::ETAG, etag);
    }
    if range.is_some()
        && let Ok(value) = HeaderValue::from_str(&format!("bytes {}-{}/{size}", bytes.start, bytes.end - 1))
    {
        set.insert(header::CONTENT_RANGE, value);
    }
    Ok(response)
}

/// How long content may be taken from a cache: as long as it is the same.
const CACHE: &str = "private, no-cache";

/// The content piece by piece, so that a large one is never held whole.
fn pieces(
    app: Arc<Service>,
    stored: StoredFormat,
    range: Range<u64>,
) -> impl stream::Stream<Item = Result<bytes::Bytes, std::io::Error>> {
    stream::try_unfold((app, stored, range.start), move |(app, stored, at)| async move {
        if at >= range.end {
            return Ok(None);
        }
        let mut piece = app.engine.history.store.content_at(&stored, at).await.map_err(std::io::Error::other)?;
        if piece.is_empty() {
            return Err(std::io::Error::other("the content ends too early"));
        }
        piece.truncate(usize::try_from(range.end - at).unwrap_or(usize::MAX));
        let next = at + piece.len() as u64;
        Ok(Some((piece, (app, stored, next))))
    })
}

/// No byte of the content lies in the range.
#[derive(Debug)]
struct OutOfRange;

/// One range of bytes (RFC 9110, section 14). Several ranges, and units that are not bytes, are answered
/// with the whole.
fn parse_range(range: &str, size: u64) -> Result<Option<Range<u64>>, OutOfRange> {
    let Some((first, last)) = range.strip_prefix("bytes=").and_then(|range| range.split_once('-')) else {
        return Ok(None);
    };
    if last.contains(',') {
        return Ok(None);
    }
    let range = match (first.trim().parse::<u64>(), last.trim().parse::<u64>()) {
        (Ok(first), Ok(last)) if first <= last => first..last.saturating_add(1).min(size),
        (Ok(first), Err(_)) if last.trim().is_empty() => first..size,
        (Err(_), Ok(suffix)) if first.trim().is_empty() => size.saturating_sub(suffix)..size,
        _ => return Ok(None),
    };
    if range.start >= range.end { Err(OutOfRange) } else { Ok(Some(range)) }
}

/// Get a small picture of a clip
///
/// At most 320 pixels a side. Only pictures that can be decoded have one.
#[utoipa::path(get, path = "/clips/{name}/thumbnail", tag = "clips", params(("name" = String, Path, description = "A position, an id, or the beginning of an id.")),
    responses((status = 200, description = "The picture.", content_type = "image/png"), (status = 404, body = api::Problem)))]
pub async fn thumbnail(State(app): State<App>, InPath(name): InPath<String>) -> Result<Response, Problem> {
    let (record, _) = app.engine.history.find_clip(&name).await?;
    let thumbnail = app.engine.history.thumbnail(&record).await?.ok_or_else(Problem::no_thumbnail)?;
    let Thumbnail { mime, content } = thumbnail;
    let headers = [
        (header::CONTENT_TYPE, mime),
        (header::CONTENT_SECURITY_POLICY, SANDBOX.into()),
        (header::CACHE_CONTROL, "private, max-age=3600".into()),
    ];
    Ok((headers, content).into_response())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_range_is_read_and_all_else_means_the_whole() {
        let range = |text| parse_range(text, 10).unwrap();
        assert_eq!(range("bytes=2-4"), Some(2..5));
        assert_eq!(range("bytes=2-"), Some(2..10));
        assert_eq!(range("bytes=-3"), Some(7..10));
        assert_eq!(range("bytes=5-99"), Some(5..10));
        for whole in ["bytes=1-2,4-5", "lines=1-2", "bytes=4-2", "bytes=x-y", "bytes"] {
            assert_eq!(range(whole), None, "{whole}");
        }
        assert!(parse_range("bytes=10-", 10).is_err());
        assert!(parse_range("bytes=-0", 10).is_err());
    }
}
