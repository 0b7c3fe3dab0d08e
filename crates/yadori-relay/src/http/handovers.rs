//! Another key of a mailbox, and what is left for those who have only the one before.

use super::{App, Refusal, caller, part};
use crate::names;
use crate::records::Handover;
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use serde::Deserialize;
use std::collections::BTreeMap;
use yadori_link::handover::{LARGEST, MOST};

/// Another key.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NewAccess {
    /// The hash of the key.
    access: String,
    /// For whom something is left, by the outboxes, and what.
    #[serde(default)]
    handovers: BTreeMap<String, String>,
}

pub async fn change_access(
    State(shared): App,
    Path(mailbox): Path<String>,
    headers: HeaderMap,
    Json(asked): Json<NewAccess>,
) -> Result<StatusCode, Refusal> {
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    let next = part(&asked.access, "the key's hash")?;
    if asked.handovers.len() > MOST {
        return Err(Refusal::bad(format!("something is left for at most {MOST} devices")));
    }
    let handover = |(outbox, sealed): (&String, &String)| -> Result<Handover, Refusal> {
        let sealed = names::read_any(sealed).filter(|sealed| (1..=LARGEST).contains(&sealed.len()));
        let sealed = sealed.ok_or_else(|| Refusal::bad(format!("a handover has 1 to {LARGEST} bytes")))?;
        Ok((part(outbox, "an outbox")?, sealed))
    };
    let handovers: Vec<Handover> = asked.handovers.iter().map(handover).collect::<Result<_, _>>()?;
    shared.records.change_access(&mailbox, (&access, &next), &handovers).await?;
    // Who waits is let in no more, and finds what was left.
    shared.live.stir(&mailbox);
    Ok(StatusCode::NO_CONTENT)
}

pub async fn handover(
    State(shared): App,
    Path((mailbox, outbox)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<Bytes, Refusal> {
    // By the old key: who asks is let into the mailbox no more.
    let (mailbox, access) = caller(&shared, &mailbox, &headers)?;
    Ok(shared.records.handover(&mailbox, &access, &part(&outbox, "the outbox")?).await?)
}
