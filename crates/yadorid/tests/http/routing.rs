//! Requests without a network: who is let in, and what is asked wrongly.

use crate::answering::{Answering, problem};
use axum::body::{Body, Bytes, HttpBody, to_bytes};
use axum::http::{Request, Response};
use http_body::{Frame, SizeHint};
use std::pin::Pin;
use std::task::{Context, Poll};
use tower::ServiceExt;
use yadori_api::ProblemKind;

/// A body that says how large it is, and must not be read.
struct Unread(u64);

impl HttpBody for Unread {
    type Data = Bytes;
    type Error = std::io::Error;

    fn poll_frame(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<Option<Result<Frame<Bytes>, std::io::Error>>> {
        panic!("it was read")
    }

    fn size_hint(&self) -> SizeHint {
        SizeHint::with_exact(self.0)
    }
}

#[tokio::test]
async fn without_the_token_under_another_name_or_from_another_page_there_is_nothing() {
    let service = Answering::new().await;
    service.device.copy("private words").await;
    for path in ["/api/v1/clips", "/api/v1/status", "/api/v1/events", "/api/v1/openapi.json", "/", "/assets/index.js"] {
        for headers in [&[][..], &[("authorization", "Bearer guess")], &[("cookie", "yadori-7436=guess")]] {
            let answer = service.send("GET", path, headers, b"").await;
            assert_eq!(answer.status(), 401, "{path}");
            let body = to_bytes(answer.into_body(), 1 << 20).await.unwrap();
            assert!(!String::from_utf8_lossy(&body).contains("private words"), "{path}");
        }
    }
    let bearer = format!("Bearer {}", service.token);
    let with = |name: &'static str, value: &'static str| {
        let headers = [("authorization", bearer.clone()), (name, value.to_owned())];
        let service = &service;
        async move {
            let mut request = Request::builder().uri("/api/v1/clips");
            for (name, value) in &headers {
                request = request.header(*name, value);
            }
            problem(service.router.clone().oneshot(request.body(Body::empty()).unwrap()).await.unwrap()).await
        }
    };
    assert_eq!(with("host", "attacker.test").await, (421, ProblemKind::WrongHost));
    let headers = [("authorization", bearer.as_str()), ("origin", "http://attacker.test")];
    let foreign = service.send("GET", "/api/v1/clips", &headers, b"").await;
    assert_eq!(problem(foreign).await, (403, ProblemKind::ForeignOrigin));
}

#[tokio::test]
async fn what_is_asked_wrongly_is_answered_as_a_problem() {
    use ProblemKind as Kind;
    let service = Answering::new().await;
    for (path, kind) in [
        ("/nothing", Kind::NoSuchPath),
        ("/clips?limit=0", Kind::BadPage),
        ("/clips?limit=100000", Kind::BadPage),
        ("/clips?limit=many", Kind::BadRequest),
        ("/clips?cursor=nonsense", Kind::BadPage),
        ("/clips?zone=Nowhere", Kind::BadPage),
        ("/clips?q=before:soon", Kind::BadQuery),
        (&format!("/clips?q={}", "a+".repeat(501)), Kind::BadQuery),
        ("/clips/1", Kind::NoSuchClip),
        ("/clips/:sig", Kind::NoSuchAlias),
        ("/clips/x", Kind::NotAName),
        ("/drawers/Venues", Kind::NoSuchDrawer),
        ("/devices/van", Kind::NoSuchDevice),
        ("/stats?days=0", Kind::BadPage),
        ("/clips?limt=1", Kind::BadRequest),
        ("/bin?skip=1&skip=2", Kind::BadRequest),
        ("/clips/%ff", Kind::BadRequest),
        ("/drawers/%c3%28", Kind::BadRequest),
    ] {
        assert_eq!(service.problem("GET", path, "", b"").await, (kind.status(), kind), "{path}");
    }
    for (path, body, kind) in [
        ("/recall", r#"{"clips": []}"#, Kind::NothingNamed),
        ("/pause", r#"{"seconds": 0}"#, Kind::BadLength),
        ("/undo", "{}", Kind::NothingToUndo),
        ("/undo", r#"{"step": 7}"#, Kind::NoSuchStep),
        ("/redo", "{}", Kind::NothingToRedo),
        ("/tray/next", "{}", Kind::NothingThere),
        ("/reshape", r#"{"clip": "1", "ways": ["backwards"]}"#, Kind::BadWay),
        ("/clear", r#"{"application": " "}"#, Kind::BadSlice),
        ("/sync/join", r#"{"address": "127.0.0.1:1", "code": "x"}"#, Kind::BadCode),
        ("/drawers", r#"{"name": ""}"#, Kind::BadDrawer),
        ("/drawers", r#"{"name": ".."}"#, Kind::BadDrawer),
        ("/clear", "{}", Kind::BadSlice),
        ("/clear", r#"{"kept_too": true, "for_good": true}"#, Kind::BadSlice),
    ] {
        assert_eq!(service.json(path, body).await, (kind.status(), kind), "{path} {body}");
    }
    assert_eq!(service.json("/recall", r#"{"clips": "1"}"#).await, (422, Kind::BadFields));
    for (mime, body, kind) in [
        ("application/pdf", &b"%PDF"[..], Kind::Unsupported),
        ("text/plain", b" ", Kind::Refused),
        ("text/plain", b"\xff", Kind::Refused),
        ("image/png", b"not a picture", Kind::Refused),
        ("text/plain", &vec![b'x'; 32 * 1024 * 1024 + 1], Kind::TooLarge),
    ] {
        assert_eq!(service.problem("POST", "/clips", mime, body).await, (kind.status(), kind), "{mime}");
    }
}

#[tokio::test]
async fn a_list_is_no_object_and_nothing_happens_that_was_not_asked_for() {
    use ProblemKind::{BadFields, BadRequest, WrongType};
    let service = Answering::new().await;
    service.device.copy("still here").await;
    for (method, path) in [
        ("POST", "/clear"),
        ("POST", "/delete"),
        ("POST", "/pause"),
        ("POST", "/undo"),
        ("POST", "/rules/reset"),
        ("PATCH", "/rules"),
        ("PATCH", "/sync/policy"),
        ("POST", "/tray/open"),
        ("POST", "/tray/pour"),
        ("PATCH", "/clips/1"),
        ("POST", "/bin/restore"),
        ("POST", "/recall"),
    ] {
        for body in ["[]", "[null,null,null,null,null,true,true]", "null", "7", "\"all\"", r#"{"no_such_field": 1}"#] {
            let answer = service.problem(method, path, "application/json", body.as_bytes()).await;
            assert_eq!(answer, (422, BadFields), "{method} {path} {body}");
        }
        let answer = service.problem(method, path, "application/json", b"{").await;
        assert_eq!(answer, (400, BadRequest), "{method} {path}");
        assert_eq!(service.problem(method, path, "text/plain", b"{}").await, (415, WrongType), "{method} {path}");
    }
    let names = vec!["1"; 1001];
    let many = serde_json::json!({ "clips": names }).to_string();
    for path in ["/recall", "/delete", "/bin/restore", "/pins", "/tray/add"] {
        assert_eq!(service.json(path, &many).await, (400, ProblemKind::NothingNamed), "{path}");
    }
    let for_good = serde_json::json!({ "clips": names, "for_good": true }).to_string();
    assert_eq!(service.json("/delete", &for_good).await, (400, ProblemKind::NothingNamed));
    assert_eq!(service.device.shown().await, ["still here"]);
}

#[tokio::test]
async fn what_says_that_it_is_too_large_is_refused_before_any_of_it_is_read() {
    let service = Answering::new().await;
    for (path, mime, length) in [
        ("/clips", "text/plain", 40u64 << 20),
        ("/recall", "application/json", 5 << 20),
        ("/nothing", "application/json", 1 << 40),
    ] {
        let answer = service.send_body(path, mime, Body::new(Unread(length))).await;
        assert_eq!(answer.headers()["connection"], "close", "{path}");
        assert_eq!(problem(answer).await, (413, ProblemKind::TooLarge), "{path}");
    }
    // One that does not say so is read no further than it may be.
    let endless = futures_util::stream::repeat_with(|| Ok::<_, std::io::Error>(Bytes::from(vec![b' '; 1 << 20])));
    let answer = service.send_body("/recall", "application/json", Body::from_stream(endless)).await;
    assert_eq!(problem(answer).await.0, 413);
}

#[tokio::test]
async fn a_cursor_goes_on_with_its_own_list_only() {
    let service = Answering::new().await;
    for text in ["lamp 1", "lamp 2", "owl", "lamp 3"] {
        service.device.copy(text).await;
    }
    let page = async |path: String| {
        let bearer = format!("Bearer {}", service.token);
        let answer = service.send("GET", &format!("/api/v1/clips{path}"), &[("authorization", &bearer)], b"").await;
        let page: yadori_api::ClipPage =
            serde_json::from_slice(&to_bytes(answer.into_body(), 1 << 20).await.unwrap()).unwrap();
        (page.clips.into_iter().map(|clip| clip.preview).collect::<Vec<_>>(), page.next)
    };
    let (first, of_lamps) = page("?q=lamp&limit=1".into()).await;
    let (_, of_all) = page("?limit=1".into()).await;
    let (of_lamps, of_all) = (of_lamps.unwrap(), of_all.unwrap());
    // What is copied in between is not in the way.
    service.device.copy("lamp 4").await;
    let (second, _) = page(format!("?q=lamp&limit=9&cursor={of_lamps}")).await;
    assert_eq!((first, second), (vec!["lamp 3".to_owned()], vec!["lamp 2".to_owned(), "lamp 1".to_owned()]));
    for path in [
        format!("/clips?q=owl&cursor={of_lamps}"),
        format!("/clips?cursor={of_lamps}"),
        format!("/clips?q=lamp&cursor={of_all}"),
    ] {
        assert_eq!(service.problem("GET", &path, "", b"").await, (400, ProblemKind::BadPage), "{path}");
    }
}

#[tokio::test]
async fn headers_say_what_statuses_leave_open() {
    let service = Answering::new().await;
    let bearer = format!("bearer {}", service.token);
    let send = async |method: &str, path: &str, name: &'static str, value: &str, body: &[u8]| {
        let headers = [("authorization", bearer.as_str()), (name, value)];
        service.send(method, &format!("/api/v1{path}"), &headers, body).await
    };
    let answer = service.send("GET", "/api/v1/clips", &[], b"").await;
    assert_eq!(answer.headers()["www-authenticate"], "Bearer realm=\"Yadori\"");
    let events = send("GET", "/events", "last-event-id", "yesterday", b"").await;
    assert_eq!(problem(events).await, (400, ProblemKind::BadRequest));
    let answer = send("PUT", "/clips", "content-type", "text/plain", b"").await;
    assert_eq!(answer.headers()["allow"], "GET,HEAD,POST");
    assert_eq!(problem(answer).await, (405, ProblemKind::WrongMethod));

    let bearer_only = [("authorization", bearer.as_str())];
    let answer = service.send("POST", "/a-page", &bearer_only, b"").await;
    assert_eq!(answer.headers()["allow"], "GET,HEAD");
    assert_eq!(problem(answer).await, (405, ProblemKind::WrongMethod));

    let answer = send("POST", "/clips", "content-type", "text/plain", b"0123456789").await;
    assert_eq!(answer.status(), 201);
    let place = answer.headers()["location"].to_str().unwrap().trim_start_matches("/api/v1").to_owned();
    assert_eq!(send("GET", &place, "accept", "*/*", b"").await.status(), 200);
    assert!(
        !send("POST", "/clips", "content-type", "text/plain", b"0123456789").await.headers().contains_key("location")
    );

    let content = format!("{place}/content");
    let whole = send("GET", &content, "accept", "*/*", b"").await;
    let tag = whole.headers()["etag"].to_str().unwrap().to_owned();
    for same in [tag.clone(), format!("W/{tag}"), "*".into()] {
        let answer = send("GET", &content, "if-none-match", &same, b"").await;
        assert_eq!((answer.status().as_u16(), &answer.headers()["etag"]), (304, &whole.headers()["etag"]), "{same}");
        assert!(answer.headers().contains_key("cache-control"));
    }
    let outside = send("GET", &content, "range", "bytes=10-", b"").await;
    assert_eq!(outside.headers()["content-range"], "bytes */10");
    assert_eq!(problem(outside).await, (416, ProblemKind::BadRange));
    let head = send("HEAD", &content, "range", "bytes=2-4", b"").await;
    assert_eq!((head.status().as_u16(), &head.headers()["content-length"]), (200, &"10".parse().unwrap()));
    let part = async |condition: &str| {
        let headers = [("authorization", bearer.as_str()), ("range", "bytes=2-4"), ("if-range", condition)];
        let answer = service.send("GET", &format!("/api/v1{content}"), &headers, b"").await;
        (answer.status().as_u16(), to_bytes(answer.into_body(), 99).await.unwrap())
    };
    assert_eq!(part(&tag).await, (206, "234".into()));
    assert_eq!(part("\"another\"").await, (200, "0123456789".into()));
}

#[tokio::test]
async fn what_does_not_keep_to_the_protocol_is_refused() {
    let service = Answering::new().await;
    let bearer = format!("Bearer {}", service.token);
    let send = async |path: &str, headers: &[(&str, &str)]| {
        let headers: Vec<_> = [("authorization", bearer.as_str())].into_iter().chain(headers.iter().copied()).collect();
        problem(service.send("POST", path, &headers, b"{}").await).await
    };
    let twice = send("/api/v1/undo", &[("host", "127.0.0.1:7436"), ("content-type", "application/json")]).await;
    assert_eq!(twice, (400, ProblemKind::BadRequest));
    for path in ["http://attacker.test/api/v1/undo", "http://127.0.0.1:80/api/v1/undo"] {
        assert_eq!(send(path, &[("content-type", "application/json")]).await, (421, ProblemKind::WrongHost), "{path}");
    }
    for coding in ["gzip", "br, gzip", "nonsense"] {
        let encoded = send("/api/v1/clips", &[("content-type", "text/plain"), ("content-encoding", coding)]).await;
        assert_eq!(encoded, (415, ProblemKind::Encoded), "{coding}");
    }
    let long = format!("/api/v1/undo?{}", "x".repeat(20_000));
    assert_eq!(send(&long, &[]).await, (414, ProblemKind::LongAddress));
    assert_eq!(send("/api/v1/undo", &[("x-one", &"x".repeat(40_000))]).await, (431, ProblemKind::LargeHeaders));
    assert_eq!(send("/api/v1/undo", &[("x-one", "1"); 101]).await, (431, ProblemKind::LargeHeaders));
    let archive = send("/api/v1/import", &[("content-type", "application/zip")]).await;
    assert_eq!(archive, (422, ProblemKind::NotAnArchive));
    // What is identity is not encoded.
    let plain = [("authorization", bearer.as_str()), ("content-type", "text/plain"), ("content-encoding", "identity")];
    assert_eq!(service.send("POST", "/api/v1/clips", &plain, b"as it is").await.status(), 201);
}

#[tokio::test]
async fn only_what_was_seen_is_changed() {
    let service = Answering::new().await;
    service.device.copy("Gel 201").await;
    let id = service.device.list().await[0].record.id.to_string();
    let bearer = format!("Bearer {}", service.token);
    let send = async |method: &str, path: &str, seen: &str, mime: &str, body: &str| {
        let headers = [("authorization", bearer.as_str()), ("if-match", seen), ("content-type", mime)];
        let headers = if seen.is_empty() { vec![headers[0], headers[2]] } else { headers.to_vec() };
        service.send(method, &format!("/api/v1{path}"), &headers, body.as_bytes()).await
    };
    let tag = |answer: &Response<Body>| answer.headers()["etag"].to_str().unwrap().to_owned();
    let clip = format!("/clips/{id}");
    let seen = tag(&send("GET", &clip, "", "", "").await);
    // Use of it, and other copies, change nothing that a change could overwrite.
    service.device.copy("another").await;
    service.device.copy("Gel 201").await;
    assert_eq!(tag(&send("GET", &clip, "", "", "").await), seen);
    let json = "application/json";
    let first = send("PATCH", &clip, &seen, json, r#"{"title": "first tab"}"#).await;
    assert_eq!(first.status(), 200);
    let after = tag(&first);
    let second = send("PATCH", &clip, &seen, json, r#"{"title": "second tab"}"#).await;
    assert_eq!(tag(&second), after);
    assert_eq!(problem(second).await, (412, ProblemKind::NotAsSeen));
    let text = send("PUT", &format!("{clip}/text"), &seen, "text/plain", "Gel 202").await;
    assert_eq!(problem(text).await, (412, ProblemKind::NotAsSeen));
    // A weak tag is not enough; any is, if it is there.
    assert_eq!(send("PATCH", &clip, &format!("W/{after}"), json, r#"{"mark": "fern"}"#).await.status(), 412);
    assert_eq!(send("PATCH", &clip, "*", json, r#"{"mark": "fern"}"#).await.status(), 200);
    assert_eq!(send("PATCH", "/clips/9", "*", json, r#"{"mark": "fern"}"#).await.status(), 404);
    for mime in ["", "application/json", "text/html", "text/plain; charset=latin1"] {
        let answer = send("PUT", &format!("{clip}/text"), "", mime, "Gel 203").await;
        assert_eq!(problem(answer).await, (415, ProblemKind::WrongType), "{mime}");
    }
    assert_eq!(send("PUT", &format!("{clip}/text"), "", "text/plain; charset=UTF-8", "Gel 203").await.status(), 200);

    for (path, change) in [("/rules", r#"{"repeat_millis": 700}"#), ("/sync/policy", r#"{"follow": true}"#)] {
        let seen = tag(&send("GET", path, "", "", "").await);
        assert_eq!(send("PATCH", path, &seen, json, change).await.status(), 200, "{path}");
        assert_eq!(send("PATCH", path, &seen, json, change).await.status(), 412, "{path}");
    }
    assert_eq!(send("POST", "/drawers", "", json, r#"{"name": "Venues"}"#).await.status(), 201);
    let drawer = tag(&send("GET", "/drawers/Venues", "", "", "").await);
    assert_eq!(send("POST", "/drawers/Venues/put", "", json, r#"{"clips": ["1"]}"#).await.status(), 200);
    assert_eq!(send("DELETE", "/drawers/Venues", &drawer, "", "").await.status(), 412);
    let known = [("authorization", bearer.as_str()), ("if-none-match", &drawer)];
    assert_eq!(service.send("GET", "/api/v1/drawers/Venues", &known, b"").await.status(), 200);
    let drawer = tag(&send("GET", "/drawers/Venues", "", "", "").await);
    let known = [("authorization", bearer.as_str()), ("if-none-match", &drawer)];
    let same = service.send("GET", "/api/v1/drawers/Venues", &known, b"").await;
    assert_eq!((same.status().as_u16(), tag(&same)), (304, drawer.clone()));
    assert_eq!(send("DELETE", "/drawers/Venues", &drawer, "", "").await.status(), 200);
}

#[tokio::test]
async fn what_adds_adds_once_however_often_it_is_sent() {
    let service = Answering::new().await;
    let bearer = format!("Bearer {}", service.token);
    let send = async |path: &str, key: &str, mime: &str, body: &str| {
        let headers = [("authorization", bearer.as_str()), ("idempotency-key", key), ("content-type", mime)];
        let (parts, body) =
            service.send("POST", &format!("/api/v1{path}"), &headers, body.as_bytes()).await.into_parts();
        (parts.status.as_u16(), to_bytes(body, 1 << 20).await.unwrap(), parts.headers)
    };
    let first = send("/clips", "a", "text/plain", "once").await;
    let again = send("/clips", "a", "text/plain", "once").await;
    assert_eq!(first.0, 201);
    assert_eq!((first.0, &first.1, &first.2["location"]), (again.0, &again.1, &again.2["location"]));
    assert_eq!(send("/clips", "a", "text/plain", "twice").await.0, 422);
    assert_eq!(send("/clips", "b", "text/plain", "once").await.0, 200, "another request");
    let venues = r#"{"name": "Venues"}"#;
    let sent = tokio::join!(
        send("/drawers", "c", "application/json", venues),
        send("/drawers", "c", "application/json", venues),
        send("/drawers", "c", "application/json", venues)
    );
    assert_eq!((sent.0.0, sent.1.0, sent.2.0), (201, 201, 201));
    assert_eq!(send("/drawers", "d", "application/json", venues).await.0, 409);
    // What failed may be sent again with the same key.
    assert_eq!(send("/drawers", "d", "application/json", r#"{"name": "Venues 2"}"#).await.0, 201);
    for key in ["", &"k".repeat(256)] {
        assert_eq!(send("/clips", key, "text/plain", "x").await.0, 400);
    }
    // A second place in the tray is wanted, unless it is the same request.
    for (key, places) in [("e", 1), ("e", 1), ("f", 2)] {
        let (status, body, _) = send("/tray/add", key, "application/json", r#"{"clips": ["1"]}"#).await;
        let tray: yadori_api::Tray = serde_json::from_slice(&body).unwrap();
        assert_eq!((status, tray.items.len()), (200, places), "{key}");
    }
}

#[tokio::test]
async fn large_text_is_compressed_for_who_takes_it() {
    let service = Answering::new().await;
    let bearer = format!("Bearer {}", service.token);
    let text = [("authorization", bearer.as_str()), ("content-type", "text/plain")];
    let body = "All the world is a stage. ".repeat(1000);
    assert_eq!(service.send("POST", "/api/v1/clips", &text, body.as_bytes()).await.status(), 201);
    let get = async |path: &str, more: &[(&str, &str)]| {
        let headers: Vec<_> = [("authorization", bearer.as_str())].into_iter().chain(more.iter().copied()).collect();
        let (parts, body) = service.send("GET", &format!("/api/v1{path}"), &headers, b"").await.into_parts();
        (parts.status.as_u16(), parts.headers, to_bytes(body, 1 << 20).await.unwrap())
    };
    let gzip = ("accept-encoding", "gzip, br");
    let (_, headers, plain) = get("/clips/1/content", &[]).await;
    let (_, compressed_headers, compressed) = get("/clips/1/content", &[gzip]).await;
    assert!(!headers.contains_key("content-encoding") && plain.len() == 26_000);
    assert!(compressed_headers["content-encoding"] == "gzip" && compressed.len() < 2_000);
    assert_eq!(compressed_headers["vary"], "accept-encoding");
    let (plain_tag, tag) = (headers["etag"].to_str().unwrap(), compressed_headers["etag"].to_str().unwrap());
    assert_ne!(plain_tag, tag, "other bytes, another tag");
    assert_eq!(get("/clips/1/content", &[gzip, ("if-none-match", tag)]).await.0, 304);
    // A part is one of the content as it is.
    let part = get("/clips/1/content", &[gzip, ("range", "bytes=0-9999")]).await;
    assert!(part.0 == 206 && part.2.len() == 10_000 && !part.1.contains_key("content-encoding"));
    // A change may name either.
    let (_, headers, _) = get("/clips/1", &[gzip]).await;
    assert_eq!(headers["content-encoding"], "gzip");
    let seen = [
        ("authorization", bearer.as_str()),
        ("if-match", headers["etag"].to_str().unwrap()),
        ("content-type", "application/json"),
    ];
    assert_eq!(service.send("PATCH", "/api/v1/clips/1", &seen, b"{\"mark\":\"fern\"}").await.status(), 200);
    // What is small is not worth it.
    assert!(!get("/pins", &[gzip]).await.1.contains_key("content-encoding"));
}
