//! The event stream: every change as it happens, and after an interruption from where it stopped.

use super::App;
use super::auth::{self, Session};
use super::contract::Contract;
use super::problem::Problem;
use axum::Extension;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::Stream;
use std::convert::Infallible;
use std::time::Duration;
use tokio::sync::{broadcast, mpsc};
use tokio_stream::wrappers::ReceiverStream;
use yadori_api as api;
use yadori_engine::history::index::{Announcement, Change, Part};

/// Changes that are read from the records at a time, for a client that was away.
const BATCH: u32 = 200;

/// A client that was away for more changes than this is told to load everything anew.
const FAR_BEHIND: u64 = 5_000;

/// A comment is sent this often, so that both ends notice when the other is gone.
const KEEP_ALIVE: Duration = Duration::from_secs(60);

/// Follow what happens
///
/// A stream of server-sent events; `x-events` in this document gives the schema of each. `ready` comes first, with the
/// number of the latest change as its id. `clip` tells of a clip that came, changed or went; `status` that how the service
/// stands has changed; `part` that some of what is shown has: ask for it again; `reload` that more has changed than is worth telling one by one. With `Last-Event-ID` what was
/// missed comes first.
#[utoipa::path(get, path = "/events", tag = "events", params(("Last-Event-ID" = Option<u64>, Header, description = "The id of the last event that was received.")),
    responses((status = 200, description = "The stream.", content_type = "text/event-stream"), (status = 400, body = yadori_api::Problem, description = "`Last-Event-ID` is not the id of an event.")))]
pub async fn events(
    State(app): State<App>,
    session: Option<Extension<Session>>,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Problem> {
    let last = match headers.get("last-event-id").map(|value| value.to_str().unwrap_or("?").trim()) {
        None | Some("") => None,
        Some(id) => Some(id.parse::<u64>().map_err(|_| Problem::bad_event_id(id))?),
    };
    let (sender, receiver) = mpsc::channel(64);
    let ending = app.engine.background.ending.clone();
    tokio::spawn(async move {
        tokio::select! {
            () = ending.cancelled() => {}
            // Ends when the client is gone, or the records are.
            _ = tell(&app, &sender, last) => {}
            () = shut_out(&app, session) => {}
            () = sender.closed() => {}
        }
    });
    let keep_alive = KeepAlive::new().interval(KEEP_ALIVE);
    Ok(Sse::new(ReceiverStream::new(receiver)).keep_alive(keep_alive))
}

/// Waits until the browser that listens is shut out, if it is one.
async fn shut_out(app: &App, session: Option<Extension<Session>>) {
    match session {
        Some(Extension(session)) => auth::is_shut_out(app, session).await,
        None => std::future::pending().await,
    }
}

type Client = mpsc::Sender<Result<Event, Infallible>>;

/// Why telling ended.
struct Over;

async fn send(client: &Client, event: Event) -> Result<(), Over> {
    client.send(Ok(event)).await.map_err(|_| Over)
}

/// A changed clip as an event.
fn clip(app: &App, change: Change) -> Event {
    let change = change.contract(&app.engine.rule_book.rules());
    Event::default().event("clip").data(serde_json::to_string(&change).unwrap_or_default())
}

/// That a part of what is shown has changed, as an event.
fn part_changed(part: Part) -> Event {
    let part = match part {
        Part::Tray => api::Part::Tray,
        Part::Drawers => api::Part::Drawers,
        Part::Rules => api::Part::Rules,
        Part::Keys => api::Part::Keys,
        Part::Devices => api::Part::Devices,
    };
    Event::default().event("part").data(serde_json::to_string(&api::PartChange { part }).unwrap_or_default())
}

/// That how the service stands has changed, as an event.
fn status_changed() -> Event {
    Event::default().event("status").data("{}")
}

async fn tell(app: &App, client: &Client, last: Option<u64>) -> Result<(), Over> {
    // Listening begins before the records are read, so that nothing falls between.
    let mut announcements = app.engine.history.ledger.listen();
    let now = app.engine.history.ledger.settled().await;
    let mut told = match last {
        Some(last) => catch_up(app, client, last, now).await?,
        None => now,
    };
    send(client, Event::default().event("ready").id(told.to_string()).data(format!("{{\"change\":{told}}}"))).await?;
    loop {
        match announcements.recv().await {
            Ok(Announcement::Clip(change)) if change.number > told => {
                told = change.number;
                send(client, clip(app, (*change).clone()).id(told.to_string())).await?;
            }
            Ok(Announcement::Clip(..)) => {}
            // The stream goes on from the latest change in any case.
            Ok(Announcement::Again(change)) => {
                send(client, clip(app, (*change).clone()).id(told.to_string())).await?;
            }
            Ok(Announcement::Status) => send(client, status_changed()).await?,
            Ok(Announcement::Part(part)) => send(client, part_changed(part)).await?,
            Err(broadcast::error::RecvError::Lagged(_)) => {
                told = catch_up(app, client, told, app.engine.history.ledger.cursor()).await?;
                // What else was announced meanwhile is not known: all of it may have changed.
                send(client, status_changed()).await?;
                for part in Part::ALL {
                    send(client, part_changed(part)).await?;
                }
            }
            Err(broadcast::error::RecvError::Closed) => return Err(Over),
        }
    }
}

/// Tells a client that has heard of the changes up to `last` what it has missed up to `until`, or that this is more than is
/// worth telling. Gives the number of the last change that it knows then.
async fn catch_up(app: &App, client: &Client, last: u64, until: u64) -> Result<u64, Over> {
    let ledger = &app.engine.history.ledger;
    let again = ledger.announced_again_since(last).filter(|_| last <= until && until - last <= FAR_BEHIND);
    let Some(again) = again else {
        send(client, Event::default().event("reload").id(until.to_string()).data("{}")).await?;
        return Ok(until);
    };
    let told = tell_changes(app, client, last, until).await?;
    for some in again.chunks(BATCH as usize) {
        for record in app.engine.history.store.clips(some).await.map_err(|_| Over)? {
            send(client, clip(app, ledger.describe(&record)).id(told.to_string())).await?;
        }
    }
    Ok(told)
}

/// Tells the changes after `last` up to `until` from the records. Gives the number of the last one told.
async fn tell_changes(app: &App, client: &Client, last: u64, until: u64) -> Result<u64, Over> {
    let mut told = last;
    while told < until {
        let records = app.engine.history.store.changed_since(told, BATCH).await.map_err(|_| Over)?;
        for record in &records {
            told = record.change;
            send(client, clip(app, app.engine.history.ledger.describe(record)).id(told.to_string())).await?;
        }
        if records.len() < BATCH as usize {
            break;
        }
    }
    Ok(told.max(until))
}
