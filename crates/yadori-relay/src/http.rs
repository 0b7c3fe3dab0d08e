//! The interface that devices use: HTTP, with JSON for what is said of a mailbox and plain bytes for what lies in it.

mod handovers;
mod meetings;

use crate::live::Live;
use crate::metrics::Metrics;
use crate::names;
use crate::rates::Rates;
use crate::records::{Envelope, Hash, Look, Records, RecordsError, Usage};
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{DefaultBodyLimit, Path, Query, Request, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::middleware::{self, Next};
use axum::response::{IntoResponse, Response};
use axum::routing::{get, post, put};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::error::Error;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;
use yadori_link::envelope::LARGEST;
use yadori_link::relay::{LATEST, OWN, PIECE};

/// Longest time that somebody may wait for what is new, in seconds.
const LONGEST_WAIT: u64 = 120;

/// Bytes by which what is sealed may be longer than a piece.
const OVERHEAD: usize = PIECE / 8 + 1024;

/// How long a client may take to send its request. A device asks again after less.
const SENDING: Duration = Duration::from_secs(60);

/// Bytes of the largest request.
const MOST: usize = if LARGEST > PIECE + OVERHEAD { LARGEST } else { PIECE + OVERHEAD };

/// What the requests of one node share.
pub struct Shared {
    /// The records.
    pub records: Records,
    /// Who waits.
    pub live: Live,
    /// What the owner sees.
    pub metrics: Metrics,
    /// How much one mailbox may ask for.
    pub rates: Rates<[u8; 16]>,
    /// How often anybody may try a token that is none.
    pub tries: Rates<()>,
    /// The node is about to end: nobody waits any more.
    pub ending: CancellationToken,
}

type App = State<Arc<Shared>>;

/// Why a request was refused.
pub struct Refusal {
    status: StatusCode,
    kind: &'static str,
    detail: String,
    retry_after: Option<Duration>,
    last: Option<u64>,
}

impl Refusal {
    fn new(status: StatusCode, kind: &'static str, detail: impl Into<String>) -> Self {
        Self { status, kind, detail: detail.into(), retry_after: None, last: None }
    }

    fn too_many(pause: Duration, detail: &str) -> Self {
        Self { retry_after: Some(pause), ..Self::new(StatusCode::TOO_MANY_REQUESTS, "too-many", detail) }
    }

    fn bad(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "bad-request", detail)
    }
}

#[derive(Serialize)]
struct Problem<'a> {
    error: &'a str,
    detail: &'a str,
    #[serde(skip_serializing_if = "Option::is_none")]
    last: Option<u64>,
}

impl IntoResponse for Refusal {
    fn into_response(self) -> Response {
        let problem = Json(Problem { error: self.kind, detail: &self.detail, last: self.last });
        let mut response = (self.status, problem).into_response();
        if let Some(pause) = self.retry_after {
            response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(pause.as_secs() + 1));
        }
        response
    }
}

impl From<RecordsError> for Refusal {
    fn from(error: RecordsError) -> Self {
        let detail = error.to_string();
        match error {
            RecordsError::NoMailbox => Self::new(StatusCode::NOT_FOUND, "no-mailbox", detail),
            RecordsError::NoMeeting => Self::new(StatusCode::NOT_FOUND, "no-meeting", detail),
            RecordsError::NoToken => Self::new(StatusCode::FORBIDDEN, "no-token", detail),
            RecordsError::Taken => Self::new(StatusCode::CONFLICT, "taken", detail),
            RecordsError::NumberTaken(last) => {
                Self { last: Some(last), ..Self::new(StatusCode::CONFLICT, "number-taken", detail) }
            }
            RecordsError::Full { .. } => Self::new(StatusCode::INSUFFICIENT_STORAGE, "full", detail),
            RecordsError::Newer | RecordsError::Database(_) => {
                tracing::error!(%error, cause = error.source(), "the database does not answer");
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "away", "the relay cannot be used at the moment")
            }
        }
    }
}

/// The interface.
pub fn router(shared: Arc<Shared>) -> Router {
    let mailbox = Router::new()
        .route("/v1/mailboxes/{mailbox}", get(usage).delete(erase))
        .route("/v1/mailboxes/{mailbox}/access", put(handovers::change_access))
        .route("/v1/mailboxes/{mailbox}/handovers/{outbox}", get(handovers::handover))
        .route("/v1/mailboxes/{mailbox}/meetings/{meeting}", put(meetings::open).delete(meetings::close))
        .route("/v1/mailboxes/{mailbox}/outboxes", get(outboxes))
        .route(
            "/v1/mailboxes/{mailbox}/outboxes/{outbox}/envelopes/{number}",
            put(put_envelope).delete(remove_envelopes),
        )
        .route("/v1/mailboxes/{mailbox}/contents/{name}", get(pieces))
        .route("/v1/mailboxes/{mailbox}/contents/{name}/{piece}", get(content).put(put_content));
    Router::new()
        .route("/v1/mailboxes", post(open_mailbox))
        .merge(mailbox)
        .route("/v1/meeting/{line}/{side}/{number}", put(meetings::say))
        .layer(middleware::from_fn(to_its_end))
        .route("/v1/mailboxes/{mailbox}/envelopes", get(envelopes))
        .route("/v1/meeting/{line}/{side}/{number}", get(meetings::said))
        .layer(DefaultBodyLimit::max(MOST))
        .layer(middleware::from_fn_with_state(shared.clone(), counted))
        .fallback(async || Refusal::new(StatusCode::NOT_FOUND, "no-such-path", "there is nothing of this name here"))
        .with_state(shared)
}

/// What the owner's machines ask for: metrics, and whether the node is alive and ready.
pub fn owners_router(shared: Arc<Shared>) -> Router {
    Router::new()
        .route("/metrics", get(async |State(shared): App| shared.metrics.to_text()))
        .route("/healthz", get(async || "alive\n"))
        .route("/readyz", get(ready))
        .with_state(shared)
}

async fn ready(State(shared): App) -> Response {
    if shared.ending.is_cancelled() {
        return (StatusCode::SERVICE_UNAVAILABLE, "ending\n").into_response();
    }
    if shared.records.is_there().await {
        "ready\n".into_response()
    } else {
        (StatusCode::SERVICE_UNAVAILABLE, "the database does not answer\n").into_response()
    }
}

/// What was begun is done to its end, whether or not the client waits for it: what is being asked of the database must not be
/// broken off in the middle. It begins when all of the request is there.
async fn to_its_end(request: Request, next: Next) -> Response {
    let (parts, body) = request.into_parts();
    let body = match tokio::time::timeout(SENDING, to_bytes(body, MOST)).await {
        Ok(Ok(body)) => body,
        Ok(Err(_)) => {
            let detail = format!("a request has at most {MOST} bytes, or it broke off");
            return Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", detail).into_response();
        }
        Err(_) => {
            let detail = format!("a request takes at most {} seconds", SENDING.as_secs());
            return Refusal::new(StatusCode::REQUEST_TIMEOUT, "too-slow", detail).into_response();
        }
    };
    let failed = |_| Refusal::new(StatusCode::INTERNAL_SERVER_ERROR, "failed", "the relay failed").into_response();
    let request = Request::from_parts(parts, Body::from(body));
    tokio::spawn(next.run(request)).await.unwrap_or_else(failed)
}

/// Counts requests and how they end.
async fn counted(State(shared): App, request: Request, next: Next) -> Response {
    let response = next.run(request).await;
    let metrics = &shared.metrics;
    metrics.requests.fetch_add(1, Ordering::Relaxed);
    if response.status().is_client_error() {
        metrics.refused.fetch_add(1, Ordering::Relaxed);
    } else if response.status().is_server_error() {
        metrics.failed.fetch_add(1, Ordering::Relaxed);
        if response.status() == StatusCode::SERVICE_UNAVAILABLE {
            metrics.database_errors.fetch_add(1, Ordering::Relaxed);
        }
    }
    response
}

/// The bearer's secret (RFC 6750, section 2.1), as it is known here: by its hash.
fn bearer<const N: usize>(headers: &HeaderMap) -> Result<Hash, Refusal> {
    let given = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let secret = given.and_then(|value| value.strip_prefix("Bearer ")).and_then(names::read::<N>);
    let refusal =
        || Refusal::new(StatusCode::UNAUTHORIZED, "no-key", "the request brings no key, or none of the right form");
    secret.map(|secret| *blake3::hash(&secret).as_bytes()).ok_or_else(refusal)
}

fn part<const N: usize>(text: &str, what: &str) -> Result<[u8; N], Refusal> {
    names::read(text).ok_or_else(|| Refusal::bad(format!("{what} is not one")))
}

/// Whose request it is.
fn caller(shared: &Shared, mailbox: &str, headers: &HeaderMap) -> Result<([u8; 16], Hash), Refusal> {
    let (mailbox, access) = (part(mailbox, "the mailbox")?, bearer::<32>(headers)?);
    let asks = |pause| Refusal::too_many(pause, "this mailbox asks for too much at once; wait a little");
    shared.rates.take(mailbox, Instant::now()).map_err(asks)?;
    Ok((mailbox, access))
}

/// A mailbox to open.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Opening {
    mailbox: String,
    access: String,
}

/// What a mailbox holds, as it is said.
#[derive(Serialize)]
struct Said {
    latest: u64,
    bytes: u64,
    quota_bytes: u64,
    days: u32,
}

impl From<Usage> for Said {
    fn from(usage: Usage) -> Self {
        Self { latest: usage.latest, bytes: usage.bytes, quota_bytes: usage.quota_bytes, days: usage.days }
    }
}

async fn open_mailbox(
    State(shared): App,
    headers: HeaderMap,
    Json(asked): Json<Opening>,
) -> Result<(StatusCode, Json<Said>), Refusal> {
    let token = bearer::<16>(&headers)?;
    // Who has a token is not held up by those who have none.
    if !shared.records.is_token(&token).await? {
        let tries = |pause| Refusal::too_many(pause, "too many tokens are being tried; wait a little");
        shared.tries.take((), Instant::now()).map_err(tries)?;
    }
    let (mailbox, access) = (part(&asked.mailbox, "the mailbox")?, part(&asked.access, "the key's hash")?);
    let usage = shared.records.open_mailbox(&token, &mailbox, &access).await?;
    Ok((StatusCode::CREATED, Json(usage.into())))
}

async fn usage(State(shared): App, Path(mailbox): Path<String>, headers: HeaderMap) -> Result<Json<Said>, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    Ok(Json(shared.records.usage(&mailbox, &access).await?.into()))
}

async fn erase(State(shared): App, Path(mailbox): Path<String>, headers: HeaderMap) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    shared.records.usage(&mailbox, &access).await?;
    shared.records.erase(&mailbox).await?;
    shared.live.stir(&mailbox);
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Serialize)]
struct Outboxes {
    outboxes: BTreeMap<String, u64>,
}

async fn outboxes(
    State(shared): App,
    Path(mailbox): Path<String>,
    headers: HeaderMap,
) -> Result<Json<Outboxes>, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let known = shared.records.outboxes(&mailbox, &access).await?.into_iter();
    Ok(Json(Outboxes { outboxes: known.map(|(outbox, number)| (names::written(&outbox), number)).collect() }))
}

#[derive(Serialize)]
struct Arrived {
    arrival: u64,
}

async fn put_envelope(
    State(shared): App,
    Path((mailbox, outbox, number)): Path<(String, String, u64)>,
    headers: HeaderMap,
    sealed: Bytes,
) -> Result<(StatusCode, Json<Arrived>), Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let outbox = part(&outbox, "the outbox")?;
    if sealed.is_empty() || sealed.len() > LARGEST {
        return Err(Refusal::new(
            StatusCode::PAYLOAD_TOO_LARGE,
            "too-large",
            format!("an envelope has 1 to {LARGEST} bytes"),
        ));
    }
    let arrival = shared.records.put_envelope((&mailbox, &access), &outbox, number, &sealed).await?;
    shared.live.tell(&mailbox, arrival);
    shared.metrics.envelopes_in.fetch_add(1, Ordering::Relaxed);
    shared.metrics.bytes_in.fetch_add(sealed.len() as u64, Ordering::Relaxed);
    Ok((StatusCode::CREATED, Json(Arrived { arrival })))
}

async fn remove_envelopes(
    State(shared): App,
    Path((mailbox, outbox, upto)): Path<(String, String, u64)>,
    headers: HeaderMap,
) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    shared.records.remove_envelopes((&mailbox, &access), &part(&outbox, "the outbox")?, upto).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct After {
    /// The last arrival that the device has.
    #[serde(default)]
    after: u64,
    /// For how many seconds to wait for something new.
    #[serde(default)]
    wait: u64,
    /// The device's own outbox, which it need not be told of.
    but: Option<String>,
}

/// Counts somebody who waits.
struct Counted<'a>(&'a AtomicU64);

impl<'a> Counted<'a> {
    fn new(count: &'a AtomicU64) -> Self {
        count.fetch_add(1, Ordering::Relaxed);
        Self(count)
    }
}

impl Drop for Counted<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

async fn envelopes(
    State(shared): App,
    Path(mailbox): Path<String>,
    Query(asked): Query<After>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let own = asked.but.as_deref().map(|outbox| part(outbox, "the outbox")).transpose()?;
    // Who waits is told of what comes after this, so that nothing comes in between unheard.
    let mut waiting = shared.live.wait_for(mailbox);
    let until = tokio::time::Instant::now() + Duration::from_secs(asked.wait.min(LONGEST_WAIT));
    let mut seen = asked.after;
    loop {
        // This ends when the client leaves; what the database is asked does not.
        let (records, after) = (shared.records.clone(), asked.after);
        let looking = tokio::spawn(async move { records.look(&mailbox, &access, after, own.as_ref()).await });
        let Look { latest, found, own: last } = looking.await.unwrap_or(Err(RecordsError::NoMailbox))?;
        seen = seen.max(latest);
        let over = tokio::time::Instant::now() >= until || shared.ending.is_cancelled();
        // A mailbox that holds less than the device has seen was brought back from a copy: it is told.
        if !found.is_empty() || over || latest < asked.after {
            return Ok(answer(&shared, &found, latest, last));
        }
        let _counted = Counted::new(&shared.metrics.waiting);
        tokio::select! {
            () = waiting.beyond(seen) => {}
            // Nothing has come: there is no need to ask the database again.
            () = tokio::time::sleep_until(until) => return Ok(answer(&shared, &[], latest, last)),
            () = shared.ending.cancelled() => return Ok(answer(&shared, &[], latest, last)),
        }
    }
}

/// Envelopes one after the other: arrival, outbox, number, length, bytes.
fn answer(shared: &Shared, found: &[Envelope], latest: u64, own: u64) -> Response {
    let mut body = Vec::with_capacity(found.iter().map(|envelope| envelope.sealed.len() + 36).sum());
    for envelope in found {
        body.extend(envelope.arrival.to_le_bytes());
        body.extend(envelope.outbox);
        body.extend(envelope.number.to_le_bytes());
        body.extend((envelope.sealed.len() as u32).to_le_bytes());
        body.extend(&envelope.sealed);
    }
    shared.metrics.envelopes_out.fetch_add(found.len() as u64, Ordering::Relaxed);
    shared.metrics.bytes_out.fetch_add(body.len() as u64, Ordering::Relaxed);
    (
        [
            (header::CONTENT_TYPE, "application/octet-stream".to_owned()),
            (LATEST, latest.to_string()),
            (OWN, own.to_string()),
        ],
        Body::from(body),
    )
        .into_response()
}

#[derive(Serialize)]
struct Pieces {
    pieces: u64,
}

async fn pieces(
    State(shared): App,
    Path((mailbox, name)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<Json<Pieces>, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    shared.records.usage(&mailbox, &access).await?;
    let pieces = shared.records.pieces(&mailbox, &part(&name, "the name")?).await?;
    Ok(Json(Pieces { pieces }))
}

async fn content(
    State(shared): App,
    Path((mailbox, name, piece)): Path<(String, String, u32)>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    shared.records.usage(&mailbox, &access).await?;
    let found = shared.records.content(&mailbox, &part(&name, "the name")?, piece).await?;
    let Some(sealed) = found else {
        return Err(Refusal::new(StatusCode::NOT_FOUND, "no-content", "this content is not here"));
    };
    shared.metrics.bytes_out.fetch_add(sealed.len() as u64, Ordering::Relaxed);
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], sealed).into_response())
}

async fn put_content(
    State(shared): App,
    Path((mailbox, name, piece)): Path<(String, String, u32)>,
    headers: HeaderMap,
    sealed: Bytes,
) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    if sealed.is_empty() || sealed.len() > PIECE + OVERHEAD {
        return Err(Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "a piece of a content is too large"));
    }
    shared.records.put_content((&mailbox, &access), &part(&name, "the name")?, piece, &sealed).await?;
    shared.metrics.bytes_in.fetch_add(sealed.len() as u64, Ordering::Relaxed);
    Ok(StatusCode::CREATED)
}
