//! Errors as RFC 9457 problem documents. This is the only place where an error becomes a status.

mod devices;
mod lock;

use super::App;
use super::contract::Contract;
use super::sessions::SessionError;
use axum::Json;
use axum::extract::Query;
use axum::extract::rejection::{BytesRejection, QueryRejection};
use axum::http::{HeaderName, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use std::collections::BTreeMap;
use yadori_api::{self as api, ProblemKind};
use yadori_core::ClipId;
use yadori_core::capture::Refusal;
use yadori_core::reshape::ReshapeError;
use yadori_core::tray::TrayError;
use yadori_database::ServerError;
use yadori_engine::capture::CaptureError;
use yadori_engine::capture::pause::PauseError;
use yadori_engine::history::find::FindError;
use yadori_engine::history::names::FindNameError;
use yadori_engine::keeping::KeepError;
use yadori_engine::keeping::add::AddError;
use yadori_engine::keeping::drawers::DrawerError;
use yadori_engine::keeping::edit::EditError;
use yadori_engine::keys::{ActError, ChangeKeysError};
use yadori_engine::moving::export::ExportError;
use yadori_engine::moving::import::ImportError;
use yadori_engine::overview::stats::StatsError;
use yadori_engine::recalling::RecallError;
use yadori_engine::retention::bin::BinError;
use yadori_engine::retention::delete::ClearError;
use yadori_engine::retention::undo::UndoError;
use yadori_engine::rule_book::ChangeRulesError;
use yadori_engine::tray::TrayActError;
use yadori_store::StoreError;

/// Parameters that a request brings along.
pub(super) type QueryParams<T> = Result<Query<T>, QueryRejection>;

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
    kind: ProblemKind,
    /// Where it differs from that of its kind.
    status: Option<StatusCode>,
    detail: String,
    parameters: BTreeMap<String, String>,
    candidates: Vec<api::Clip>,
    /// Candidates whose attributes have not been looked up.
    unresolved: Vec<ClipId>,
    asks: Vec<String>,
    usual: BTreeMap<String, String>,
    headers: Vec<(HeaderName, HeaderValue)>,
}

impl Problem {
    fn new(kind: ProblemKind, detail: impl ToString) -> Self {
        Self {
            kind,
            status: None,
            detail: detail.to_string(),
            parameters: BTreeMap::new(),
            candidates: Vec::new(),
            unresolved: Vec::new(),
            asks: Vec::new(),
            usual: BTreeMap::new(),
            headers: Vec::new(),
        }
    }

    /// Says by name what it is about.
    fn with(mut self, name: &str, value: impl ToString) -> Self {
        self.parameters.insert(name.to_owned(), value.to_string());
        self
    }

    pub(super) fn unauthorised() -> Self {
        Self::new(ProblemKind::Unauthorised, "this request carries no valid token")
    }

    pub(super) fn wrong_host() -> Self {
        Self::new(ProblemKind::WrongHost, "the request asks for a host that is not this service")
    }

    pub(super) fn foreign_origin() -> Self {
        Self::new(ProblemKind::ForeignOrigin, "the request comes from a page that is not this service's own")
    }

    pub(super) fn bad_door_length() -> Self {
        Self::new(ProblemKind::BadLength, "a door can be open for one minute to one day: 60 to 86,400 seconds")
    }

    pub(super) fn not_through_this_door() -> Self {
        Self::new(
            ProblemKind::NotThroughThisDoor,
            "from here the history can be read, searched and added to; everything else is done on the computer itself",
        )
    }

    /// The service's own database is away; why it could not be started again, if it could not.
    pub(super) fn database_away(failure: Option<&ServerError>) -> Self {
        match failure {
            Some(full @ (ServerError::DiskFull { .. } | ServerError::NoRoomBeside { .. })) => {
                Self::new(ProblemKind::DiskFull, full)
            }
            Some(error) => Self::new(ProblemKind::DatabaseAway, error),
            None => Self::new(ProblemKind::DatabaseAway, "the database is being started again"),
        }
    }

    pub(super) fn internal() -> Self {
        Self::new(ProblemKind::Internal, "something went wrong in the service; its log says what")
    }

    pub(super) fn broken_body() -> Self {
        Self::new(ProblemKind::BadRequest, "its body is not what it says")
    }

    pub(super) fn not_json() -> Self {
        Self::new(ProblemKind::WrongType, "this wants a JSON object, with `Content-Type: application/json`")
    }

    pub(super) fn not_plain_text() -> Self {
        Self::new(ProblemKind::WrongType, "this wants a text in UTF-8, with `Content-Type: text/plain`")
    }

    pub(super) fn bad_json(error: &serde_json::Error) -> Self {
        let kind = if error.is_data() { ProblemKind::BadFields } else { ProblemKind::BadRequest };
        Self::new(kind, format!("its JSON cannot be taken: {error}"))
    }

    pub(super) fn encoded(coding: &str) -> Self {
        let detail = format!("its body is encoded ({coding}); send it as it is");
        Self::new(ProblemKind::Encoded, detail).header(header::ACCEPT_ENCODING, "identity")
    }

    pub(super) fn long_address(most: usize) -> Self {
        let detail = format!("path and query may take at most {most} bytes");
        Self::new(ProblemKind::LongAddress, detail).with("most", most)
    }

    pub(super) fn large_headers(most: usize, bytes: usize) -> Self {
        let detail = format!("a request may have at most {most} headers, of {bytes} bytes together");
        Self::new(ProblemKind::LargeHeaders, detail).with("most", most).with("bytes", bytes)
    }

    pub(super) fn several_hosts() -> Self {
        Self::new(ProblemKind::BadRequest, "it names its host twice")
    }

    /// What it was to change has this tag now.
    pub(super) fn not_as_seen(tag: &str) -> Self {
        let detail = "it was changed since you have read it; read it again, and change that";
        Self::new(ProblemKind::NotAsSeen, detail).header(header::ETAG, tag)
    }

    pub(super) fn bad_key(longest: usize) -> Self {
        Self::new(ProblemKind::BadRequest, format!("an Idempotency-Key has 1 to {longest} characters"))
    }

    pub(super) fn key_used() -> Self {
        Self::new(ProblemKind::KeyUsed, "another request had this Idempotency-Key; each needs one of its own")
    }

    pub(super) fn bad_path(why: &str) -> Self {
        Self::new(ProblemKind::BadRequest, format!("its path cannot be read: {why}"))
    }

    pub(super) fn nothing_to_clear() -> Self {
        Self::new(
            ProblemKind::BadSlice,
            "it is not said what to clear: everything (`\"all\": true`), or what is older or newer, of a kind, an application or a device",
        )
    }

    pub(super) fn too_much(most: u64) -> Self {
        let detail = format!("this request may bring at most {}", yadori_core::amounts::bytes_in_words(most));
        Self::new(ProblemKind::TooLarge, detail).with("most", most)
    }

    pub(super) fn bad_event_id(id: &str) -> Self {
        Self::new(
            ProblemKind::BadRequest,
            format!("“{id}” in Last-Event-ID is not the id of an event, which is a number"),
        )
    }

    pub(super) fn no_such_path() -> Self {
        Self::new(ProblemKind::NoSuchPath, "there is nothing at this path")
    }

    pub(super) fn no_such_format(mime: &str) -> Self {
        Self::new(ProblemKind::NoSuchFormat, format!("the clip has no format {mime}"))
    }

    pub(super) fn no_thumbnail() -> Self {
        Self::new(ProblemKind::NoThumbnail, "there is no small picture of this clip")
    }

    pub(super) fn no_room(error: &std::io::Error) -> Self {
        Self::new(ProblemKind::DiskFull, format!("what was sent cannot be kept for reading: {error}"))
    }

    pub(super) fn no_qr() -> Self {
        Self::new(
            ProblemKind::NoQr,
            "a QR code holds a text or a link of at most some 2,900 bytes, that is not sensitive",
        )
    }

    /// The content has this many bytes.
    pub(super) fn bad_range(size: u64) -> Self {
        let outside = Self::new(ProblemKind::BadRange, "the range lies outside the content");
        outside.header(header::CONTENT_RANGE, &format!("bytes */{size}"))
    }

    pub(super) fn wrong_method() -> Self {
        Self::new(ProblemKind::WrongMethod, "this path is asked with another method; `Allow` says which")
    }

    /// Says something about itself in a header.
    fn header(mut self, name: HeaderName, value: &str) -> Self {
        if let Ok(value) = HeaderValue::from_str(value) {
            self.headers.push((name, value));
        }
        self
    }

    pub(super) fn not_a_window(name: &str) -> Self {
        Self::new(ProblemKind::BadRequest, format!("“{name}” is no window, as GET /keyboard names them"))
    }

    pub(super) fn not_simulated() -> Self {
        Self::new(ProblemKind::NotSimulated, "the service does not run with --clipboard simulated")
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
        let status = StatusCode::from_u16(self.kind.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let status = self.status.unwrap_or(status);
        // That another device is away is nothing that is wrong here.
        if status == StatusCode::BAD_GATEWAY {
            tracing::debug!(kind = self.kind.word(), detail = self.detail, "another device was wanted");
        } else if status.is_server_error() {
            tracing::warn!(kind = self.kind.word(), detail = self.detail, "a request failed");
        }
        let body = api::Problem {
            kind: self.kind,
            title: self.kind.title().into(),
            status: status.as_u16(),
            detail: self.detail,
            parameters: self.parameters,
            candidates: self.candidates,
            asks: self.asks,
            usual: self.usual,
        };
        let mut response = (status, Json(body)).into_response();
        let set = response.headers_mut();
        set.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        match status {
            StatusCode::UNAUTHORIZED => {
                set.insert(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer realm=\"Yadori\""));
            }
            StatusCode::SERVICE_UNAVAILABLE => {
                set.insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
            }
            _ => {}
        }
        set.extend(self.headers);
        response
    }
}

impl From<SessionError> for Problem {
    fn from(error: SessionError) -> Self {
        let detail = error.to_string();
        match error {
            SessionError::None(_) => Self::new(ProblemKind::NoSuchSession, detail),
            SessionError::Store(error) => error.into(),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::Unavailable(cause) => {
                tracing::warn!(%cause, "the database is not reachable");
                Self::new(ProblemKind::DatabaseAway, &error)
            }
            StoreError::DiskFull(_) => Self::new(ProblemKind::DiskFull, &error),
            StoreError::Elsewhere => Self::new(ProblemKind::Elsewhere, &error),
            StoreError::Damaged(_)
            | StoreError::NoFeed
            | StoreError::Database(_)
            | StoreError::AnotherClip
            | StoreError::TooMany(..) => {
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
            FindNameError::NotAName(..) => Self::new(ProblemKind::NotAName, detail),
            FindNameError::Number => Self::new(ProblemKind::NothingNamed, detail),
            FindNameError::NotInBin(_) => Self::new(ProblemKind::NotInBin, detail),
            FindNameError::InBin(_) => Self::new(ProblemKind::InBin, detail),
            FindNameError::NoSuchAlias(_) => Self::new(ProblemKind::NoSuchAlias, detail),
            FindNameError::NoSuchClip(_) => Self::new(ProblemKind::NoSuchClip, detail),
            FindNameError::Ambiguous { candidates, .. } => {
                Self { unresolved: candidates, ..Self::new(ProblemKind::AmbiguousName, detail) }
            }
            FindNameError::Store(error) => error.into(),
        }
    }
}

impl From<FindError> for Problem {
    fn from(error: FindError) -> Self {
        let detail = error.to_string();
        match error {
            FindError::Query(_) => Self::new(ProblemKind::BadQuery, detail),
            FindError::Cursor(_) | FindError::Limit | FindError::Zone(_) => Self::new(ProblemKind::BadPage, detail),
            FindError::Store(error) => error.into(),
        }
    }
}

impl From<Refusal> for Problem {
    fn from(refusal: Refusal) -> Self {
        let detail = format!("this cannot be kept: {refusal}");
        match refusal {
            Refusal::TooLarge { .. } => Self::new(ProblemKind::TooLarge, detail),
            Refusal::NoUsefulFormat => Self::new(ProblemKind::Unsupported, detail),
            _ => Self::new(ProblemKind::Refused, detail),
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
            AddError::FromTheFuture => Self::new(ProblemKind::BadAttribute, detail),
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
            RecallError::Nothing => Self::new(ProblemKind::NothingNamed, detail),
            RecallError::NoText(..) => Self::new(ProblemKind::NoText, detail),
            RecallError::NothingHeld => Self::new(ProblemKind::NoText, detail),
            RecallError::NoClipboard(_) => Self::new(ProblemKind::NoClipboard, detail),
            RecallError::Offer(_) => Self::new(ProblemKind::NotTaken, detail),
            RecallError::Mixed(_) => Self::new(ProblemKind::Mixed, detail),
            RecallError::Reshape(error) => error.into(),
            RecallError::NotAsked(..) => Self::new(ProblemKind::NotAsked, detail),
            RecallError::Asks(asks) => Self {
                usual: asks.iter().filter_map(|ask| Some((ask.name.clone(), ask.usual.clone()?))).collect(),
                asks: asks.into_iter().map(|ask| ask.name).collect(),
                ..Self::new(ProblemKind::Asks, detail)
            },
            RecallError::Paste(_) => Self::new(ProblemKind::NotPasted, detail),
            RecallError::Name(error) => error.into(),
            RecallError::Fetch(error) => error.into(),
            RecallError::Store(error) => error.into(),
        }
    }
}

impl From<ChangeKeysError> for Problem {
    fn from(error: ChangeKeysError) -> Self {
        let detail = error.to_string();
        match error {
            ChangeKeysError::NoSuchAction(_) | ChangeKeysError::Chord(_) | ChangeKeysError::Application(_) => {
                Self::new(ProblemKind::BadKeys, detail)
            }
            ChangeKeysError::Taken(_) => Self::new(ProblemKind::KeysTaken, detail),
            ChangeKeysError::Store(error) => error.into(),
        }
    }
}

impl From<ActError> for Problem {
    fn from(error: ActError) -> Self {
        let detail = error.to_string();
        match error {
            ActError::NoSuchPosition(_) => Self::new(ProblemKind::NoSuchClip, detail),
            ActError::Keys(error) => error.into(),
            ActError::Recall(error) => error.into(),
            ActError::Tray(error) => error.into(),
            ActError::Keep(error) => error.into(),
            ActError::Pause(error) => error.into(),
        }
    }
}

impl From<ReshapeError> for Problem {
    fn from(error: ReshapeError) -> Self {
        let detail = error.to_string();
        match error {
            ReshapeError::NoSuchWay(_) | ReshapeError::Width | ReshapeError::TooMany => {
                Self::new(ProblemKind::BadWay, detail)
            }
            ReshapeError::NotJson(_) | ReshapeError::NothingLeft(_) | ReshapeError::Unreadable => {
                Self::new(ProblemKind::DoesNotFit, detail)
            }
        }
    }
}

impl From<EditError> for Problem {
    fn from(error: EditError) -> Self {
        let detail = error.to_string();
        match error {
            EditError::Name(error) => error.into(),
            EditError::Fetch(error) => error.into(),
            EditError::NoWords(..) => Self::new(ProblemKind::NotEditable, detail),
            EditError::NotText => Self::new(ProblemKind::NotText, detail),
            EditError::NoWay => Self::new(ProblemKind::BadWay, detail),
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
            KeepError::LongTitle(_) | KeepError::NotAnAlias(..) | KeepError::Place => {
                Self::new(ProblemKind::BadAttribute, detail)
            }
            KeepError::AliasTaken { alias, holder } => {
                Self::new(ProblemKind::AliasTaken, detail).with("alias", alias).with("holder", holder)
            }
            KeepError::NotPinned(_) => Self::new(ProblemKind::NotPinned, detail),
        }
    }
}

impl From<DrawerError> for Problem {
    fn from(error: DrawerError) -> Self {
        let detail = error.to_string();
        match error {
            DrawerError::NoSuchDrawer(_) => Self::new(ProblemKind::NoSuchDrawer, detail),
            DrawerError::NoSuchPlace(_) => Self::new(ProblemKind::NoSuchPlace, detail),
            DrawerError::Empty(_) => Self::new(ProblemKind::EmptyDrawer, detail),
            DrawerError::Taken(_) => Self::new(ProblemKind::DrawerTaken, detail),
            DrawerError::Closed(_) => Self::new(ProblemKind::DrawerClosed, detail),
            DrawerError::Fetch(error) => error.into(),
            DrawerError::InNone(_) => Self::new(ProblemKind::InNoDrawer, detail),
            DrawerError::Name
            | DrawerError::Full
            | DrawerError::Heading
            | DrawerError::NotAHeading(_)
            | DrawerError::Itself => Self::new(ProblemKind::BadDrawer, detail),
            DrawerError::Randomness(_) => Self::internal(),
            DrawerError::Keep(error) => error.into(),
        }
    }
}

impl From<TrayActError> for Problem {
    fn from(error: TrayActError) -> Self {
        let detail = error.to_string();
        match error {
            TrayActError::Tray(TrayError::Empty) => Self::new(ProblemKind::NothingThere, "the tray is empty"),
            TrayActError::Tray(TrayError::NoSuchPlace(_)) => Self::new(ProblemKind::NoPlaceInTray, detail),
            TrayActError::Tray(TrayError::Full) => Self::new(ProblemKind::TrayFull, detail),
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
            ChangeRulesError::Rules(_) | ChangeRulesError::Scope => Self::new(ProblemKind::BadRule, detail),
            ChangeRulesError::Drastic(going, considered) => {
                Self::new(ProblemKind::MuchWouldGo, detail).with("going", going).with("considered", considered)
            }
            ChangeRulesError::Store(error) => error.into(),
        }
    }
}

impl From<ClearError> for Problem {
    fn from(error: ClearError) -> Self {
        let detail = error.to_string();
        match error {
            ClearError::Changed { expected, now } => {
                Self::new(ProblemKind::Changed, detail).with("expected", expected).with("now", now)
            }
            ClearError::EmptyFilter(_) => Self::new(ProblemKind::BadSlice, detail),
            ClearError::Store(error) => error.into(),
        }
    }
}

impl From<ImportError> for Problem {
    fn from(error: ImportError) -> Self {
        let detail = error.to_string();
        match error {
            ImportError::NotAnArchive(_) | ImportError::NotOurs | ImportError::Newer(_) | ImportError::Broken(_) => {
                Self::new(ProblemKind::NotAnArchive, detail)
            }
            ImportError::BrokenOff => Self::new(ProblemKind::Internal, detail),
            ImportError::Store(error) => error.into(),
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
            BinError::Limit => Self::new(ProblemKind::BadPage, error),
            BinError::Store(error) => error.into(),
        }
    }
}

impl From<StatsError> for Problem {
    fn from(error: StatsError) -> Self {
        match error {
            StatsError::Days => Self::new(ProblemKind::BadPage, error),
            StatsError::Store(error) => error.into(),
        }
    }
}

impl From<UndoError> for Problem {
    fn from(error: UndoError) -> Self {
        match error {
            UndoError::NoSuchStep(_) => Self::new(ProblemKind::NoSuchStep, error),
            UndoError::Nothing => Self::new(ProblemKind::NothingToUndo, error),
            UndoError::NothingUndone => Self::new(ProblemKind::NothingToRedo, error),
            UndoError::NotUndone(_) => Self::new(ProblemKind::NotUndone, error),
            UndoError::Store(error) => error.into(),
        }
    }
}

impl From<PauseError> for Problem {
    fn from(error: PauseError) -> Self {
        match error {
            PauseError::Length => Self::new(ProblemKind::BadLength, error),
            PauseError::Store(error) => error.into(),
        }
    }
}

macro_rules! from_rejection {
    ($($rejection:ty),*) => {
        $(impl From<$rejection> for Problem {
            fn from(rejection: $rejection) -> Self {
                Self {
                    status: Some(rejection.status()),
                    ..Self::new(ProblemKind::BadRequest, rejection.body_text())
                }
            }
        })*
    };
}

from_rejection!(QueryRejection, BytesRejection);
