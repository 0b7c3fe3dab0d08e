//! What each request passes on its way to a handler, and its answer on its way out.

use super::auth;
use super::door::Door;
use super::problem::Problem;
use super::{App, bodies, conditional, console, document, paths, protocol, repeats};
use axum::body::Body;
use axum::extract::{DefaultBodyLimit, Request};
use axum::http::{Extensions, HeaderMap, StatusCode, Version, header};
use axum::response::{IntoResponse, Response};
use axum::routing::get;
use axum::{Json, Router};
use std::convert::Infallible;
use std::ops::ControlFlow::{Break, Continue};
use std::sync::Arc;
use std::time::Duration;
use tower::{Layer, Service, ServiceExt, service_fn};
use tower_http::CompressionLevel;
use tower_http::compression::Compression;

/// Everything that is served while the history is open. Clones are cheap.
#[derive(Clone)]
pub struct Interface {
    app: App,
    /// What paths lead to.
    pages: Router,
    /// By which requests come, if not by the service's own address.
    door: Option<Arc<Door>>,
}

impl Interface {
    /// The one at the service's own address.
    pub fn new(app: App) -> Self {
        let pages = Router::new()
            .merge(paths::answered())
            .route(&format!("{}/openapi.json", yadori_api::BASE), get(async || Json(document())))
            .fallback(console::page)
            .method_not_allowed_fallback(async || Problem::wrong_method())
            .with_state(app.clone());
        Self { app, pages, door: None }
    }

    /// The one for a browser on the network.
    pub(super) fn through_door(app: App, door: Arc<Door>) -> Self {
        Self { door: Some(door), ..Self::new(app) }
    }

    /// A router that answers so.
    pub fn router(self) -> Router {
        Router::new().fallback(move |request: Request| self.answer(request))
    }

    /// Answers a request.
    pub async fn answer(self, request: Request) -> Response {
        run_to_completion(request, |request| self.pass(request)).await
    }

    async fn pass(self, request: Request) -> Response {
        let mut response = match protocol::objection(&request) {
            Some(problem) => problem.into_response(),
            None => match bodies::read(&self.app, request).await {
                Continue((request, body)) => {
                    let mut response = self.let_in(request).await;
                    body.note_what_is_left(&mut response);
                    response
                }
                Break(response) => response,
            },
        };
        auth::add_headers(&mut response);
        response
    }

    /// Who is let in is found out first: it decides what a path means.
    async fn let_in(self, request: Request) -> Response {
        let request = match auth::let_in(&self.app, self.door.as_deref(), request).await {
            Continue(request) => request,
            Break(response) => return response,
        };
        if let Some(problem) = while_database_is_away(&self.app, request.uri().path()).await {
            return problem.into_response();
        }
        let handling = service_fn(|request: Request| {
            let Self { app, pages, .. } = self.clone();
            async move {
                let pages = DefaultBodyLimit::disable().layer(pages);
                Ok::<_, Infallible>(repeats::answer(&app, request, |request| handle(pages, request)).await)
            }
        });
        let compressing =
            Compression::new(handling).quality(CompressionLevel::Fastest).compress_when(is_worth_compressing);
        let Ok(response) = compressing.oneshot(request).await;
        let mut response = response.map(Body::new);
        conditional::tag_compressed(&mut response);
        response
    }
}

/// Has what a path leads to answer.
pub(super) async fn handle(
    pages: impl Service<Request, Response = Response, Error = Infallible, Future: Send> + Send,
    request: Request,
) -> Response {
    let Ok(response) = pages.oneshot(request).await;
    response
}

/// Smaller answers are sent as they are: it takes longer to make them smaller than to send them.
const WORTH_COMPRESSING: u64 = 4 * 1024;

/// Text is, if it is large; what comes bit by bit is not, since a bit would wait for others.
fn is_worth_compressing(_: StatusCode, _: Version, headers: &HeaderMap, _: &Extensions) -> bool {
    let mime = headers.get(header::CONTENT_TYPE).and_then(|mime| mime.to_str().ok()).unwrap_or_default();
    let is_text = ["text/", "application/json", "application/problem+json", "image/svg+xml"];
    let length = headers.get(header::CONTENT_LENGTH).and_then(|length| length.to_str().ok()?.parse::<u64>().ok());
    is_text.iter().any(|text| mime.starts_with(text))
        && !mime.starts_with("text/event-stream")
        && length.is_none_or(|length| length >= WORTH_COMPRESSING)
}

/// How long a request waits for the database to be back before it is told that it is away.
const BACK: Duration = Duration::from_millis(800);

/// The same, when it is started again on purpose.
const BACK_FROM_PAUSE: Duration = Duration::from_secs(5);

/// While the service's own database is away, whoever asks is told so at once, instead of waiting in vain for each of
/// several questions to it. How the service stands is told in any case.
async fn while_database_is_away(app: &App, path: &str) -> Option<Problem> {
    let needs_it = path.strip_prefix(yadori_api::BASE).is_some_and(|path| !WITHOUT_IT.contains(&path));
    if !needs_it || app.engine.server.away().is_none() {
        return None;
    }
    let patience = if app.engine.server.is_paused() { BACK_FROM_PAUSE } else { BACK };
    let _ = tokio::time::timeout(patience, app.engine.server.is_back()).await;
    app.engine.server.away().map(|failure| Problem::database_away(failure.as_ref()))
}

/// What can be asked without a database.
const WITHOUT_IT: [&str; 5] = ["/status", "/events", "/openapi.json", "/lock", "/lock/open"];

/// Runs handlers that may change records to completion even if the client disconnects, so that what is on record is also
/// announced. What only looks ends when nobody waits for it any more.
pub(super) async fn run_to_completion<F: Future<Output = Response> + Send + 'static>(
    request: Request,
    handle: impl FnOnce(Request) -> F,
) -> Response {
    // What has to be fetched from another device, or made from what is there, is then on record.
    let fetches = ["/content", "/thumbnail"].iter().any(|end| request.uri().path().ends_with(end));
    let only_looks = request.method().is_safe() && !fetches;
    let handling = tokio::spawn(handle(request));
    let _ends = only_looks.then(|| AbortOnDrop(handling.abort_handle()));
    match handling.await {
        Ok(response) => response,
        Err(failure) => {
            tracing::error!(%failure, "a request brought a defect to light");
            Problem::internal().into_response()
        }
    }
}

/// Ends a task when it is dropped; one that is done stays so.
struct AbortOnDrop(tokio::task::AbortHandle);

impl Drop for AbortOnDrop {
    fn drop(&mut self) {
        self.0.abort();
    }
}
