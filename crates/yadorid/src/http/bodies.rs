//! What a request brings along is read, or the connection ends with the answer.
//!
//! A handler may answer without having read the body: it has no use for one, or lets nobody in. What is
//! left of the body would then stand before the next request, so the connection can only be closed
//! (RFC 9112, section 9.3), and a client that was not told so would find it gone in the middle of its
//! next request. So small bodies are read beforehand, and with large ones that nobody read the answer
//! says that the connection ends.

use super::problem::Problem;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::Request;
use axum::http::HeaderValue;
use axum::http::header;
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use std::pin::Pin;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::task::{Context, Poll};

/// Most bytes that are read before anybody asked for them.
const SMALL: u64 = 64 * 1024;

/// The outermost layer.
pub(super) async fn layer(request: Request, next: Next) -> Response {
    let (parts, body) = request.into_parts();
    if body.size_hint().upper().is_some_and(|most| most <= SMALL) {
        return match axum::body::to_bytes(body, SMALL as usize).await {
            Ok(bytes) => next.run(Request::from_parts(parts, Body::from(bytes))).await,
            Err(_) => Problem::broken_body().into_response(),
        };
    }
    let read = Arc::new(AtomicBool::new(false));
    let body = Body::new(Watched { body, read: read.clone() });
    let mut response = next.run(Request::from_parts(parts, body)).await;
    if !read.load(Ordering::Relaxed) {
        response.headers_mut().insert(header::CONNECTION, HeaderValue::from_static("close"));
    }
    response
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
