//! The event stream: every change as it happens, and after an interruption from where it stopped.

use super::App;
use super::auth::{self, Session};
use super::contract::Contract;
use super::problem::Problem;
use axum::Extension;
use axum::extract::State;
use axum::http::HeaderMap;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures_util::{Stream, StreamExt, stream};
use std::collections::VecDeque;
use std::convert::Infallible;
use std::time::Duration;
use tokio::sync::broadcast;
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
    let ending = app.engine.background.ending.clone();
    let over = {
        let app = app.clone();
        async move {
            tokio::select! {
                () = ending.cancelled() => {}
                () = shut_out(&app, session) => {}
            }
        }
    };
    let events = stream::unfold(Telling::begin(app, last), async |mut telling| Some((telling.next().await?, telling)));
    let keep_alive = KeepAlive::new().interval(KEEP_ALIVE);
    Ok(Sse::new(events.map(Ok).take_until(over)).keep_alive(keep_alive))
}

/// Waits until the browser that listens is shut out, if it is one.
async fn shut_out(app: &App, session: Option<Extension<Session>>) {
    match session {
        Some(Extension(session)) => auth::is_shut_out(app, session).await,
        None => std::future::pending().await,
    }
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

/// What a client is told, and how far.
struct Telling {
    app: App,
    announcements: broadcast::Receiver<Announcement>,
    /// The last change that it had heard of before it was away.
    last: Option<u64>,
    /// The last change that it was told of.
    told: u64,
    /// What it has missed is told from the records: the changes up to this one, and clips that were announced again since.
    until: u64,
    again: VecDeque<u64>,
    /// What comes when it has heard of that.
    then: Option<Then>,
    /// What it is told next.
    events: VecDeque<Event>,
}

/// What comes when a client has heard of what it missed.
enum Then {
    /// Where it begins has to be found out.
    Begin,
    /// It is told that it has, and where.
    Ready,
    /// What else was announced meanwhile is not known: all of it may have changed.
    Everything,
}

impl Telling {
    /// Begins. Listening begins before the records are read, so that nothing falls between.
    fn begin(app: App, last: Option<u64>) -> Self {
        let announcements = app.engine.history.ledger.listen();
        let (again, events) = (VecDeque::new(), VecDeque::new());
        Self { app, announcements, last, told: 0, until: 0, again, then: Some(Then::Begin), events }
    }

    /// The next event; none when nothing can be told any more.
    async fn next(&mut self) -> Option<Event> {
        loop {
            if let Some(event) = self.events.pop_front() {
                return Some(event);
            }
            if self.told < self.until {
                self.tell_changes().await?;
                continue;
            }
            if !self.again.is_empty() {
                self.tell_again().await?;
                continue;
            }
            match self.then.take() {
                Some(Then::Begin) => {
                    let now = self.app.engine.history.ledger.settled().await;
                    match self.last {
                        Some(last) => self.catch_up(last, now),
                        None => (self.told, self.until) = (now, now),
                    }
                    self.then = Some(Then::Ready);
                }
                Some(Then::Ready) => {
                    let data = format!("{{\"change\":{}}}", self.told);
                    return Some(Event::default().event("ready").id(self.told.to_string()).data(data));
                }
                Some(Then::Everything) => {
                    self.events.push_back(status_changed());
                    self.events.extend(Part::ALL.map(part_changed));
                }
                None => match self.announcements.recv().await {
                    Ok(announcement) => {
                        if let Some(event) = self.event_of(announcement) {
                            return Some(event);
                        }
                    }
                    Err(broadcast::error::RecvError::Lagged(_)) => {
                        self.catch_up(self.told, self.app.engine.history.ledger.cursor());
                        self.then = Some(Then::Everything);
                    }
                    Err(broadcast::error::RecvError::Closed) => return None,
                },
            }
        }
    }

    /// What an announcement is to this client; none if it has heard of it.
    fn event_of(&mut self, announcement: Announcement) -> Option<Event> {
        match announcement {
            Announcement::Clip(change) if change.number > self.told => {
                (self.told, self.until) = (change.number, change.number);
                Some(self.clip((*change).clone()))
            }
            Announcement::Clip(..) => None,
            // The stream goes on from the latest change in any case.
            Announcement::Again(change) => Some(self.clip((*change).clone())),
            Announcement::Status => Some(status_changed()),
            Announcement::Part(part) => Some(part_changed(part)),
        }
    }

    /// A changed clip as an event.
    fn clip(&self, change: Change) -> Event {
        let change = change.contract(&self.app.engine.rule_book.rules());
        let data = serde_json::to_string(&change).unwrap_or_default();
        Event::default().event("clip").id(self.told.to_string()).data(data)
    }

    /// Has a client that has heard of the changes up to `last` told what it has missed up to `until`, or that this is more than
    /// is worth telling.
    fn catch_up(&mut self, last: u64, until: u64) {
        let again = self.app.engine.history.ledger.announced_again_since(last);
        match again.filter(|_| last <= until && until - last <= FAR_BEHIND) {
            Some(again) => {
                (self.told, self.until) = (last, until);
                self.again.extend(again);
            }
            None => {
                (self.told, self.until) = (until, until);
                self.events.push_back(Event::default().event("reload").id(until.to_string()).data("{}"));
            }
        }
    }

    /// Tells some of the changes that were missed, from the records.
    async fn tell_changes(&mut self) -> Option<()> {
        let records = self.app.engine.history.store.changed_since(self.told, BATCH).await.ok()?;
        for record in &records {
            self.told = record.change;
            let event = self.clip(self.app.engine.history.ledger.describe(record));
            self.events.push_back(event);
        }
        if records.len() < BATCH as usize {
            self.told = self.told.max(self.until);
        }
        self.until = self.until.max(self.told);
        Some(())
    }

    /// Tells some of the clips that were announced again.
    async fn tell_again(&mut self) -> Option<()> {
        let some: Vec<u64> = self.again.drain(..self.again.len().min(BATCH as usize)).collect();
        for record in self.app.engine.history.store.clips(&some).await.ok()? {
            let event = self.clip(self.app.engine.history.ledger.describe(&record));
            self.events.push_back(event);
        }
        Some(())
    }
}
