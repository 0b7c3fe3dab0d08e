//! Errors as RFC 9457 problem documents. This is the only place where an error becomes a status.

mod devices;

use super::App;
use super::contract::Contract;
use super::sessions::SessionError;
use axum::Json;
use axum::extract::Query;
use axum::extract::rejection::{BytesRejection, JsonRejection, QueryRejection};
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use std::collections::BTreeMap;
use yadori_api as api;
use yadori_core::ClipId;
use yadori_core::capture::Refusal;
use yadori_core::reshape::ReshapeError;
use yadori_core::tray::TrayError;
use yadori_engine::capture::CaptureError;
use yadori_engine::capture::pause::PauseError;
use yadori_engine::history::find::FindError;
use yadori_engine::history::names::FindNameError;
use yadori_engine::keeping::KeepError;
use yadori_engine::keeping::add::AddError;
use yadori_engine::keeping::drawers::DrawerError;
use yadori_engine::keeping::edit::EditError;
use yadori_engine::moving::export::ExportError;
use yadori_engine::overview::stats::StatsError;
use yadori_engine::recalling::RecallError;
use yadori_engine::retention::bin::BinError;
use yadori_engine::retention::delete::ClearError;
use yadori_engine::retention::undo::UndoError;
use yadori_engine::rule_book::ChangeRulesError;
use yadori_engine::tray::TrayActError;
use yadori_store::StoreError;
use yadori_store::private::ServerError;

/// Parameters that a request brings along.
pub(super) type Asked<T> = Result<Query<T>, QueryRejection>;
/// What a request sends as JSON.
pub(super) type Sent<T> = Result<Json<T>, JsonRejection>;

/// The answer to what was asked for, or the problem with it, complete with the clips that may have been meant.
pub(super) async fn answer<T: Contract, E>(app: &App, outcome: Result<T, E>) -> Result<Json<T::As>, Problem>
where
    Problem: From<E>,
{
    match outcome {
        Ok(done) => Ok(Json(done.contract(&app.engine.rule_book.rules()))),
        Err(error) => Err(Problem::from(error).with_candidates(app).await),
    }
}

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
    asks: Vec<String>,
    usual: BTreeMap<String, String>,
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
            asks: Vec::new(),
            usual: BTreeMap::new(),
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

    /// The service's own database is away; why it could not be started again, if it could not.
    pub(super) fn database_away(failure: Option<&ServerError>) -> Self {
        match failure {
            Some(full @ ServerError::DiskFull { .. }) => {
                Self::new(StatusCode::INSUFFICIENT_STORAGE, "disk-full", "The disk is full", full)
                    .hint("make room: the database is started again by itself, and nothing is lost")
            }
            Some(error) => Self::new(StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away", error)
                .hint("it is tried again by itself; see: yadori doctor"),
            None => Self::new(
                StatusCode::SERVICE_UNAVAILABLE,
                "database-away",
                "The database is away",
                "the database is being started again",
            )
            .hint("try again in a moment"),
        }
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

    pub(super) fn no_room(error: &std::io::Error) -> Self {
        Self::new(
            StatusCode::INSUFFICIENT_STORAGE,
            "disk-full",
            "No room",
            format!("what was sent cannot be kept for reading: {error}"),
        )
        .hint("make room and try again; nothing is lost")
    }

    pub(super) fn no_qr() -> Self {
        Self::new(
            StatusCode::UNPROCESSABLE_ENTITY,
            "no-qr",
            "No QR code",
            "a QR code holds a text or a link of at most some 2,900 bytes, that is not sensitive",
        )
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
            let position = app.engine.history.ledger.read().await.position(id);
            if let Ok(Some(record)) = app.engine.history.store.clip(id).await {
                let listed = app.engine.history.listed(&record, position);
                self.candidates.push(listed.contract(&app.engine.rule_book.rules()));
            }
        }
        self
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        // That another device is away is nothing that is wrong here.
        if self.status == StatusCode::BAD_GATEWAY {
            tracing::debug!(kind = self.kind, detail = self.detail, "another device was wanted");
        } else if self.status.is_server_error() {
            tracing::warn!(kind = self.kind, detail = self.detail, "a request failed");
        }
        let body = api::Problem {
            kind: format!("urn:yadori:problem:{}", self.kind),
            title: self.title.into(),
            status: self.status.as_u16(),
            detail: self.detail,
            hint: self.hint.map(str::to_owned),
            candidates: self.candidates,
            asks: self.asks,
            usual: self.usual,
        };
        let mut response = (self.status, Json(body)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}

impl From<SessionError> for Problem {
    fn from(error: SessionError) -> Self {
        let detail = error.to_string();
        match error {
            SessionError::None(_) => Self::new(StatusCode::NOT_FOUND, "no-such-session", "No such session", detail)
                .hint("see them with: yadori console sessions"),
            SessionError::Store(error) => error.into(),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::Unavailable(cause) => {
                tracing::warn!(%cause, "the database is not reachable");
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "database-away", "The database is away", &error)
                    .hint("try again in a moment; if that does not help, see: yadori doctor")
            }
            StoreError::DiskFull(_) => {
                Self::new(StatusCode::INSUFFICIENT_STORAGE, "disk-full", "The disk is full", &error)
                    .hint("make room and try again; nothing is lost")
            }
            StoreError::Elsewhere => Self::new(StatusCode::BAD_GATEWAY, "elsewhere", "On another device", &error)
                .hint("it is fetched as soon as that device is there; see: yadori device list"),
            StoreError::Damaged(_) | StoreError::Database(_) | StoreError::AnotherClip | StoreError::TooMany(..) => {
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
            FindNameError::Number => {
                Self::new(StatusCode::BAD_REQUEST, "nothing-named", "No clip, or too many", detail)
            }
            FindNameError::NotInBin(_) => Self::new(StatusCode::NOT_FOUND, "no-such-clip", "Not in the bin", detail)
                .hint("see what is in the bin with: yadori bin list"),
            FindNameError::InBin(_) => Self::new(StatusCode::NOT_FOUND, "no-such-clip", "In the bin", detail)
                .hint("bring it back with: yadori bin restore"),
            FindNameError::NoSuchAlias(_) => Self::new(StatusCode::NOT_FOUND, "no-such-clip", "No such alias", detail)
                .hint("see the aliases with: yadori alias list"),
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
            AddError::FromTheFuture => Self::new(StatusCode::BAD_REQUEST, "bad-particulars", "Not possible", detail),
            AddError::Keep(error) => error.into(),
            AddError::Drawer(error) => error.into(),
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
            RecallError::Mixed(_) => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "mixed", "Cannot be joined", detail)
                .hint("texts and links can be joined, and lists of files; leave the others out with --skip-others"),
            RecallError::Reshape(error) => error.into(),
            RecallError::NotAsked(..) => Self::new(StatusCode::BAD_REQUEST, "not-asked", "An answer too many", detail)
                .hint("check the name, capital letters count; --fill fills in a clip that is not set to"),
            RecallError::Asks(asks) => Self {
                usual: asks.iter().filter_map(|ask| Some((ask.name.clone(), ask.usual.clone()?))).collect(),
                asks: asks.into_iter().map(|ask| ask.name).collect(),
                ..Self::new(StatusCode::UNPROCESSABLE_ENTITY, "asks", "Something must be answered first", detail)
                    .hint("answer with --answer Name=VALUE; a recall leaves placeholders as they are with --no-fill")
            },
            RecallError::Paste(_) => Self::new(StatusCode::CONFLICT, "not-pasted", "Not pasted", detail),
            RecallError::Name(error) => error.into(),
            RecallError::Store(error) => error.into(),
        }
    }
}

impl From<ReshapeError> for Problem {
    fn from(error: ReshapeError) -> Self {
        let detail = error.to_string();
        match error {
            ReshapeError::NoSuchWay(_) | ReshapeError::Width | ReshapeError::TooMany => {
                Self::new(StatusCode::BAD_REQUEST, "bad-way", "Not a way to reshape", detail)
                    .hint("see them all with: yadori reshape --list")
            }
            ReshapeError::NotJson(_) | ReshapeError::NothingLeft(_) => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "does-not-fit", "It does not fit the text", detail)
            }
        }
    }
}

impl From<EditError> for Problem {
    fn from(error: EditError) -> Self {
        let detail = error.to_string();
        match error {
            EditError::Name(error) => error.into(),
            EditError::NoWords(..) => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "no-text", "Not text", detail),
            EditError::NotText => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "not-text", "Not text", detail),
            EditError::NoWay => Self::new(StatusCode::BAD_REQUEST, "bad-way", "No way to reshape", detail)
                .hint("see them all with: yadori reshape --list"),
            EditError::Reshape(error) => error.into(),
            EditError::Capture(error) => error.into(),
        }
    }
}

impl From<KeepError> for Problem {
    fn from(error: KeepError) -> Self {
        let detail = error.to_string();
        match error {
            KeepError::Name(error) => error.into(),
            KeepError::LongTitle(_) | KeepError::NoSuchMark(_) | KeepError::NotAnAlias(..) | KeepError::Place => {
                Self::new(StatusCode::BAD_REQUEST, "bad-particulars", "Not possible", detail)
            }
            KeepError::AliasTaken { .. } => {
                Self::new(StatusCode::CONFLICT, "alias-taken", "The alias is taken", detail)
                    .hint("choose another one, or take it from that clip with --take")
            }
            KeepError::NotPinned(_) => Self::new(StatusCode::CONFLICT, "not-pinned", "Not pinned", detail)
                .hint("see the pinned clips with: yadori list --pinned"),
        }
    }
}

impl From<DrawerError> for Problem {
    fn from(error: DrawerError) -> Self {
        let detail = error.to_string();
        match error {
            DrawerError::NoSuchDrawer(_) => {
                Self::new(StatusCode::NOT_FOUND, "no-such-drawer", "No such drawer", detail)
                    .hint("see the drawers with: yadori drawer list; make one with: yadori drawer new NAME")
            }
            DrawerError::NoSuchPlace(_) => Self::new(StatusCode::NOT_FOUND, "no-such-place", "No such place", detail)
                .hint("see what lies where with: yadori drawer list NAME"),
            DrawerError::Taken(_) => Self::new(StatusCode::CONFLICT, "drawer-taken", "The name is taken", detail),
            DrawerError::InNone(_) => Self::new(StatusCode::CONFLICT, "in-no-drawer", "In no drawer", detail),
            DrawerError::Name
            | DrawerError::Full
            | DrawerError::Heading
            | DrawerError::NotAHeading(_)
            | DrawerError::Itself => Self::new(StatusCode::BAD_REQUEST, "bad-drawer", "Not possible", detail),
            DrawerError::Randomness(_) => Self::internal(),
            DrawerError::Keep(error) => error.into(),
        }
    }
}

impl From<TrayActError> for Problem {
    fn from(error: TrayActError) -> Self {
        let detail = error.to_string();
        match error {
            TrayActError::Tray(TrayError::Empty) => {
                Self::new(StatusCode::NOT_FOUND, "nothing-there", "Nothing there", "there is nothing in it")
                    .hint("gather clips in the tray with: yadori tray open, or yadori tray add CLIP…")
            }
            TrayActError::Tray(TrayError::NoSuchPlace(_)) => {
                Self::new(StatusCode::NOT_FOUND, "no-such-place", "No such place", detail)
                    .hint("see what lies where with: yadori tray show")
            }
            TrayActError::Tray(TrayError::Full) => {
                Self::new(StatusCode::CONFLICT, "tray-full", "The tray is full", detail)
            }
            TrayActError::Name(error) => error.into(),
            TrayActError::Recall(error) => error.into(),
            TrayActError::Drawer(error) => error.into(),
        }
    }
}

impl From<ChangeRulesError> for Problem {
    fn from(error: ChangeRulesError) -> Self {
        let detail = error.to_string();
        match error {
            ChangeRulesError::Rules(_) | ChangeRulesError::Scope => {
                Self::new(StatusCode::BAD_REQUEST, "bad-rule", "Not a rule", detail)
            }
            ChangeRulesError::Drastic(..) => Self::new(StatusCode::CONFLICT, "much-would-go", "Much would go", detail)
                .hint("see which with: yadori rules preview …; if that is meant, repeat it with --yes"),
            ChangeRulesError::Store(error) => error.into(),
        }
    }
}

impl From<ClearError> for Problem {
    fn from(error: ClearError) -> Self {
        let detail = error.to_string();
        match error {
            ClearError::Changed { .. } => Self::new(StatusCode::CONFLICT, "changed", "Changed meanwhile", detail)
                .hint("look again, and repeat it"),
            ClearError::EmptyFilter(_) => Self::new(StatusCode::BAD_REQUEST, "bad-slice", "Not a slice", detail),
            ClearError::Store(error) => error.into(),
        }
    }
}

impl From<ExportError> for Problem {
    fn from(error: ExportError) -> Self {
        match error {
            ExportError::Name(error) => error.into(),
            ExportError::Find(error) => error.into(),
            ExportError::Drawer(error) => error.into(),
            ExportError::Store(error) => error.into(),
        }
    }
}

impl From<BinError> for Problem {
    fn from(error: BinError) -> Self {
        match error {
            BinError::Limit => Self::new(StatusCode::BAD_REQUEST, "bad-page", "No such page", error),
            BinError::Store(error) => error.into(),
        }
    }
}

impl From<StatsError> for Problem {
    fn from(error: StatsError) -> Self {
        match error {
            StatsError::Days => Self::new(StatusCode::BAD_REQUEST, "bad-page", "No such days", error),
            StatsError::Store(error) => error.into(),
        }
    }
}

impl From<UndoError> for Problem {
    fn from(error: UndoError) -> Self {
        match error {
            UndoError::NoSuchStep(_) => Self::new(StatusCode::NOT_FOUND, "nothing-to-undo", "No such step", error)
                .hint("see what can be undone with: yadori undo --list"),
            UndoError::Nothing => Self::new(StatusCode::NOT_FOUND, "nothing-to-undo", "Nothing to undo", error),
            UndoError::NothingUndone => Self::new(StatusCode::NOT_FOUND, "nothing-to-redo", "Nothing to redo", error),
            UndoError::NotUndone(_) => Self::new(StatusCode::NOT_FOUND, "nothing-to-redo", "Not undone", error)
                .hint("see what was undone with: yadori undo --list"),
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
