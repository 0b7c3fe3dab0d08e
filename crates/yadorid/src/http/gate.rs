//! What stands before everything: the interface while the history is open, and next to nothing while it is locked.

use super::auth::{self, Authenticator};
use super::interface::{Interface, handle, run_to_completion};
use super::problem::Problem;
use super::{console, protocol};
use crate::vault::Vault;
use axum::body::Body;
use axum::extract::rejection::JsonRejection;
use axum::extract::{DefaultBodyLimit, Request, State};
use axum::http::{Method, header};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use parking_lot::RwLock;
use std::ops::ControlFlow::{Break, Continue};
use std::sync::Arc;
use yadori_api as api;

/// Most bytes of a request while the history is locked: a passphrase.
const SMALL: usize = 16 * 1024;

/// What stands before everything.
pub struct Gate {
    vault: Arc<Vault>,
    open: RwLock<Option<Interface>>,
    locked: Locked,
}

impl Gate {
    /// One that is shut.
    pub fn new(authenticator: Arc<Authenticator>, vault: Arc<Vault>) -> Arc<Self> {
        let locked = Locked::new(authenticator, vault.clone());
        Arc::new(Self { vault, open: RwLock::new(None), locked })
    }

    /// From now on requests go to the interface.
    pub fn open(&self, interface: Interface) {
        *self.open.write() = Some(interface);
    }

    /// From now on nothing is told.
    pub fn shut(&self) {
        *self.open.write() = None;
    }

    /// Answers a request.
    pub async fn answer(self: Arc<Self>, request: Request) -> Response {
        let open = self.open.read().clone();
        match open {
            Some(interface) => self.answer_by(interface, request).await,
            None => self.locked.clone().answer(request).await,
        }
    }

    async fn answer_by(&self, interface: Interface, request: Request) -> Response {
        let is_use = request.uri().path().split_once(api::BASE).is_some_and(|(_, path)| !NO_USE.contains(&path));
        let locks = request.method() == Method::POST && request.uri().path().ends_with(&format!("{}/lock", api::BASE));
        let response = interface.answer(request).await;
        if locks && response.status().is_success() {
            let (mut parts, _) = response.into_parts();
            self.vault.is_locked().await;
            parts.headers.remove(header::CONTENT_LENGTH);
            let standing = serde_json::to_vec(&self.vault.standing()).unwrap_or_default();
            return Response::from_parts(parts, Body::from(standing));
        }
        if is_use && !response.status().is_client_error() {
            self.vault.note_use();
        }
        response
    }
}

/// What can be asked without using the history.
const NO_USE: [&str; 3] = ["/status", "/events", "/lock"];

/// What is served while the history is locked: that it is, a way to unlock it, and the console's pages, which hold nothing.
#[derive(Clone)]
struct Locked {
    authenticator: Arc<Authenticator>,
    pages: Router,
}

impl Locked {
    fn new(authenticator: Arc<Authenticator>, vault: Arc<Vault>) -> Self {
        let lock = format!("{}/lock", api::BASE);
        let pages = Router::new()
            .route(&lock, get(show).fallback(refuse))
            .route(&format!("{lock}/open"), post(unlock).fallback(refuse))
            .fallback(page)
            .layer(DefaultBodyLimit::max(SMALL))
            .with_state(vault);
        Self { authenticator, pages }
    }

    async fn answer(self, request: Request) -> Response {
        run_to_completion(request, |request| self.pass(request)).await
    }

    async fn pass(self, request: Request) -> Response {
        let mut response = match protocol::objection(&request) {
            Some(problem) => problem.into_response(),
            None => match auth::let_in_while_locked(&self.authenticator, request) {
                Continue(request) => handle(self.pages, request).await,
                Break(response) => response,
            },
        };
        auth::add_headers(&mut response);
        response
    }
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
