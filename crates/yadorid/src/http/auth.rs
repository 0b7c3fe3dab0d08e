//! Who is let in.
//!
//! The threats: another user of this machine who connects to the port, or who serves pages from another port of this
//! host; a web page in the person's browser that sends requests to this one, or that makes its own host name point to it
//! (DNS rebinding) to read the answers; a one-time link that is read from a terminal or a history later on.
//!
//! The answers: everything needs the token of a file that only this user can read, or the cookie that a one-time link
//! gives. `Host` must be one of our own names, so a rebound name gets nothing. A request that names an `Origin` must come
//! from our own page, and one that changes something with the cookie must name it; the cookie itself is never sent from
//! other sites. A link works once and for two minutes.
//!
//! Browsers tell neither ports nor paths apart when they decide what belongs to the same site, and they send the cookies
//! of a host to all of its ports (RFC 6265, section 8.5). So each session has a path of its own, `/s/` and 128 random
//! bits; its cookie is for that path only. A page on another port cannot guess it, so it is never sent the cookie; and
//! what is asked for under any other path is not let in by it.

use super::App;
use super::door::Door;
use super::problem::Problem;
use axum::extract::Request;
use axum::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use axum::http::{Method, Uri};
use axum::response::{IntoResponse, Response};
use parking_lot::{Mutex, MutexGuard};
use std::collections::{HashMap, HashSet};
use std::net::SocketAddr;
use std::ops::ControlFlow::{self, Break, Continue};
use tokio::sync::watch;
use yadori_core::MillisSinceEpoch;
use yadori_engine::clock::now;

/// How long a one-time link can be used.
pub const LINK_MILLIS: u64 = 2 * 60 * 1000;

/// How long a browser is let in: a month.
const SESSION_MILLIS: u64 = 30 * 24 * 60 * 60 * 1000;

/// Where one-time links lead.
pub const ENTRANCE: &str = "/enter";

/// Under which the paths of sessions lie.
const SESSIONS: &str = "/s/";

/// Most characters of what a browser says that it is.
const BROWSER_CHARS: usize = 200;

/// The session by which a request was let in.
#[derive(Clone, Copy, Debug)]
pub(super) struct Session {
    /// The hash of its key.
    pub key: [u8; 32],
    /// The hash of its path.
    path: [u8; 32],
}

/// The keys, and the names of the house.
pub struct Authenticator {
    token: String,
    address: SocketAddr,
    /// The values of `Host` that mean us, lower-case.
    hosts: HashSet<String>,
    cookie: String,
    open: Mutex<Open>,
    /// Grows whenever a browser is shut out.
    shut_out: watch::Sender<u64>,
    /// The browsers that were let in, for when the records cannot be asked: hashes, and until when.
    remembered: Mutex<Vec<Remembered>>,
}

/// A browser that was let in: hashes of its key and its path, and until when.
pub(crate) type Remembered = ([u8; 32], [u8; 32], MillisSinceEpoch);

#[derive(Default)]
struct Open {
    /// Hashes of the keys of unused links, and until when they can be used.
    links: HashMap<[u8; 32], MillisSinceEpoch>,
    /// Hashes of the keys and paths of browsers that were seen in the records, and until when that is believed.
    sessions: HashMap<([u8; 32], [u8; 32]), MillisSinceEpoch>,
}

/// How long a session is believed without asking the records.
const BELIEVED_MILLIS: u64 = 60 * 1000;

/// A key that cannot be guessed: 256 bits.
pub(super) fn new_key() -> Result<String, getrandom::Error> {
    let mut key = [0; 32];
    getrandom::fill(&mut key)?;
    Ok(data_encoding::BASE64URL_NOPAD.encode(&key))
}

/// A part of a path that cannot be guessed: 128 bits.
fn new_path() -> Result<String, getrandom::Error> {
    let mut path = [0; 16];
    getrandom::fill(&mut path)?;
    Ok(data_encoding::BASE64URL_NOPAD.encode(&path))
}

fn hash(key: &str) -> [u8; 32] {
    blake3::derive_key("yadori 2026-11 console keys", key.as_bytes())
}

impl Authenticator {
    /// Doors at this address, with a new token. `names` are further host names that mean us.
    pub fn new(address: SocketAddr, names: &[String]) -> Result<Self, getrandom::Error> {
        let port = address.port();
        let mut hosts: HashSet<String> =
            names.iter().map(|name| format!("{}:{port}", name.to_ascii_lowercase())).collect();
        hosts.insert(address.to_string());
        if address.ip().is_loopback() || address.ip().is_unspecified() {
            hosts.extend(["localhost", "127.0.0.1", "[::1]"].map(|name| format!("{name}:{port}")));
        }
        // A browser does not tell the ports of one host apart when it sends cookies.
        let cookie = format!("yadori-{port}");
        Ok(Self {
            token: new_key()?,
            address,
            hosts,
            cookie,
            open: Mutex::default(),
            shut_out: watch::Sender::new(0),
            remembered: Mutex::default(),
        })
    }

    /// The bearer token.
    pub fn token(&self) -> &str {
        &self.token
    }

    fn open(&self) -> MutexGuard<'_, Open> {
        self.open.lock()
    }

    /// A link by which one browser is let in, once, and until when.
    pub fn new_link(&self) -> Result<(String, MillisSinceEpoch), getrandom::Error> {
        let key = new_key()?;
        let until = now().plus(LINK_MILLIS);
        let mut open = self.open();
        open.links.retain(|_, until| *until > now());
        open.links.insert(hash(&key), until);
        let mut address = self.address;
        if address.ip().is_unspecified() {
            address.set_ip([127, 0, 0, 1].into());
        }
        Ok((format!("http://{address}{ENTRANCE}?key={key}"), until))
    }

    /// Whether the key is that of an unused link; it is used up by asking.
    fn use_link(&self, key: &str) -> bool {
        self.open().links.remove(&hash(key)).is_some_and(|until| until > now())
    }

    /// Remembers the browsers that were let in: while the history is locked, the records cannot be asked.
    pub(crate) fn remember(&self, browsers: Vec<Remembered>) {
        *self.remembered.lock() = browsers;
    }

    fn remembers(&self, session: Session) -> bool {
        let now = now();
        self.remembered
            .lock()
            .iter()
            .any(|(key, path, until)| (*key, *path) == (session.key, session.path) && *until > now)
    }

    fn is_our_host(&self, host: &str) -> bool {
        self.hosts.contains(&host.to_ascii_lowercase())
    }

    fn is_token(&self, headers: &HeaderMap) -> bool {
        // The scheme is read in any case (RFC 9110, section 11.1).
        let given = headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()?.split_once(' '));
        let given = given.filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer")).map(|(_, token)| token.trim());
        // Comparing hashes takes the same time wherever the first difference lies.
        given.is_some_and(|given| blake3::hash(given.as_bytes()) == blake3::hash(self.token.as_bytes()))
    }

    fn sessions(&self, headers: &HeaderMap, path: &str) -> Vec<Session> {
        sessions(headers, &self.cookie, path)
    }

    /// Shuts a browser out that has this session.
    pub(crate) fn shut_out(&self, key: &[u8; 32]) {
        self.open().sessions.retain(|(known, _), _| known != key);
        self.shut_out.send_modify(|times| *times += 1);
    }
}

/// The sessions at this path that a request may be of, by cookies of this name: another page on this host may have set some.
fn sessions(headers: &HeaderMap, cookie: &str, path: &str) -> Vec<Session> {
    let cookies = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    let pairs = cookies.flat_map(|cookies| cookies.split(';')).filter_map(|pair| pair.trim().split_once('='));
    let keys = pairs.filter(|(name, _)| *name == cookie).take(8);
    keys.map(|(_, key)| Session { key: hash(key), path: hash(path) }).collect()
}

/// The path of a session, and what is asked for under it.
fn split_session(path: &str) -> Option<(&str, &str)> {
    let rest = path.strip_prefix(SESSIONS)?;
    let end = rest.find('/').unwrap_or(rest.len());
    Some((&rest[..end], &rest[end..]))
}

/// The same request, for what is asked for under the path of the session.
fn under_session(mut request: Request, session: Session) -> Option<Request> {
    let uri = request.uri();
    let (_, rest) = split_session(uri.path())?;
    let query = uri.query().map(|query| format!("?{query}")).unwrap_or_default();
    let below = format!("{}{query}", if rest.is_empty() { "/" } else { rest });
    *request.uri_mut() = below.parse().ok()?;
    request.extensions_mut().insert(session);
    Some(request)
}

/// Where a request says that it comes from and goes to, held against what is allowed.
#[derive(Debug, PartialEq, Eq)]
enum Address {
    Ours,
    WrongHost,
    ForeignOrigin,
}

fn check_address(authenticator: &Authenticator, headers: &HeaderMap, uri: &Uri) -> Address {
    // The absolute form of a request names the host too, and goes before the header (RFC 9112, section 3.2.2).
    let named = uri.authority().map(axum::http::uri::Authority::as_str);
    let Some(host) = named.or_else(|| headers.get(header::HOST)?.to_str().ok()) else { return Address::WrongHost };
    let is_http = uri.scheme_str().is_none_or(|scheme| scheme.eq_ignore_ascii_case("http"));
    let is_same =
        headers.get(header::HOST).is_none_or(|header| header.as_bytes().eq_ignore_ascii_case(host.as_bytes()));
    if !is_http || !is_same || !authenticator.is_our_host(host) {
        return Address::WrongHost;
    }
    match headers.get(header::ORIGIN).map(|origin| origin.to_str().unwrap_or_default()) {
        Some(origin) if !origin.eq_ignore_ascii_case(&format!("http://{host}")) => Address::ForeignOrigin,
        _ => Address::Ours,
    }
}

/// Adds what is sent with everything.
pub(super) fn add_headers(response: &mut Response) {
    for (name, value) in HEADERS {
        response.headers_mut().entry(name).or_insert(HeaderValue::from_static(value));
    }
}

/// Lets in, while the history is locked, the same browsers and programs, to what little there is; answers others.
pub(super) fn let_in_while_locked(authenticator: &Authenticator, request: Request) -> ControlFlow<Response, Request> {
    match check_address(authenticator, request.headers(), request.uri()) {
        Address::Ours => {}
        Address::WrongHost => return answered(Problem::wrong_host()),
        Address::ForeignOrigin => return answered(Problem::foreign_origin()),
    }
    if authenticator.is_token(request.headers()) {
        return Continue(request);
    }
    let sessions = split_session(request.uri().path()).map(|(path, _)| authenticator.sessions(request.headers(), path));
    let mut sessions = sessions.unwrap_or_default().into_iter().filter(|session| authenticator.remembers(*session));
    match sessions.next() {
        Some(_) if !request.method().is_safe() && !request.headers().contains_key(header::ORIGIN) => {
            answered(Problem::foreign_origin())
        }
        Some(session) => under_session(request, session).map_or_else(|| answered(Problem::no_such_path()), Continue),
        None if request.uri().path().contains("/api/") => answered(Problem::unauthorised()),
        None => Break(super::console::closed()),
    }
}

fn answered<T>(problem: Problem) -> ControlFlow<Response, T> {
    Break(problem.into_response())
}

/// Sent with everything: nothing on our pages comes from elsewhere, and no other page can frame them.
const HEADERS: [(HeaderName, &str); 5] = [
    (
        header::CONTENT_SECURITY_POLICY,
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; \
         manifest-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
    ),
    (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
    (header::REFERRER_POLICY, "no-referrer"),
    (header::X_FRAME_OPTIONS, "DENY"),
    (header::CACHE_CONTROL, "no-store"),
];

/// Lets a request in, through a door for a browser on the network if it came by one; answers who is not let in, and who only
/// wants to enter.
pub(super) async fn let_in(app: &App, door: Option<&Door>, request: Request) -> ControlFlow<Response, Request> {
    if let Some(door) = door {
        return through_door(app, door, request).await;
    }
    let authenticator = &app.authenticator;
    match check_address(authenticator, request.headers(), request.uri()) {
        Address::Ours => {}
        Address::WrongHost => return answered(Problem::wrong_host()),
        Address::ForeignOrigin => return answered(Problem::foreign_origin()),
    }
    if request.uri().path() == ENTRANCE {
        let key = request.uri().query().and_then(|query| query.strip_prefix("key=")).unwrap_or_default().to_owned();
        if request.method() != Method::GET || !authenticator.use_link(&key) {
            return Break(super::console::closed());
        }
        let browser = browser_of(request.headers());
        let entered = async {
            let fresh = Fresh::new().map_err(|_| Problem::internal())?;
            fresh.record(app, &browser, now().plus(SESSION_MILLIS)).await?;
            Ok::<_, Problem>(fresh.page(&authenticator.cookie, SESSION_MILLIS / 1000, ""))
        };
        return Break(entered.await.unwrap_or_else(Problem::into_response));
    }
    if authenticator.is_token(request.headers()) {
        return Continue(request);
    }
    let changes = !matches!(*request.method(), Method::GET | Method::HEAD);
    let sessions = split_session(request.uri().path()).map(|(path, _)| authenticator.sessions(request.headers(), path));
    for session in sessions.unwrap_or_default().into_iter().filter(|session| !app.door.is_guest(&session.key)) {
        match has_session(app, session).await {
            Ok(true) if changes && !request.headers().contains_key(header::ORIGIN) => {
                return answered(Problem::foreign_origin());
            }
            Ok(true) => {
                return under_session(request, session).map_or_else(|| answered(Problem::no_such_path()), Continue);
            }
            Ok(false) => {}
            Err(error) => return answered(Problem::from(error)),
        }
    }
    if request.uri().path().contains("/api/") {
        answered(Problem::unauthorised())
    } else {
        Break(super::console::closed())
    }
}

async fn has_session(app: &App, session: Session) -> Result<bool, yadori_store::StoreError> {
    let now = now();
    let known = (session.key, session.path);
    if app.authenticator.open().sessions.get(&known).is_some_and(|until| *until > now) {
        return Ok(true);
    }
    let is_known = app.engine.history.store.has_console_session(&session.key, &session.path, now).await?;
    if is_known {
        app.authenticator.open().sessions.insert(known, now.plus(BELIEVED_MILLIS));
    }
    Ok(is_known)
}

/// Waits until the browser of this session is shut out.
pub(super) async fn is_shut_out(app: &App, session: Session) {
    let mut shut_out = app.authenticator.shut_out.subscribe();
    while shut_out.changed().await.is_ok() {
        if matches!(has_session(app, session).await, Ok(false)) {
            return;
        }
    }
    std::future::pending::<()>().await;
}

/// What a browser says that it is.
fn browser_of(headers: &HeaderMap) -> String {
    let browser = headers.get(header::USER_AGENT).and_then(|name| name.to_str().ok()).unwrap_or_default();
    browser.chars().take(BROWSER_CHARS).collect()
}

/// The door for a browser on the network: its own link, its own session, and not everything.
async fn through_door(app: &App, door: &Door, request: Request) -> ControlFlow<Response, Request> {
    if !door.is_addressed(request.headers(), request.uri()) {
        return answered(Problem::wrong_host());
    }
    let cookie = door_cookie(request.headers());
    if request.uri().path() == ENTRANCE {
        let key = request.uri().query().and_then(|query| query.strip_prefix("key=")).unwrap_or_default().to_owned();
        let (is_get, browser) = (request.method() == Method::GET, browser_of(request.headers()));
        let entered = async {
            let fresh = Fresh::new().map_err(|_| Problem::internal())?;
            if !is_get || !door.admit(&key, hash(&fresh.key), &browser) {
                return Ok(super::console::closed());
            }
            fresh.record(app, &browser, door.until()).await?;
            app.engine.history.ledger.status_changed();
            let seconds = door.until().0.saturating_sub(now().0) / 1000;
            Ok::<_, Problem>(fresh.page(&cookie, seconds, "; Secure"))
        };
        return Break(entered.await.unwrap_or_else(Problem::into_response));
    }
    let sessions = split_session(request.uri().path()).map(|(path, _)| sessions(request.headers(), &cookie, path));
    let mut guests = sessions.unwrap_or_default().into_iter().filter(|session| door.is_guest(&session.key));
    let is_api = request.uri().path().contains("/api/");
    let Some(session) = guests.next() else {
        return if is_api { answered(Problem::unauthorised()) } else { Break(super::console::closed()) };
    };
    match has_session(app, session).await {
        Ok(true) => {}
        Ok(false) => return Break(super::console::closed()),
        Err(error) => return answered(Problem::from(error)),
    }
    if !request.method().is_safe() && !request.headers().contains_key(header::ORIGIN) {
        return answered(Problem::foreign_origin());
    }
    let Some(request) = under_session(request, session) else { return answered(Problem::no_such_path()) };
    if !super::door::may_ask(request.method(), request.uri().path()) {
        return answered(Problem::not_through_this_door());
    }
    Continue(request)
}

/// The name of a door's cookie. Its port is in what the browser asked for, which was checked before.
fn door_cookie(headers: &HeaderMap) -> String {
    let host = headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
    format!("yadori-{}", host.rsplit(':').next().unwrap_or_default())
}

/// A session that begins.
struct Fresh {
    key: String,
    place: String,
}

impl Fresh {
    fn new() -> Result<Self, getrandom::Error> {
        Ok(Self { key: new_key()?, place: new_path()? })
    }

    async fn record(&self, app: &App, browser: &str, until: MillisSinceEpoch) -> Result<(), Problem> {
        let (key, place) = (hash(&self.key), hash(&self.place));
        Ok(app.engine.history.store.add_console_session(&key, &place, browser, now(), until).await?)
    }

    /// What lets the browser in and sends it to the console.
    ///
    /// The way there is a page and no redirect: a cookie that is kept from other sites is not sent along with a redirect of a
    /// link that was followed from elsewhere, as from the file that `yadori console` opens.
    fn page(&self, cookie: &str, seconds: u64, more: &str) -> Response {
        let path = format!("{SESSIONS}{}/", self.place);
        let cookie = format!("{cookie}={}; HttpOnly; SameSite=Strict; Path={path}; Max-Age={seconds}{more}", self.key);
        let page = format!(
            "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><meta http-equiv=\"refresh\" content=\"0; url={path}\">\n\
             <link rel=\"icon\" href=\"data:,\"><title>Yadori</title>\n<p>Opening <a href=\"{path}\">your history</a> …</p>\n</html>\n"
        );
        let kind = HeaderValue::from_static("text/html; charset=utf-8");
        match HeaderValue::from_str(&cookie) {
            Ok(cookie) => ([(header::SET_COOKIE, cookie), (header::CONTENT_TYPE, kind)], page).into_response(),
            Err(_) => Problem::internal().into_response(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn authenticator() -> Authenticator {
        Authenticator::new(SocketAddr::from(([127, 0, 0, 1], 7436)), &["Workshop.test".into()]).unwrap()
    }

    fn headers(pairs: &[(HeaderName, &str)]) -> HeaderMap {
        pairs.iter().map(|(name, value)| (name.clone(), HeaderValue::from_str(value).unwrap())).collect()
    }

    fn check(pairs: &[(HeaderName, &str)]) -> Address {
        check_address(&authenticator(), &headers(pairs), &Uri::from_static("/api/v1/clips"))
    }

    #[test]
    fn only_our_own_names_and_pages_are_answered() {
        for host in ["127.0.0.1:7436", "localhost:7436", "[::1]:7436", "workshop.test:7436"] {
            assert_eq!(check(&[(header::HOST, host)]), Address::Ours, "{host}");
            assert_eq!(check(&[(header::HOST, host), (header::ORIGIN, &format!("http://{host}"))]), Address::Ours);
        }
        for host in ["attacker.test:7436", "127.0.0.1", "127.0.0.1:80", "localhost:7436.attacker.test", ""] {
            assert_eq!(check(&[(header::HOST, host)]), Address::WrongHost, "{host}");
        }
        assert_eq!(check(&[]), Address::WrongHost);
        let absolute = |uri: &str, host: &str| {
            check_address(&authenticator(), &headers(&[(header::HOST, host)]), &uri.parse().unwrap())
        };
        assert_eq!(absolute("http://127.0.0.1:7436/", "127.0.0.1:7436"), Address::Ours);
        for uri in ["http://attacker.test/", "http://localhost:7436/", "https://127.0.0.1:7436/"] {
            assert_eq!(absolute(uri, "127.0.0.1:7436"), Address::WrongHost, "{uri}");
        }
        for origin in ["http://attacker.test", "null", "https://127.0.0.1:7436", "http://localhost:7436"] {
            assert_eq!(
                check(&[(header::HOST, "127.0.0.1:7436"), (header::ORIGIN, origin)]),
                Address::ForeignOrigin,
                "{origin}"
            );
        }
    }

    #[test]
    fn a_link_works_once_and_a_guess_never() {
        let authenticator = authenticator();
        let (url, _) = authenticator.new_link().unwrap();
        let key = url.split_once("key=").unwrap().1;
        assert!(!authenticator.use_link("guess"));
        assert!(authenticator.use_link(key));
        assert!(!authenticator.use_link(key));
    }

    #[test]
    fn what_is_asked_for_under_a_session_is_told_from_its_path() {
        assert_eq!(split_session("/s/abc/api/v1/clips"), Some(("abc", "/api/v1/clips")));
        assert_eq!(split_session("/s/abc"), Some(("abc", "")));
        assert_eq!(split_session("/api/v1/clips"), None);
        let session = Session { key: [0; 32], path: [0; 32] };
        let below = |uri: &str| {
            let request = Request::builder().uri(uri).body(axum::body::Body::empty()).unwrap();
            under_session(request, session).unwrap().uri().to_string()
        };
        assert_eq!(below("/s/abc/api/v1/clips?q=a%20b"), "/api/v1/clips?q=a%20b");
        assert_eq!((below("/s/abc").as_str(), below("/s/abc/").as_str()), ("/", "/"));
        // Any page on this host may set cookies of this name: none of them hides ours.
        let all =
            authenticator().sessions(&headers(&[(header::COOKIE, "a=b; yadori-7436=other; yadori-7436=own")]), "abc");
        assert!(all.iter().any(|session| session.key == hash("own")) && all.len() == 2);
    }

    #[test]
    fn the_token_must_be_whole() {
        let authenticator = authenticator();
        let with = |value: &str| authenticator.is_token(&headers(&[(header::AUTHORIZATION, value)]));
        assert!(with(&format!("Bearer {}", authenticator.token())));
        assert!(with(&format!("bEARER  {}", authenticator.token())));
        assert!(!with(&format!("Basic {}", authenticator.token())) && !with(authenticator.token()));
        assert!(!with(&format!("Bearer {}", &authenticator.token()[1..])));
        assert!(!with("Bearer "));
        assert!(!with(authenticator.token()));
    }
}
