//! What a request brings along is read, or the connection ends with the answer.
//!
//! How much each may bring is known before any of it is read: what says that it is larger is refused at once (so a client that
//! waits for `100 Continue` sends nothing), and what turns out to be larger is read no further.
//!
//! A handler may answer without having read the body: it has no use for one, or lets nobody in. What is
//! left of the body would then stand before the next request, so the connection can only be closed
//! (RFC 9112, section 9.3), and a client that was not told so would find it gone in the middle of its
//! next request. So small bodies are read beforehand, and with large ones that nobody read the answer
//! says that the connection ends.

use super::App;
use super::problem::Problem;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::Request;
use axum::http::{HeaderValue, Method, header};
use axum::response::{IntoResponse, Response};
use http_body_util::Limited;
use std::ops::ControlFlow::{self, Break, Continue};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll};
use tower_http::timeout::TimeoutBody;

/// Most bytes that are read before anybody asked for them.
const SMALL: u64 = 64 * 1024;

/// Most bytes of a request that brings no content to be kept.
const USUAL: u64 = 4 * 1024 * 1024;

/// What may surround the largest content that is kept.
const AROUND: u64 = 64 * 1024;

/// Most bytes that this request may bring.
fn most(app: &App, method: &Method, path: &str) -> u64 {
    let Some(path) = path.strip_prefix(yadori_api::BASE).filter(|_| method == Method::POST || method == Method::PUT)
    else {
        return USUAL;
    };
    let largest = app.engine.rule_book.rules().rules().largest;
    match path {
        // An archive goes to a file, for which there is room or not.
        "/import" => u64::MAX,
        "/clips" => largest + AROUND,
        // As JSON, in which a character may take six.
        "/simulated/copy" => largest.saturating_mul(6) + AROUND,
        _ if path.starts_with("/clips/") => largest + AROUND,
        _ => USUAL,
    }
}

/// Whether what a request brings along has been read by the time of its answer.
pub(super) struct BodyReading {
    /// Small ones have been, before they were handled.
    read: Option<Arc<AtomicBool>>,
}

impl BodyReading {
    /// Says that the connection ends, if something stands before the next request on it.
    pub(super) fn note_what_is_left(&self, response: &mut Response) {
        if self.read.as_ref().is_some_and(|read| !read.load(Ordering::Relaxed)) {
            end_connection(response);
        }
    }
}

fn end_connection(response: &mut Response) {
    response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
}

/// Reads a small body, and sees to it that a large one is read no further than it may; answers who brings more.
pub(super) async fn read(app: &App, request: Request) -> ControlFlow<Response, (Request, BodyReading)> {
    let (parts, body) = request.into_parts();
    let size = body.size_hint();
    if size.upper() == Some(0) {
        return Continue((Request::from_parts(parts, Body::empty()), BodyReading { read: None }));
    }
    let most = most(app, &parts.method, parts.uri.path());
    if size.lower() > most {
        let mut response = Problem::too_much(most).into_response();
        end_connection(&mut response);
        return Break(response);
    }
    // Who stops in the middle of it is not waited for.
    let body = Body::new(TimeoutBody::new(yadori_serve::SPEAKING, body));
    if size.upper().is_some_and(|most| most <= SMALL) {
        return match axum::body::to_bytes(body, SMALL as usize).await {
            Ok(bytes) => Continue((Request::from_parts(parts, Body::from(bytes)), BodyReading { read: None })),
            Err(_) => Break(Problem::broken_body().into_response()),
        };
    }
    let read = Arc::new(AtomicBool::new(false));
    let body = Body::new(Limited::new(body, usize::try_from(most).unwrap_or(usize::MAX)));
    let body = Body::new(Watched { body, read: read.clone() });
    Continue((Request::from_parts(parts, body), BodyReading { read: Some(read) }))
}

/// A body that notes when it has been read to its end.
struct Watched {
    body: Body,
    read: Arc<AtomicBool>,
}

impl HttpBody for Watched {
    type Data = Bytes;
    type Error = axum::Error;

    fn poll_frame(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
    ) -> Poll<Option<Result<http_body::Frame<Bytes>, axum::Error>>> {
        let polled = Pin::new(&mut self.body).poll_frame(context);
        if matches!(polled, Poll::Ready(None)) || self.body.is_end_stream() {
            self.read.store(true, Ordering::Relaxed);
        }
        polled
    }

    fn is_end_stream(&self) -> bool {
        self.body.is_end_stream()
    }

    fn size_hint(&self) -> http_body::SizeHint {
        self.body.size_hint()
    }
}
