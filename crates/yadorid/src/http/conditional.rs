//! Changing only what is as the client has seen it (RFC 9110, section 13).
//!
//! What can be changed is answered with an `ETag`, and a change may say in `If-Match` which one it is of: then it is made
//! only if nothing else has changed it since. Such changes are made one after the other, so that of two the second sees the first.

use super::App;
use super::problem::Problem;
use axum::Json;
use axum::http::header::{self, HeaderMap};
use axum::http::{HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Serialize;
use tokio::sync::MutexGuard;
use yadori_api as api;

/// What compression adds to a tag: other bytes have another one.
const COMPRESSED: &str = "-gzip";

/// Something that can be changed.
pub(super) trait Versioned: Serialize {
    /// The tag of what it is now. It is another one if, and only if, something of it has changed that a change could
    /// overwrite.
    fn tag(&self) -> String {
        tag_of(self)
    }
}

impl Versioned for api::Rules {}
impl Versioned for api::Policy {}

impl Versioned for api::DrawerContents {
    fn tag(&self) -> String {
        let places = self.items.iter().map(|item| (&item.heading, item.clip.as_ref().map(|clip| &clip.id)));
        tag_of(&(&self.name, places.collect::<Vec<_>>()))
    }
}

impl Versioned for api::Clip {
    fn tag(&self) -> String {
        // How often it is used, and where it stands among others, is no change of it.
        tag_of(&(
            &self.id,
            &self.title,
            self.mark,
            &self.alias,
            self.fills,
            self.sensitive,
            (self.pinned, &self.drawer),
        ))
    }
}

impl Versioned for api::ClipDetail {
    fn tag(&self) -> String {
        self.clip.tag()
    }
}

fn tag_of(value: &(impl Serialize + ?Sized)) -> String {
    let json = serde_json::to_vec(value).unwrap_or_default();
    format!("\"{}\"", data_encoding::HEXLOWER.encode(&blake3::hash(&json).as_bytes()[..12]))
}

/// An answer with its tag.
pub(super) struct Tagged<T>(pub T);

impl<T: Versioned> IntoResponse for Tagged<T> {
    fn into_response(self) -> Response {
        let tag = HeaderValue::from_str(&self.0.tag()).unwrap_or(HeaderValue::from_static("\"\""));
        // It may be kept by the client, but is asked for each time.
        let headers = [(header::ETAG, tag), (header::CACHE_CONTROL, HeaderValue::from_static("private, no-cache"))];
        (headers, Json(self.0)).into_response()
    }
}

impl<T: Versioned> Tagged<T> {
    /// The answer to who looks: 304 if they have it already.
    pub(super) fn unless_known(self, headers: &HeaderMap) -> Response {
        if !is_none_of(&self.0.tag(), headers) {
            return not_modified(self.into_response());
        }
        self.into_response()
    }
}

/// The same answer without its content (RFC 9110, section 15.4.5).
fn not_modified(response: Response) -> Response {
    let (mut parts, _) = response.into_parts();
    parts.status = StatusCode::NOT_MODIFIED;
    parts.headers.remove(header::CONTENT_TYPE);
    parts.headers.remove(header::CONTENT_LENGTH);
    Response::from_parts(parts, axum::body::Body::empty())
}

fn tags(headers: &HeaderMap, name: header::HeaderName) -> Option<Vec<&str>> {
    let values: Vec<&str> = headers.get_all(name).iter().map(|value| value.to_str().unwrap_or_default()).collect();
    let tags = values.iter().flat_map(|value| value.split(',')).map(str::trim);
    (!values.is_empty()).then(|| tags.collect())
}

/// A tag as it is without compression.
fn plain(tag: &str) -> Option<String> {
    let words = tag.strip_prefix('"')?.strip_suffix('"')?;
    Some(format!("\"{}\"", words.strip_suffix(COMPRESSED).unwrap_or(words)))
}

/// Whether what has this tag is none of those that the client has. Here a weak tag is as good (RFC 9110, section 13.1.2).
pub(super) fn is_none_of(tag: &str, headers: &HeaderMap) -> bool {
    let known = tags(headers, header::IF_NONE_MATCH).unwrap_or_default();
    !known.iter().any(|known| *known == "*" || plain(known.trim_start_matches("W/")).as_deref() == Some(tag))
}

/// Makes a change only of what the client has seen, if it says so in `If-Match`; `now` gives what it is now. The change is
/// made before what this gives is dropped.
pub(super) async fn as_seen<'a, T: Versioned>(
    app: &'a App,
    headers: &HeaderMap,
    now: impl Future<Output = Result<T, Problem>>,
) -> Result<Option<MutexGuard<'a, ()>>, Problem> {
    let Some(seen) = tags(headers, header::IF_MATCH) else { return Ok(None) };
    let alone = app.changing.lock().await;
    let tag = now.await?.tag();
    // A weak tag says nothing of each byte (RFC 9110, section 13.1.1).
    if seen.iter().any(|seen| *seen == "*" || plain(seen).as_deref() == Some(tag.as_str())) {
        return Ok(Some(alone));
    }
    Err(Problem::not_as_seen(&tag))
}

/// Gives the compressed form of an answer a tag of its own.
pub(super) fn tag_compressed(response: &mut Response) {
    if response.headers().contains_key(header::CONTENT_ENCODING)
        && let Some(tag) = response.headers().get(header::ETAG).and_then(|tag| tag.to_str().ok())
        && let Some(words) = tag.strip_suffix('"')
        && let Ok(tag) = HeaderValue::from_str(&format!("{words}{COMPRESSED}\""))
    {
        response.headers_mut().insert(header::ETAG, tag);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_found_among_others_weak_compressed_or_any() {
        let is_known = |given: &[&str]| {
            let mut headers = HeaderMap::new();
            for value in given {
                headers.append(header::IF_NONE_MATCH, HeaderValue::from_str(value).unwrap());
            }
            !is_none_of("\"a-1-0\"", &headers)
        };
        for tags in
            [&["\"a-1-0\""][..], &["\"b\", W/\"a-1-0\""], &[" * "], &["\"a-1-0-gzip\""], &["\"b\"", "\"a-1-0\""]]
        {
            assert!(is_known(tags), "{tags:?}");
        }
        for tags in [&[][..], &["\"a-1-1\", a-1-0"], &["\"\""]] {
            assert!(!is_known(tags), "{tags:?}");
        }
    }
}
