//! What stands before everything: the interface while the history is open, and next to nothing while it is locked.

use super::auth::{Authenticator, guard_while_locked};
use super::problem::Problem;
use super::{console, protocol, run_to_completion};
use crate::vault::Vault;
use axum::body::Body;
use axum::extract::rejection::JsonRejection;
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{Method, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router, middleware};
use parking_lot::RwLock;
use std::sync::Arc;
use tower::ServiceExt;
use yadori_api as api;

/// Most bytes of a request while the history is locked: a passphrase.
const SMALL: usize = 16 * 1024;

/// What stands before everything.
pub struct Gate {
    vault: Arc<Vault>,
    open: RwLock<Option<Router>>,
    locked: Router,
}

impl Gate {
    /// One that is shut.
    pub fn new(authenticator: Arc<Authenticator>, vault: Arc<Vault>) -> Arc<Self> {
        let locked = locked(authenticator, vault.clone());
        Arc::new(Self { vault, open: RwLock::new(None), locked })
    }

    /// From now on requests go to the interface.
    pub fn open(&self, interface: Router) {
        *self.open.write() = Some(interface);
    }

    /// From now on nothing is told.
    pub fn shut(&self) {
        *self.open.write() = None;
    }

    /// What is served.
    pub fn router(self: Arc<Self>) -> Router {
        Router::new().fallback(dispatch).layer(DefaultBodyLimit::disable()).with_state(self)
    }
}

/// What can be asked without using the history.
const NO_USE: [&str; 3] = ["/status", "/events", "/lock"];

async fn dispatch(State(gate): State<Arc<Gate>>, request: Request<Body>) -> Response {
    let is_use = request.uri().path().split_once(api::BASE).is_some_and(|(_, path)| !NO_USE.contains(&path));
    let open = gate.open.read().clone();
    let Some(interface) = open else { return gate.locked.clone().oneshot(request).await.into_response() };
    let locks = request.method() == Method::POST && request.uri().path().ends_with(&format!("{}/lock", api::BASE));
    let response = interface.oneshot(request).await.into_response();
    if locks && response.status().is_success() {
        let (mut parts, _) = response.into_parts();
        gate.vault.is_locked().await;
        parts.headers.remove(header::CONTENT_LENGTH);
        return Response::from_parts(parts, Body::from(serde_json::to_vec(&gate.vault.standing()).unwrap_or_default()));
    }
    if is_use && !response.status().is_client_error() {
        gate.vault.note_use();
    }
    response
}

/// What is served while the history is locked: that it is, a way to unlock it, and the console's pages, which hold nothing.
fn locked(authenticator: Arc<Authenticator>, vault: Arc<Vault>) -> Router {
    let lock = format!("{}/lock", api::BASE);
    let pages = Router::new()
        .route(&lock, get(show).fallback(refuse))
        .route(&format!("{lock}/open"), post(unlock).fallback(refuse))
        .fallback(page)
        .layer(DefaultBodyLimit::max(SMALL))
        .with_state(vault);
    Router::new()
        .fallback_service(pages)
        .layer(middleware::from_fn_with_state(authenticator, guard_while_locked))
        .layer(middleware::from_fn(protocol::layer))
        .layer(middleware::from_fn(run_to_completion))
}

async fn show(State(vault): State<Arc<Vault>>) -> Json<api::Lock> {
    Json(vault.standing())
}

async fn unlock(
    State(vault): State<Arc<Vault>>,
    asked: Result<Json<api::Unlock>, JsonRejection>,
) -> Result<Json<api::Lock>, Problem> {
    let Ok(Json(api::Unlock { passphrase })) = asked else { return Err(Problem::not_json()) };
    let passphrase = zeroize::Zeroizing::new(passphrase);
    match vault.unlock(&passphrase).await? {
        Ok(()) => Ok(Json(vault.standing())),
        Err(reason) => Err(Problem::cannot_open(&reason)),
    }
}

async fn refuse() -> Problem {
    Problem::locked()
}

async fn page(method: Method, request: Request) -> Response {
    if request.uri().path().starts_with(api::BASE) {
        return Problem::locked().into_response();
    }
    let (uri, headers) = (request.uri().clone(), request.headers().clone());
    console::page(method, uri, headers).await
}
