//! What goes: by the rules, by a person's word, and for good.

use serde_json::{Value, json};
use yadori_api::{Bin, CaptureState, Cleared, Clip, Step, SweepPreview};
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::service::{Service, command};
use yadori_e2e::waiting::until;

fn service() -> (Home, Service) {
    let home = Home::new();
    let service = Service::simulated(&home);
    (home, service)
}

/// Adds a clip as if it had been copied so many days ago.
fn add_old(service: &Service, text: &str, days: i64, app: &str) {
    let at = (jiff::Timestamp::now() - jiff::SignedDuration::from_hours(24 * days)).to_string();
    service.run(&["add", text, "--at", &at, "--app", app]);
}

fn copy(service: &Service, text: &str, app: &str) {
    let copied = json!({ "formats": [{ "mime": "text/plain", "text": text }], "source": { "application": app } });
    assert_eq!(service.post("/simulated/copy", &copied).status, 204);
}

fn previews(clips: &[Clip]) -> Vec<&str> {
    clips.iter().map(|clip| clip.preview.as_str()).collect()
}

fn bin(service: &Service) -> Bin {
    service.get("/bin").json()
}

/// Waits until the history has so many clips.
fn wait_for(service: &Service, clips: usize) {
    let mut events = service.events(None);
    while service.clips(&["list", "-n", "200"]).len() != clips {
        events.any();
    }
}

#[test]
fn the_rules_sweep_what_is_too_old_or_too_many_and_never_what_is_kept() {
    let (_home, service) = service();
    service.run(&["rules", "set", "age", "off"]);
    for (text, days) in [("pinned", 400), ("ancient", 300), ("old", 50), ("recent", 2), ("new", 0)] {
        add_old(&service, text, days, "Writer");
    }
    service.run(&["pin", "5"]);
    let preview: SweepPreview =
        serde_json::from_str(&service.run(&["rules", "preview", "age", "90d", "--json"])).unwrap();
    assert_eq!((preview.count, preview.kept, preview.first[0].clip.preview.as_str()), (1, 1, "ancient"));
    assert_eq!(preview.first[0].rule, "too old");
    assert_eq!(service.clips(&["list"]).len(), 5, "a preview takes nothing");
    service.run(&["rules", "set", "age", "90d"]);
    wait_for(&service, 4);
    let binned = bin(&service);
    assert_eq!((binned.clips[0].clip.preview.as_str(), binned.clips[0].how.as_str()), ("ancient", "swept"));
    service.run(&["rules", "set", "count", "2"]);
    wait_for(&service, 3);
    assert_eq!(previews(&service.clips(&["list"])), ["new", "recent", "pinned"]);
    // The next copy pushes the oldest one out by itself.
    copy(&service, "newest", "Writer");
    let mut events = service.events(None);
    while bin(&service).total != 3 {
        events.any();
    }
    assert_eq!(previews(&service.clips(&["list"])), ["newest", "new", "pinned"]);
    let (_, said) = service.fail(&["bin", "restore", "99"]);
    assert!(said.contains("no clip 99 in the bin") && said.contains("yadori bin"), "{said}");
    let (_, said) = service.fail(&["undo", "--step", "99"]);
    assert!(said.contains("no step 99") && said.contains("yadori undo --list"), "{said}");
    assert_eq!(service.run(&["bin", "restore", "1"]), "Restored: text “recent”\n");
}

#[test]
fn a_sweep_of_more_than_half_is_asked_about_first() {
    let (_home, service) = service();
    service.run(&["rules", "set", "age", "off"]);
    for number in 0..30 {
        add_old(&service, &format!("old {number}"), 200, "Writer");
    }
    add_old(&service, "new", 0, "Writer");
    let (code, said) = service.fail(&["rules", "set", "age", "90d"]);
    assert!(code == 2 && said.contains("This removes 30 of 31 clips") && said.contains("--yes"), "{said}");
    assert_eq!(service.patch("/rules", &json!({ "limits": { "count": 5 } })).status, 409);
    let confirmed = service.patch("/rules", &json!({ "limits": { "age_seconds": 7_776_000 }, "confirmed": true }));
    assert_eq!(confirmed.status, 200);
    wait_for(&service, 1);
    assert_eq!(bin(&service).total, 30);
}

#[test]
fn a_sweep_that_comes_due_and_would_take_more_than_half_is_held_until_a_word() {
    let (_home, service) = service();
    for number in 0..30 {
        add_old(&service, &format!("old {number}"), 1, "Writer");
    }
    service.run(&["clear", "--yes"]);
    // Brought back, they all count from the same moment.
    service.run(&["undo"]);
    let mut events = service.events(None);
    assert_eq!(service.patch("/rules", &json!({ "limits": { "age_seconds": 10 } })).status, 200);
    while service.status().due.held == 0 {
        events.wait("status", |_| true);
    }
    let told = service.run(&["status"]);
    assert!(told.contains("would delete 30 clips") && told.contains("yadori rules sweep"), "{told}");
    assert_eq!(service.clips(&["list", "-n", "50"]).len(), 30, "nothing has gone");
    assert_eq!(service.fail(&["rules", "sweep"]).0, 2);
    assert!(service.run(&["rules", "sweep", "--yes"]).ends_with("Moved 30 clips to the bin\n"));
    assert_eq!((service.clips(&["list"]).len(), service.status().due.held), (0, 0));
}

#[test]
fn secrets_go_for_good_unless_they_are_kept() {
    let (_home, service) = service();
    service.run(&["add", "password: kestrel-lane-9", "--pin"]);
    let mut events = service.events(None);
    copy(&service, "password: another-one-77", "Writer");
    events.copied("");
    service.run(&["rules", "set", "sensitive", "1s"]);
    wait_for(&service, 1);
    assert_eq!((bin(&service).total, service.clips(&["list"])[0].pinned), (0, true));
}

#[test]
fn capture_rules_leave_out_kinds_applications_patterns_and_repeats() {
    let (_home, service) = service();
    let mut events = service.events(None);
    service.run(&["rules", "ignore", "--app", "safe box"]);
    service.run(&["rules", "ignore", "--pattern", "(?i)^draft"]);
    service.run(&["rules", "set", "kinds", "text"]);
    service.run(&["rules", "set", "repeats", "1m"]);
    copy(&service, "hidden", "Safe Box");
    copy(&service, "DRAFT of cue 7", "Writer");
    copy(&service, "https://example.org", "Writer");
    copy(&service, "kept", "Writer");
    copy(&service, "kept", "Writer");
    copy(&service, "last", "Writer");
    events.copied("last");
    let clips = service.clips(&["list"]);
    assert_eq!((previews(&clips), clips[1].copies), (vec!["last", "kept"], 1));
    let mut reasons: Vec<String> =
        service.status().refused.into_iter().map(|refused| refused.reason.word().to_owned()).collect();
    reasons.sort();
    assert_eq!(reasons, ["application", "kind", "pattern", "repeat"]);

    assert!(
        service
            .run(&["rules", "test", "Draft 2"])
            .contains("would not be captured: the rules ignore text that matches")
    );
    assert!(service.run(&["rules", "test", "hello", "--app", "SAFE BOX"]).contains("would not be captured"));
    assert!(service.run(&["rules", "test", "hello"]).contains("would be captured as text"));
    service.run(&["rules", "unignore", "--app", "Safe Box"]);
    assert_eq!(service.fail(&["rules", "unignore", "--app", "Safe Box"]).0, 1);
    assert_eq!(service.fail(&["rules", "ignore", "--pattern", "("]).0, 2);
    // What the person asks for is kept whatever the rules say.
    service.run(&["add", "Draft by hand"]);
    service.run(&["rules", "set", "history", "off", "--clear", "--yes"]);
    assert!(service.clips(&["list"]).is_empty());
    copy(&service, "unseen", "Writer");
    let mut events = service.events(None);
    while !service.status().refused.iter().any(|refused| refused.reason.word() == "off") {
        events.wait("status", |_| true);
    }
    assert_eq!(service.run(&["undo"]), "Restored: 3 clips\n");
}

#[test]
fn a_slice_is_counted_asked_about_cleared_and_brought_back() {
    let (_home, service) = service();
    for (text, days, app) in
        [("old words", 20, "Writer"), ("https://example.org/a", 10, "Browser"), ("new words", 0, "Browser")]
    {
        add_old(&service, text, days, app);
    }
    service.run(&["pin", "3"]);
    assert_eq!(
        service.run(&["clear", "--older", "5d", "--dry-run"]),
        "This would remove 1 clip (21 B); 1 kept clip stays.\n"
    );
    let (code, said) = service.fail(&["clear"]);
    assert!(code == 2 && said.contains("--yes") && said.contains("2 clips"), "{said}");
    service.run(&["clear", "--app", "browser", "--kind", "link", "--yes"]);
    assert_eq!(previews(&service.clips(&["list"])), ["new words", "old words"]);
    let changed = service.post("/clear", &json!({ "all": true, "expected": 9 }));
    assert_eq!(changed.status, 409, "not what the person was told");
    service.run(&["clear", "--yes"]);
    service.run(&["delete", "1", "--yes"]);
    let steps: Vec<Step> = serde_json::from_str(&service.run(&["undo", "--list", "--json"])).unwrap();
    assert_eq!(steps.iter().map(|step| step.what.as_str()).collect::<Vec<_>>(), ["delete", "clear", "clear"]);
    service.run(&["undo", "--step", &steps[2].step.to_string()]);
    assert_eq!(previews(&service.clips(&["list"])), ["example.org/a"], "any step can be undone");
    service.run(&["undo"]);
    service.run(&["undo"]);
    assert_eq!(service.clips(&["list"]).len(), 3);
    assert_eq!(service.fail(&["undo"]).0, 1);
    // Undone from the latest backwards, they are redone from the first on.
    service.run(&["redo"]);
    assert_eq!(previews(&service.clips(&["list"])), ["new words", "old words"]);
    service.run(&["redo"]);
    assert_eq!(previews(&service.clips(&["list"])), ["old words"]);
    service.run(&["undo"]);
    service.run(&["delete", "2"]);
    let (code, said) = service.fail(&["redo"]);
    assert!(code == 1 && said.contains("nothing to redo"), "{said}");
    assert_eq!(service.fail(&["clear", "--older", "soon"]).0, 2);
}

#[test]
fn clearing_many_is_said_at_once_while_copies_go_on() {
    let home = Home::new();
    let service = Service::simulated(&home);
    for number in 0..600 {
        let answer = service.request(
            "POST",
            "/clips",
            &[("authorization", &service.bearer()), ("content-type", "text/plain")],
            format!("clip {number}").as_bytes(),
        );
        assert!(answer.status < 300);
    }
    let names: Vec<String> = (1..=300).map(|number| number.to_string()).collect();
    assert_eq!(service.post("/delete", &json!({ "clips": names })).status, 200);
    assert_eq!(service.status().count, 300, "so it is with many that are named");
    service.run(&["undo"]);
    let cleared: Cleared = service.post("/clear", &json!({ "all": true })).json();
    assert_eq!((cleared.count, cleared.left), (600, 0));
    assert!(service.clips(&["list"]).is_empty(), "the history is clear before the last clip is");
    let mut events = service.events(None);
    copy(&service, "meanwhile", "Writer");
    events.copied("meanwhile");
    // Undone before the last clip was written to, all are back; cleared again, and cut off at once, it is carried on at
    // the next start.
    assert_eq!(service.run(&["undo"]), "Restored: 600 clips\n");
    assert_eq!(service.clips(&["list", "-n", "1000"]).len(), 601);
    service.run(&["clear", "--app", "nobody", "--yes"]);
    service.run(&["pin", "1"]);
    service.run(&["clear", "--yes"]);
    service.kill();
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    assert_eq!(previews(&service.clips(&["list"])), ["meanwhile"]);
    assert_eq!(service.run(&["undo"]), "Restored: 600 clips\n");
    assert_eq!(service.status().count, 601);
}

#[test]
fn what_is_forgotten_for_good_is_in_no_file_any_more() {
    let home = Home::plain();
    let service = Service::simulated(&home);
    let marker = format!("kestrel-{}", "forgotten-words-of-the-lantern");
    let title = "a-title-that-goes-too";
    service.run(&["add", &marker, "--title", title]);
    let long = format!("{} {marker}", "x".repeat(200_000));
    assert!(service.run_with(&["add"], long.as_bytes()).status.success());
    service.run(&["add", "this stays"]);
    assert_eq!(service.fail(&["delete", "2", "3", "--for-good"]).0, 2, "nobody was asked");
    service.run(&["delete", "3", "--for-good", "--yes"]);
    service.run(&["delete", "2", "--yes"]);
    service.run(&["bin", "empty", "--yes"]);
    assert!(service.clips(&["find", "forgotten"]).is_empty());
    assert_eq!(service.fail(&["undo"]).0, 1);
    assert_eq!(bin(&service).total, 0);
    let (well, log) = service.end();
    assert!(well && !log.contains("does not write over"), "{log}");
    let found = home.files_with(&[marker.as_bytes(), title.as_bytes()]);
    assert!(found.is_empty(), "still in {found:?}");
    assert!(!home.files_with(&[b"this stays"]).is_empty(), "it would be found if it were there");
}

#[test]
fn a_session_is_forgotten_at_its_end_if_that_is_wanted() {
    let home = Home::new();
    let service = Service::simulated(&home);
    service.run(&["rules", "set", "log-out", "forget"]);
    service.run(&["add", "of this session"]);
    service.run(&["add", "kept", "--pin"]);
    assert!(service.end().0);
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    assert_eq!(previews(&service.clips(&["list"])), ["kept"]);
    assert_eq!(bin(&service).total, 0);
}

#[test]
fn where_nobody_else_ends_the_service_at_log_out_it_ends_with_the_desktop() {
    let (home, display) = (Home::new(), Display::start_apart());
    let mut with_session = command(home.path(), "x11", Some(display.name()));
    with_session.arg("--session");
    let service = Service::start(home.path(), with_session);
    service.run(&["rules", "set", "log-out", "forget"]);
    service.run(&["add", "of this session"]);
    // A desktop that comes back is none that is gone.
    let display = display.crash()();
    service.wait_for_log("there is no clipboard");
    until("the desktop is back", || service.status().capture.state == CaptureState::On);
    drop(display);
    let (well, log) = service.ended();
    assert!(well && log.contains("the desktop is gone"), "{log}");
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    assert!(service.clips(&["list"]).is_empty());
}

#[test]
fn the_figures_add_up() {
    let (_home, service) = service();
    for text in ["one", "two", "three"] {
        let mut events = service.events(None);
        copy(&service, text, "Writer");
        events.copied(text);
    }
    service.run(&["recall", "1"]);
    service.run(&["delete", "3", "--yes"]);
    let stats: Value = serde_json::from_str(&service.run(&["stats", "--json"])).unwrap();
    let today = stats["days"].as_array().unwrap().last().unwrap();
    assert_eq!((&today["captured"], &today["recalled"], &today["cleared"]), (&json!(3), &json!(1), &json!(1)));
    assert_eq!((&stats["count"], &stats["in_bin"], &stats["saved"]["switches"]), (&json!(2), &json!(1), &json!(2)));
    assert_eq!(stats["applications"][0]["name"], "Writer");
    assert_eq!(stats["most_used"][0]["preview"], "three");
    assert!(service.run(&["stats"]).contains("Day by day"));
    assert_eq!(service.get("/stats?days=0").status, 400);
    let status = service.run(&["status"]);
    assert!(
        status.contains("2 of 2,000 clips") && status.contains("of 1 GiB") && status.contains("log-in"),
        "{status}"
    );
}
