//! Meetings: what two devices say to each other that are not linked yet. Their secret is the key to it.

use super::{App, LONGEST_WAIT, Refusal, Shared, bearer, caller, part};
use crate::records::{Hash, InMeeting, RecordsError, now};
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use serde::Deserialize;
use std::time::{Duration, Instant};
use yadori_link::relay::meeting::{LINES, LONGEST_MESSAGE, LONGEST_SECONDS, MESSAGES};

/// Between two looks for what was said by way of another node. Meetings are few and short.
const TICK: Duration = Duration::from_millis(250);

/// A meeting to open.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Opening {
    /// For how long it is open.
    seconds: u64,
}

pub async fn open(
    State(shared): App,
    Path((mailbox, meeting)): Path<(String, String)>,
    headers: HeaderMap,
    Json(asked): Json<Opening>,
) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let id = part(&meeting, "the hash of the meeting's secret")?;
    if !(1..=LONGEST_SECONDS).contains(&asked.seconds) {
        return Err(Refusal::bad(format!("a meeting is open for at most {LONGEST_SECONDS} seconds")));
    }
    shared.records.open_meeting((&mailbox, &access), &id, now() + asked.seconds * 1000).await?;
    Ok(StatusCode::CREATED)
}

pub async fn close(
    State(shared): App,
    Path((mailbox, meeting)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let id = part(&meeting, "the hash of the meeting's secret")?;
    shared.records.close_meeting((&mailbox, &access), &id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Which meeting is meant, what of it, and under which name its listeners wait.
fn meant(
    shared: &Shared,
    (line, side, number): (u8, u8, u32),
    headers: &HeaderMap,
) -> Result<(Hash, InMeeting, [u8; 16]), Refusal> {
    let id = bearer::<16>(headers)?;
    let name = std::array::from_fn(|byte| id[byte]);
    let asks = |pause| Refusal::too_many(pause, "too much is said at once in this meeting; wait a little");
    shared.rates.take(name, Instant::now()).map_err(asks)?;
    if line >= LINES || side > 1 || number >= MESSAGES {
        return Err(Refusal::bad("a meeting has no such place"));
    }
    Ok((id, InMeeting { line, side, number }, name))
}

pub async fn say(
    State(shared): App,
    Path(at): Path<(u8, u8, u32)>,
    headers: HeaderMap,
    message: Bytes,
) -> Result<StatusCode, Refusal> {
    let (id, at, name) = meant(&shared, at, &headers)?;
    if message.len() > LONGEST_MESSAGE {
        return Err(Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, "too-large", "too much is said at once"));
    }
    shared.records.say_in_meeting(&id, at, &message, now()).await?;
    shared.live.stir(&name);
    Ok(StatusCode::CREATED)
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Wait {
    /// For how many seconds to wait until it is said.
    #[serde(default)]
    wait: u64,
}

pub async fn said(
    State(shared): App,
    Path(at): Path<(u8, u8, u32)>,
    Query(asked): Query<Wait>,
    headers: HeaderMap,
) -> Result<Response, Refusal> {
    let (id, at, name) = meant(&shared, at, &headers)?;
    let mut waiting = shared.live.wait_for(name);
    let until = tokio::time::Instant::now() + Duration::from_secs(asked.wait.min(LONGEST_WAIT));
    loop {
        // This ends when the device leaves; what the database is asked does not.
        let records = shared.records.clone();
        let looking = tokio::spawn(async move { records.said_in_meeting(&id, at, now()).await });
        if let Some(message) = looking.await.unwrap_or(Err(RecordsError::NoMeeting))? {
            return Ok(message.into_response());
        }
        if tokio::time::Instant::now() >= until || shared.ending.is_cancelled() {
            return Ok(StatusCode::NO_CONTENT.into_response());
        }
        tokio::select! {
            () = waiting.beyond(u64::MAX - 1) => {}
            () = tokio::time::sleep(TICK) => {}
            () = shared.ending.cancelled() => {}
        }
    }
}
