//! Requests that add something, sent again.
//!
//! Who does not hear the answer to a request cannot know whether it was carried out. With an `Idempotency-Key`, what adds can be
//! sent again: it is carried out once, and the second answer is the first. (The header is that of the IETF's draft
//! `draft-ietf-httpapi-idempotency-key-header`.)

use super::App;
use super::problem::Problem;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{FromRequest, Request};
use axum::http::header::{self, HeaderName, HeaderValue};
use axum::http::request::Parts;
use axum::http::{Method, StatusCode};
use axum::response::{IntoResponse, Response};
use parking_lot::Mutex;
use std::collections::VecDeque;
use std::sync::Arc;

/// The header.
const KEY: HeaderName = HeaderName::from_static("idempotency-key");

/// Longest key.
const LONGEST: usize = 255;

/// Answers that are remembered: until this many others have come, or the service ends.
const MOST: usize = 1_000;

/// Largest answer that is remembered. What adds answers with a clip, or with what it was put into.
const LARGEST: usize = 1 << 20;

/// The answer to a request.
struct Answer {
    status: StatusCode,
    headers: Vec<(HeaderName, HeaderValue)>,
    body: Bytes,
}

/// A request with a key. Whoever sends it again waits until it is answered.
#[derive(Clone)]
struct Known {
    key: [u8; 32],
    request: [u8; 32],
    answer: Arc<tokio::sync::Mutex<Option<Answer>>>,
}

/// The requests that are remembered, oldest first.
#[derive(Default)]
pub(crate) struct Repeats(Mutex<VecDeque<Known>>);

impl Repeats {
    /// The request with this key; a new one if there is none.
    fn find(&self, key: [u8; 32], request: [u8; 32]) -> Known {
        let mut all = self.0.lock();
        if let Some(known) = all.iter().find(|known| known.key == key) {
            return known.clone();
        }
        let known = Known { key, request, answer: Arc::default() };
        all.push_back(known.clone());
        if all.len() > MOST {
            all.pop_front();
        }
        known
    }

    fn forget(&self, key: [u8; 32]) {
        self.0.lock().retain(|known| known.key != key);
    }
}

/// Whether a request adds something each time it is sent.
fn adds(method: &Method, path: &str) -> bool {
    let Some(path) = path.strip_prefix(yadori_api::BASE).filter(|_| method == Method::POST) else { return false };
    matches!(path, "/clips" | "/drawers" | "/tray/add")
        || (path.starts_with("/drawers/") && path.ends_with("/headings"))
}

fn hash(parts: &Parts, body: &[u8]) -> [u8; 32] {
    let mut hasher = blake3::Hasher::new();
    let mime = parts.headers.get(header::CONTENT_TYPE).map(HeaderValue::as_bytes).unwrap_or_default();
    for part in [parts.method.as_str().as_bytes(), parts.uri.to_string().as_bytes(), mime, body] {
        hasher.update(&(part.len() as u64).to_le_bytes()).update(part);
    }
    *hasher.finalize().as_bytes()
}

/// Answers what was answered before; what was not is handled.
pub(super) async fn answer(app: &App, request: Request, handle: impl AsyncFnOnce(Request) -> Response) -> Response {
    let Some(key) = request.headers().get(&KEY).filter(|_| adds(request.method(), request.uri().path())).cloned()
    else {
        return handle(request).await;
    };
    if key.is_empty() || key.len() > LONGEST {
        return Problem::bad_key(LONGEST).into_response();
    }
    let (parts, body) = request.into_parts();
    let body = match Bytes::from_request(Request::new(body), &()).await {
        Ok(body) => body,
        Err(rejection) => return Problem::from(rejection).into_response(),
    };
    let (key, request) = (*blake3::hash(key.as_bytes()).as_bytes(), hash(&parts, &body));
    let known = app.repeats.find(key, request);
    if known.request != request {
        return Problem::key_used().into_response();
    }
    let mut answer = known.answer.lock().await;
    if let Some(answer) = &*answer {
        return answer.again();
    }
    let (parts, body) = handle(Request::from_parts(parts, Body::from(body))).await.into_parts();
    let Ok(body) = to_bytes(body, LARGEST).await else {
        app.repeats.forget(key);
        return Problem::internal().into_response();
    };
    if parts.status.is_success() {
        let headers = parts.headers.iter().map(|(name, value)| (name.clone(), value.clone())).collect();
        *answer = Some(Answer { status: parts.status, headers, body: body.clone() });
    } else {
        // Nothing was added: it may be sent again, and differently.
        app.repeats.forget(key);
    }
    Response::from_parts(parts, Body::from(body))
}

impl Answer {
    fn again(&self) -> Response {
        let mut response = (self.status, self.body.clone()).into_response();
        *response.headers_mut() = self.headers.iter().cloned().collect();
        response
    }
}
