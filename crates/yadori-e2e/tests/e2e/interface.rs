//! HTTP: what it gives, and whom it lets in.

use serde_json::Value;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use yadori_api::{ClipPage, ConsoleLink, Problem};
use yadori_e2e::home::Home;
use yadori_e2e::service::{Answer, Service};

fn service() -> (Home, Service) {
    let home = Home::new();
    let service = Service::simulated(&home);
    (home, service)
}

fn add(service: &Service, mime: &str, content: &[u8]) -> String {
    let answer =
        service.request("POST", "/clips", &[("authorization", &service.bearer()), ("content-type", mime)], content);
    assert!(answer.status < 300, "{}", answer.text());
    answer.json::<Value>()["clip"]["id"].as_str().unwrap().to_owned()
}

/// Enters with a one-time link; gives the cookie, and the path that it is for (without its last slash).
fn enter(service: &Service) -> (String, String) {
    let link: ConsoleLink = service.post("/console-links", &Value::Null).json();
    let answer = service.request("GET", &path_of(&link), &[], &[]);
    assert_eq!(answer.status, 200);
    let cookie = answer.header("set-cookie");
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let path = cookie.split("; ").find_map(|part| part.strip_prefix("Path=")).unwrap();
    assert!(path.starts_with("/s/") && path.len() > 24 && answer.text().contains(&format!("url={path}\"")), "{cookie}");
    (cookie.split(';').next().unwrap().to_owned(), format!("/{}", path.trim_end_matches('/')))
}

fn path_of(link: &ConsoleLink) -> String {
    format!("//{}", link.url.splitn(4, '/').nth(3).unwrap())
}

fn problem(answer: &Answer, status: u16, kind: &str) {
    assert_eq!(answer.status, status, "{}", answer.text());
    assert_eq!(answer.header("content-type"), "application/problem+json");
    let problem: Problem = answer.json();
    assert_eq!((problem.kind.word(), problem.status), (kind, status));
}

#[test]
fn a_rebound_name_or_a_foreign_page_gets_nothing() {
    let (_home, service) = service();
    let token = service.bearer();
    problem(
        &service.request("GET", "/clips", &[("authorization", &token), ("host", "attacker.test")], &[]),
        421,
        "wrong-host",
    );
    problem(
        &service.request("GET", "/clips", &[("authorization", &token), ("origin", "http://attacker.test")], &[]),
        403,
        "foreign-origin",
    );
    let (cookie, place) = enter(&service);
    let origin = format!("http://{}", service.reach.address);
    let clips = format!("{place}/api/v1/clips");
    let pause = format!("{place}/api/v1/pause");
    assert_eq!(service.request("GET", &clips, &[("cookie", &cookie)], &[]).status, 200);
    problem(
        &service.request("POST", &pause, &[("cookie", &cookie), ("content-type", "application/json")], b"{}"),
        403,
        "foreign-origin",
    );
    // The cookie is good for its own path only, and the path for nothing without it.
    for (path, cookie) in
        [("/clips", cookie.as_str()), ("//s/another/api/v1/clips", &cookie), (&clips, "yadori-1=guess")]
    {
        problem(&service.request("GET", path, &[("cookie", cookie)], &[]), 401, "unauthorised");
    }
    assert_eq!(
        service
            .request(
                "POST",
                &pause,
                &[("cookie", &cookie), ("origin", &origin), ("content-type", "application/json")],
                b"{}"
            )
            .status,
        200
    );
    let answer = service.get("/clips");
    assert!(answer.headers.get("access-control-allow-origin").is_none());
}

#[test]
fn a_one_time_link_works_once_and_its_cookie_outlasts_the_service() {
    let (home, service) = service();
    let link: ConsoleLink = service.post("/console-links", &Value::Null).json();
    assert_eq!(service.request("GET", &path_of(&link), &[], &[]).status, 200);
    assert_eq!(service.request("GET", &path_of(&link), &[], &[]).status, 401, "used up");
    assert_eq!(service.request("GET", "//enter?key=guess", &[], &[]).status, 401);
    assert_eq!(service.request("GET", "//enter", &[], &[]).status, 401);
    let (cookie, place) = enter(&service);
    assert!(service.end().0);
    let service = Service::simulated(&home);
    let (_, key) = cookie.split_once('=').unwrap();
    let port = service.reach.address.port();
    let ask = || {
        let cookie = format!("yadori-{port}={key}");
        service.request("GET", &format!("{place}/api/v1/clips"), &[("cookie", &cookie)], &[]).status
    };
    assert_eq!(ask(), 200);
    // It is listed, and can be shut out, with whatever it has open.
    let sessions: Vec<Value> = serde_json::from_str(&service.run(&["console", "sessions", "--json"])).unwrap();
    // The first link has let in one that never came back.
    assert_eq!(sessions.len(), 2);
    let id = sessions[0]["id"].as_str().unwrap();
    assert!(service.run(&["console", "close", id]).contains("1 browser"));
    service.run(&["console", "close", "all"]);
    assert_eq!(ask(), 401);
    let (code, said) = service.fail(&["console", "close", id]);
    assert!(code == 1 && said.contains("yadori console sessions"), "{said}");
}

/// One connection, spoken to byte by byte.
struct Wire(BufReader<TcpStream>);

impl Wire {
    fn open(service: &Service) -> Self {
        let connection = TcpStream::connect(service.reach.address).unwrap();
        connection.set_read_timeout(Some(yadori_e2e::PATIENCE)).unwrap();
        Self(BufReader::new(connection))
    }

    /// Sends, if the connection still takes it.
    fn send(&mut self, bytes: &[u8]) {
        let _ = self.0.get_mut().write_all(bytes);
    }

    /// The head of the next answer, whose body is read too; nothing when the connection has ended.
    fn answer(&mut self) -> Option<String> {
        let mut head = String::new();
        while !head.ends_with("\r\n\r\n") {
            if self.0.read_line(&mut head).ok()? == 0 {
                return None;
            }
        }
        let length: usize = head.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok())?;
        self.0.read_exact(&mut vec![0; length]).ok()?;
        Some(head)
    }
}

#[test]
fn a_body_that_nobody_wants_does_not_break_the_next_request() {
    let (_home, service) = service();
    let (address, token) = (&service.reach.address, &service.reach.token);
    let head = |line: &str, more: &str| format!("{line} HTTP/1.1\r\nHost: {address}\r\n{more}\r\n").into_bytes();
    let allowed = format!("Authorization: Bearer {token}\r\n");
    let next = head("GET /api/v1/status", &allowed);

    // This asks for no body, but gets one, and later than the rest.
    let mut wire = Wire::open(&service);
    wire.send(&head("POST /api/v1/console-links", &format!("{allowed}Content-Length: 4\r\n")));
    wire.send(b"null");
    wire.send(&next);
    let answer = wire.answer().unwrap();
    assert!(answer.starts_with("HTTP/1.1 200") && !answer.contains("connection: close"), "{answer}");
    assert!(wire.answer().unwrap().starts_with("HTTP/1.1 200"));

    // Nobody is let in, so nobody reads a large body, and the answer says that the connection ends.
    let mut wire = Wire::open(&service);
    wire.send(&head("POST /api/v1/clips", "Content-Length: 1000000\r\n"));
    let answer = wire.answer().unwrap();
    assert!(answer.starts_with("HTTP/1.1 401") && answer.contains("connection: close"), "{answer}");
    wire.send(&next);
    assert_eq!(wire.answer(), None);
}

#[test]
fn however_many_say_nothing_there_is_room_for_who_does() {
    let (_home, service) = service();
    let token = service.bearer();
    // More than there is room for, idle, and more than many systems give descriptors.
    let idle: Vec<TcpStream> = (0..600).map(|_| TcpStream::connect(service.reach.address).unwrap()).collect();
    for _ in 0..20 {
        assert_eq!(service.request("GET", "/status", &[("authorization", &token)], &[]).status, 200);
    }
    service.run(&["add", "all is well"]);
    // The first of them have been let go of for it.
    let mut first = &idle[0];
    first.set_read_timeout(Some(yadori_e2e::PATIENCE)).unwrap();
    assert!(matches!(first.read(&mut [0]), Ok(0) | Err(_)));
    assert!(service.end().0);
}

#[test]
fn however_many_send_their_bodies_slowly_there_is_room_for_who_does_not() {
    let (_home, service) = service();
    let address = service.address();
    let slow = |bearer: &str, length: u64| {
        let mut connection = TcpStream::connect(&address).unwrap();
        let head = format!(
            "POST /api/v1/clips HTTP/1.1\r\nhost: {address}\r\n{bearer}content-type: text/plain\r\ncontent-length: {length}\r\n\r\n"
        );
        connection.write_all(head.as_bytes()).unwrap();
        connection.write_all(b"half a w").unwrap();
        connection
    };
    // Strangers, who are read before it is known who they are, and who is let in; small bodies and large ones.
    let bearer = format!("authorization: {}\r\n", service.bearer());
    let slow: Vec<TcpStream> = (0..600)
        .map(|n| slow(if n % 2 == 0 { "" } else { &bearer }, if n % 3 == 0 { 20 << 20 } else { 1_000 }))
        .collect();
    for _ in 0..20 {
        assert_eq!(service.get("/status").status, 200);
    }
    service.run(&["add", "all is well"]);
    drop(slow);
    assert_eq!(service.clips(&["list"]).len(), 1, "nothing of what was broken off is kept");
    assert!(service.end().0);
}

#[test]
fn content_is_served_as_if_it_were_hostile() {
    let (_home, service) = service();
    let html = add(&service, "text/html", b"<script>alert(1)</script><p>words</p>");
    let svg =
        add(&service, "image/svg+xml", b"<svg xmlns='http://www.w3.org/2000/svg'><script>alert(1)</script></svg>");
    for id in [html, svg] {
        let answer = service.get(&format!("/clips/{id}/content"));
        let policy = answer.header("content-security-policy");
        assert!(
            policy.contains("sandbox;") && policy.contains("default-src 'none'") && !policy.contains("allow-scripts"),
            "{policy}"
        );
        assert_eq!(answer.header("x-content-type-options"), "nosniff");
    }
    let page = service.get("//");
    let policy = page.header("content-security-policy");
    assert!(
        policy.contains("default-src 'none'") && policy.contains("script-src 'self'") && !policy.contains("unsafe"),
        "{policy}"
    );
}

#[test]
fn content_has_ranges_and_an_etag() {
    let (_home, service) = service();
    let large: String = (0..600_000).map(|n| char::from(b'a' + (n % 26) as u8)).collect();
    let id = add(&service, "text/plain", large.as_bytes());
    let path = format!("/clips/{id}/content");
    let whole = service.get(&path);
    assert!(whole.text() == large);
    let with = |name: &str, value: &str| {
        service.request("GET", &path, &[("authorization", &service.bearer()), (name, value)], &[])
    };
    assert_eq!(with("if-none-match", whole.header("etag")).status, 304);
    assert_eq!(with("if-none-match", "\"other\"").status, 200);
    let part = with("range", "bytes=26-51");
    assert_eq!(
        (part.status, part.text().as_str(), part.header("content-range")),
        (206, "abcdefghijklmnopqrstuvwxyz", "bytes 26-51/600000")
    );
    assert_eq!(with("range", "bytes=-3").body.len(), 3);
    problem(&with("range", "bytes=600000-"), 416, "bad-range");
    problem(&service.get(&format!("{path}?format=image/png")), 404, "no-such-format");
    problem(&service.get(&format!("/clips/{id}/thumbnail")), 404, "no-thumbnail");
}

#[test]
fn pages_follow_one_another_by_cursor() {
    let (_home, service) = service();
    for n in 0..7 {
        add(&service, "text/plain", format!("clip {n}").as_bytes());
    }
    for query in ["", "&q=clip"] {
        let mut seen = Vec::new();
        let mut cursor = String::new();
        loop {
            let page: ClipPage = service.get(&format!("/clips?limit=3{query}{cursor}")).json();
            seen.extend(page.clips.iter().map(|clip| clip.preview.clone()));
            match page.next {
                Some(next) => cursor = format!("&cursor={next}"),
                None => break,
            }
            if query.is_empty() {
                add(&service, "text/plain", format!("arrives meanwhile {}", seen.len()).as_bytes());
            }
        }
        assert_eq!(seen.iter().filter(|preview| preview.starts_with("clip")).count(), 7);
    }
}

#[test]
fn events_go_on_from_where_they_stopped() {
    let (_home, service) = service();
    let mut events = service.events(None);
    let first = add(&service, "text/plain", b"first");
    assert_eq!(events.change().id, first);
    let last = events.last;
    drop(events);
    let second = add(&service, "text/plain", b"second");
    let third = add(&service, "text/plain", b"third");
    service.run(&["delete", &second]);
    let mut again = service.events(Some(last));
    assert_eq!(again.change().clip.unwrap().id, third);
    let gone = again.change();
    assert_eq!((gone.id, gone.clip, gone.total), (second, None, 2));
    service.run(&["undo"]);
    assert_eq!(again.change().clip.unwrap().preview, "second");
    let mut from_another_time = service.events(Some(u64::MAX));
    from_another_time.wait("reload", |_| true);
}

#[test]
fn the_end_of_the_service_does_not_wait_for_listeners() {
    let (_home, service) = service();
    let events = service.events(None);
    assert!(service.end().0);
    assert!(events.rest().len() < 3);
}

#[test]
fn the_description_that_is_served_is_the_one_that_is_committed() {
    let (_home, service) = service();
    let served: Value = service.get("/openapi.json").json();
    let committed = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/openapi.json")).unwrap();
    assert_eq!(served, serde_json::from_str::<Value>(&committed).unwrap());
    assert!(served["paths"]["/api/v1/clips/{name}/content"]["get"].is_object());
}
