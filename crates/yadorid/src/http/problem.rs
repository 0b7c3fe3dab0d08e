//! Errors as RFC 9457 problem documents. This is the only place where an error becomes a status.

use super::App;
use crate::use_cases::add::AddError;
use crate::use_cases::capture::CaptureError;
use crate::use_cases::find::FindError;
use crate::use_cases::listing;
use crate::use_cases::names::FindNameError;
use crate::use_cases::pause::PauseError;
use crate::use_cases::recall::RecallError;
use crate::use_cases::undo::UndoError;
use axum::Json;
use axum::extract::rejection::{BytesRejection, JsonRejection, QueryRejection};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use yadori_api as api;
use yadori_core::ClipId;
use yadori_core::capture::Refusal;
use yadori_store::StoreError;

/// A problem on its way to the client.
#[derive(Debug)]
pub struct Problem {
    status: StatusCode,
    kind: &'static str,
    title: &'static str,
    detail: String,
    hint: Option<&'static str>,
    candidates: Vec<api::Clip>,
    /// Candidates whose particulars have not been looked up.
    unresolved: Vec<ClipId>,
}

impl Problem {
    fn new(status: StatusCode, kind: &'static str, title: &'static str, detail: impl ToString) -> Self {
        Self {
            status,
            kind,
            title,
            detail: detail.to_string(),
            hint: None,
            candidates: Vec::new(),
            unresolved: Vec::new(),
        }
    }

    fn hint(self, hint: &'static str) -> Self {
        Self { hint: Some(hint), ..self }
    }

    pub(super) fn unauthorised() -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "unauthorised", "Not let in", "this request carries no valid token")
            .hint("send the token of run/api.json as “Authorization: Bearer …”; for a browser, run: yadori console")
    }

    pub(super) fn wrong_host() -> Self {
        Self::new(
            StatusCode::MISDIRECTED_REQUEST,
            "wrong-host",
            "Not this service",
            "the request asks for a host that is not this service",
        )
        .hint("names other than the address and localhost are set in config.toml: [api] names")
    }

    pub(super) fn foreign_origin() -> Self {
        Self::new(
            StatusCode::FORBIDDEN,
            "foreign-origin",
            "Not from here",
            "the request comes from a page that is not this service's own",
        )
    }

    pub(super) fn internal() -> Self {
        Self::new(
            StatusCode::INTERNAL_SERVER_ERROR,
            "internal",
            "The service failed",
            "something went wrong in the service; its log says what",
        )
    }

    pub(super) fn broken_body() -> Self {
        Self::new(
            StatusCode::BAD_REQUEST,
            "bad-request",
            "The request is not understood",
            "its body is not what it says",
        )
    }

    pub(super) fn no_such_path() -> Self {
        Self::new(StatusCode::NOT_FOUND, "no-such-path", "No such path", "there is nothing at this path")
            .hint("all paths are described by /api/v1/openapi.json")
    }

    pub(super) fn no_such_format(mime: &str) -> Self {
        Self::new(StatusCode::NOT_FOUND, "no-such-format", "No such format", format!("the clip has no format {mime}"))
    }

    pub(super) fn no_thumbnail() -> Self {
        Self::new(StatusCode::NOT_FOUND, "no-thumbnail", "No small picture", "there is no small picture of this clip")
    }

    pub(super) fn bad_range() -> Self {
        Self::new(StatusCode::RANGE_NOT_SATISFIABLE, "bad-range", "No such range", "the range lies outside the content")
    }

    pub(super) fn not_simulated() -> Self {
        Self::new(
            StatusCode::NOT_FOUND,
            "not-simulated",
            "Not a simulated clipboard",
            "the service does not run with --clipboard simulated",
        )
    }

    /// Looks up what the candidates of an ambiguous name are.
    pub(super) async fn with_candidates(mut self, app: &App) -> Self {
        for id in std::mem::take(&mut self.unresolved) {
            let position = app.ledger.read().await.position(id);
            if let Ok(Some(record)) = app.store.clip(id).await {
                self.candidates.push(listing::clip(&record, position, None));
            }
        }
        self
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        if self.status.is_server_error() {
            tracing::warn!(kind = self.kind, detail = self.detail, "a request failed");
        }
        let body = api::Problem {
            kind: format!("urn:yadori:problem:{}", self.kind),
            title: self.title.into(),
            status: self.status.as_u16(),
            detail: self.detail,
            hint: self.hint.map(str::to_owned),
            candidates: self.candidates,
        };
        let mut response = (self.status, Json(body)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::Unavailable(cause) => {
                tracing::warn!(%cause, "the database is not reachable");
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away", &error)
                    .hint("it is started again by itself; try again in a moment, and see: yadori status")
            }
            StoreError::DiskFull(_) => {
                Self::new(StatusCode::INSUFFICIENT_STORAGE, "disk-full", "The disk is full", &error)
                    .hint("make room and try again; nothing is lost")
            }
            StoreError::Damaged(_) | StoreError::Database(_) => {
                tracing::error!(error = yadori_core::with_causes(&error), "the database refused");
                Self::internal()
            }
        }
    }
}

impl From<FindNameError> for Problem {
    fn from(error: FindNameError) -> Self {
        let detail = error.to_string();
        match error {
            FindNameError::NotAName(..) => {
                Self::new(StatusCode::BAD_REQUEST, "not-a-name", "Not a clip's name", detail)
                    .hint("see the positions and ids with: yadori list")
            }
            FindNameError::NoSuchClip(_) => Self::new(StatusCode::NOT_FOUND, "no-such-clip", "No such clip", detail)
                .hint("see what there is with: yadori list"),
            FindNameError::Ambiguous { candidates, .. } => Self {
                unresolved: candidates,
                ..Self::new(StatusCode::CONFLICT, "ambiguous-name", "Several clips are meant", detail)
                    .hint("give more characters of the id")
            },
            FindNameError::Store(error) => error.into(),
        }
    }
}

impl From<FindError> for Problem {
    fn from(error: FindError) -> Self {
        let detail = error.to_string();
        match error {
            FindError::Query(_) => {
                Self::new(StatusCode::BAD_REQUEST, "bad-query", "The query is not understood", detail)
            }
            FindError::Cursor(_) | FindError::Limit | FindError::Zone(_) => {
                Self::new(StatusCode::BAD_REQUEST, "bad-page", "No such page", detail)
            }
            FindError::Store(error) => error.into(),
        }
    }
}

impl From<Refusal> for Problem {
    fn from(refusal: Refusal) -> Self {
        let detail = format!("this cannot be kept: {refusal}");
        match refusal {
            Refusal::TooLarge { .. } => Self::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "Too large", detail),
            Refusal::NoUsefulFormat => Self::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "refused", "Not kept", detail)
                .hint("text, HTML, pictures (PNG, JPEG, WebP, BMP, TIFF, SVG) and lists of file URIs can be kept"),
            _ => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "refused", "Not kept", detail),
        }
    }
}

impl From<CaptureError> for Problem {
    fn from(error: CaptureError) -> Self {
        match error {
            CaptureError::Refused(refusal) => refusal.into(),
            CaptureError::Store(error) => error.into(),
        }
    }
}

impl From<AddError> for Problem {
    fn from(error: AddError) -> Self {
        let detail = error.to_string();
        match error {
            AddError::LongTitle(_) | AddError::FromTheFuture => {
                Self::new(StatusCode::BAD_REQUEST, "bad-particulars", "Not possible", detail)
            }
            AddError::Capture(error) => error.into(),
        }
    }
}

impl From<RecallError> for Problem {
    fn from(error: RecallError) -> Self {
        let detail = error.to_string();
        match error {
            RecallError::Nothing => Self::new(StatusCode::BAD_REQUEST, "nothing-named", "Nothing to recall", detail),
            RecallError::NoText(..) => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "no-text", "Not text", detail)
                .hint("recall a picture by itself, without --plain"),
            RecallError::NoClipboard(_) => Self::new(StatusCode::CONFLICT, "no-clipboard", "No clipboard", detail)
                .hint("start the service within a desktop session; see: yadori doctor"),
            RecallError::Offer(_) => {
                Self::new(StatusCode::CONFLICT, "not-taken", "The clipboard was not taken", detail)
            }
            RecallError::Name(error) => error.into(),
            RecallError::Store(error) => error.into(),
        }
    }
}

impl From<UndoError> for Problem {
    fn from(error: UndoError) -> Self {
        match error {
            UndoError::Nothing => Self::new(StatusCode::NOT_FOUND, "nothing-to-undo", "Nothing to undo", error),
            UndoError::Store(error) => error.into(),
        }
    }
}

impl From<PauseError> for Problem {
    fn from(error: PauseError) -> Self {
        match error {
            PauseError::Length => Self::new(StatusCode::BAD_REQUEST, "bad-length", "Not a length", error),
            PauseError::Store(error) => error.into(),
        }
    }
}

macro_rules! from_rejection {
    ($($rejection:ty),*) => {
        $(impl From<$rejection> for Problem {
            fn from(rejection: $rejection) -> Self {
                Self::new(rejection.status(), "bad-request", "The request is not understood", rejection.body_text())
            }
        })*
    };
}

from_rejection!(JsonRejection, QueryRejection, BytesRejection);
