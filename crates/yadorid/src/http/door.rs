//! The door for one browser on the person's own network, as that of a phone: the console over TLS, for as long as asked.
//!
//! The threats: whoever else is on that network, and reads or changes what goes through it; a browser that was let in and is
//! lost. The answers: TLS 1.3 with the certificate of this device, whose fingerprint the person compares; a link that works
//! once, in the person's own hands; one browser at most, which may read, search and add, and nothing else; an end by itself.
//! The token of the programs means nothing here, and this browser's session nothing at any other address.

use super::App;
use super::auth;
use super::interface::Interface;
use super::problem::Problem;
use axum::http::{HeaderMap, Method, Uri, header};
use parking_lot::Mutex;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;
use tokio_util::sync::CancellationToken;
use yadori_api as api;
use yadori_core::MillisSinceEpoch;
use yadori_engine::clock::{now, timestamp};

/// How long a door is open if nothing else is said, how long at least and at most, in seconds.
const USUAL: u64 = 60 * 60;
const LEAST: u64 = 60;
const MOST: u64 = 24 * 60 * 60;

/// Connections at the same time: a browser needs six and a stream.
const CONNECTIONS: yadori_serve::Limits =
    yadori_serve::Limits { connections: 32, headers: super::protocol::HEADERS_READ };

/// What can be read through it, by the first part of the path below the interface.
const READ: [&str; 9] = ["aliases", "clips", "drawers", "events", "pins", "stats", "status", "tray", "ways"];

/// A door that is open.
pub(super) struct Door {
    /// What it is called: the value of `Host`, and of `Origin` after `https://`.
    host: String,
    fingerprint: String,
    until: MillisSinceEpoch,
    end: CancellationToken,
    guest: Mutex<Guest>,
}

/// Who comes through it.
enum Guest {
    /// Whoever has the link with this key.
    Awaited(String),
    /// The browser with the session of this hash; what it says that it is.
    In([u8; 32], String),
}

/// Where the door is, if there is one.
#[derive(Default)]
pub struct Slot(Mutex<Option<Arc<Door>>>);

impl Slot {
    /// The door as it stands.
    pub fn shown(&self) -> api::ConsoleDoor {
        self.0.lock().as_ref().map_or_else(Default::default, |door| door.shown())
    }

    /// Closes it, if it is open; its session goes a moment later.
    pub fn close(&self) -> api::ConsoleDoor {
        if let Some(door) = self.0.lock().take() {
            door.end.cancel();
        }
        api::ConsoleDoor::default()
    }

    /// Whether this is the session of the browser that came through it.
    pub(super) fn is_guest(&self, key: &[u8; 32]) -> bool {
        self.0.lock().as_ref().is_some_and(|door| door.is_guest(key))
    }
}

impl Door {
    fn shown(&self) -> api::ConsoleDoor {
        let (url, browser) = match &*self.guest.lock() {
            Guest::Awaited(key) => (Some(format!("https://{}{}?key={key}", self.host, auth::ENTRANCE)), None),
            Guest::In(_, browser) => (None, Some(browser.clone())),
        };
        api::ConsoleDoor {
            open: true,
            url,
            fingerprint: Some(self.fingerprint.clone()),
            expires_at: Some(timestamp(self.until)),
            browser,
        }
    }

    /// Until when a browser is let in that comes through it.
    pub(super) fn until(&self) -> MillisSinceEpoch {
        self.until
    }

    pub(super) fn is_guest(&self, key: &[u8; 32]) -> bool {
        matches!(&*self.guest.lock(), Guest::In(guest, _) if guest == key)
    }

    /// Takes in the browser that brings the key of the link: the first that does, and no other.
    pub(super) fn admit(&self, given: &str, session: [u8; 32], browser: &str) -> bool {
        let mut guest = self.guest.lock();
        let is_awaited =
            matches!(&*guest, Guest::Awaited(key) if blake3::hash(key.as_bytes()) == blake3::hash(given.as_bytes()));
        if is_awaited {
            *guest = Guest::In(session, browser.to_owned());
        }
        is_awaited
    }

    /// Whether a request says that it goes to this door, and comes from a page of it.
    pub(super) fn is_addressed(&self, headers: &HeaderMap, uri: &Uri) -> bool {
        let named = |name| headers.get(name).map(|value| value.to_str().unwrap_or_default());
        let origin = named(header::ORIGIN);
        uri.authority().is_none()
            && named(header::HOST).is_some_and(|host| host.eq_ignore_ascii_case(&self.host))
            && origin.is_none_or(|origin| origin.eq_ignore_ascii_case(&format!("https://{}", self.host)))
    }
}

/// Whether this may be asked for through a door: the console's own files, reading, and adding a clip.
pub(super) fn may_ask(method: &Method, path: &str) -> bool {
    let Some(below) = path.strip_prefix(yadori_api::BASE).and_then(|below| below.strip_prefix('/')) else {
        return matches!(*method, Method::GET | Method::HEAD);
    };
    let first = below.split('/').next().unwrap_or_default();
    match *method {
        Method::GET | Method::HEAD => READ.contains(&first),
        Method::POST => below == "clips",
        _ => false,
    }
}

/// Opens one; the one before it is closed.
pub(super) async fn open(app: &App, seconds: Option<u64>) -> Result<api::ConsoleDoor, Problem> {
    let seconds = seconds.unwrap_or(USUAL);
    if !(LEAST..=MOST).contains(&seconds) {
        return Err(Problem::bad_door_length());
    }
    let (listener, address, tls) = app.engine.sync.listen_for_browser().await?;
    let key = auth::new_key().map_err(|_| Problem::internal())?;
    let door = Arc::new(Door {
        host: address.to_string(),
        fingerprint: tls.identity().fingerprint_of_certificate(),
        until: now().plus(seconds * 1000),
        end: CancellationToken::new(),
        guest: Mutex::new(Guest::Awaited(key)),
    });
    let shown = door.shown();
    if let Some(before) = app.door.0.lock().replace(door.clone()) {
        before.end.cancel();
    }
    app.engine.history.ledger.status_changed();
    tracing::info!(%address, seconds, "a door for a browser on the network is open");
    let interface = Interface::through_door(app.clone(), door.clone());
    let answer = move |request| interface.clone().answer(request);
    let (app, ending) = (app.clone(), app.engine.background.ending.child_token());
    app.engine.background.tasks.clone().spawn(async move {
        let handshake = move |stream| {
            let tls = tls.clone();
            async move { tls.take_browser(stream).await }
        };
        let serving = yadori_serve::serve_by(listener, answer, ending.clone(), CONNECTIONS, handshake);
        let over = async {
            tokio::select! {
                () = door.end.cancelled() => {}
                () = ending.cancelled() => {}
                () = tokio::time::sleep(Duration::from_secs(seconds)) => {}
            }
            // Nobody comes in any more, and who is in goes, with what was still open between.
            ending.cancel();
            closed(&app, &door, address).await;
        };
        tokio::join!(serving, over);
    });
    Ok(shown)
}

/// What is left of a door that is closed: its browser is shut out.
async fn closed(app: &App, door: &Arc<Door>, address: SocketAddr) {
    {
        let mut slot = app.door.0.lock();
        if slot.as_ref().is_some_and(|open| Arc::ptr_eq(open, door)) {
            *slot = None;
        }
    }
    let guest = match &*door.guest.lock() {
        Guest::In(session, _) => Some(*session),
        Guest::Awaited(_) => None,
    };
    if let Some(session) = guest {
        // It ends by itself, too.
        if let Err(error) = app.engine.history.store.remove_console_session(&session).await {
            tracing::warn!(%error, "the session of a door that is closed is still on record");
        }
        app.authenticator.shut_out(&session);
    }
    app.engine.history.ledger.status_changed();
    tracing::info!(%address, "the door for a browser on the network is closed");
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::http::HeaderValue;

    fn door() -> Door {
        Door {
            host: "192.0.2.7:40123".into(),
            fingerprint: String::new(),
            until: MillisSinceEpoch(0),
            end: CancellationToken::new(),
            guest: Mutex::new(Guest::Awaited("key".into())),
        }
    }

    #[test]
    fn one_browser_comes_in_and_no_other() {
        let door = door();
        assert!(!door.admit("guess", [1; 32], "a stranger"));
        assert!(door.shown().url.is_some());
        assert!(door.admit("key", [2; 32], "a phone"));
        assert!(!door.admit("key", [3; 32], "another"));
        assert!(door.is_guest(&[2; 32]) && !door.is_guest(&[1; 32]) && !door.is_guest(&[3; 32]));
        assert_eq!((door.shown().url, door.shown().browser), (None, Some("a phone".into())));
    }

    #[test]
    fn only_its_own_pages_ask_at_it() {
        let check = |pairs: &[(header::HeaderName, &str)], uri: &'static str| {
            let headers = pairs.iter().map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap()));
            door().is_addressed(&headers.collect(), &Uri::from_static(uri))
        };
        let host = (header::HOST, "192.0.2.7:40123");
        assert!(check(std::slice::from_ref(&host), "/"));
        assert!(check(&[host.clone(), (header::ORIGIN, "https://192.0.2.7:40123")], "/"));
        assert!(!check(&[(header::HOST, "attacker.test:40123")], "/"));
        assert!(!check(&[host.clone(), (header::ORIGIN, "http://192.0.2.7:40123")], "/"));
        assert!(!check(&[host, (header::ORIGIN, "https://attacker.test")], "/"));
        assert!(!check(&[], "/"));
    }

    #[test]
    fn it_is_for_reading_and_adding() {
        for path in ["/", "/assets/a.js", "/api/v1/clips", "/api/v1/clips/1/content", "/api/v1/events", "/api/v1/tray"]
        {
            assert!(may_ask(&Method::GET, path), "{path}");
        }
        assert!(may_ask(&Method::POST, "/api/v1/clips"));
        for path in ["/api/v1/export", "/api/v1/console-sessions", "/api/v1/sync", "/api/v1/keyboard", "/api/v1/bin"] {
            assert!(!may_ask(&Method::GET, path), "{path}");
        }
        for (method, path) in [
            (Method::POST, "/api/v1/recall"),
            (Method::POST, "/api/v1/clips/1/fetch"),
            (Method::DELETE, "/api/v1/drawers/a"),
            (Method::PATCH, "/api/v1/clips/1"),
            (Method::POST, "/api/v1/console-links"),
            (Method::POST, "/"),
        ] {
            assert!(!may_ask(&method, path), "{method} {path}");
        }
    }
}
