//! What a person keeps: pins, drawers, attributes, aliases; and what they make of clips.

use serde_json::Value;
use yadori_api::{Clip, DrawerContents};
use yadori_e2e::home::Home;
use yadori_e2e::service::{Service, command};

fn service() -> (Home, Service) {
    let home = Home::new();
    let service = Service::simulated(&home);
    (home, service)
}

fn add(service: &Service, texts: &[&str]) {
    for text in texts {
        service.run(&["add", text]);
    }
}

fn previews(clips: &[Clip]) -> Vec<&str> {
    clips.iter().map(|clip| clip.preview.as_str()).collect()
}

fn paste(service: &Service) -> String {
    service.get("/simulated/paste?format=text/plain").text()
}

#[test]
fn pins_stay_where_they_are_while_the_history_moves() {
    let (home, service) = service();
    add(&service, &["lamp", "gel", "rope"]);
    assert_eq!(service.run(&["pin", "3"]), "Pinned text “lamp”\n");
    service.run(&["pin", "2", "1"]);
    assert_eq!(previews(&service.clips(&["list", "--pinned"])), ["lamp", "gel", "rope"]);
    service.run(&["pin", "p3", "--at", "1"]);
    add(&service, &["tape"]);
    assert_eq!(previews(&service.clips(&["list", "--pinned"])), ["rope", "lamp", "gel"]);
    service.run(&["recall", "p2"]);
    assert_eq!(paste(&service), "lamp");

    service.run(&["clear", "--yes"]);
    assert_eq!(previews(&service.clips(&["list"])), ["rope", "gel", "lamp"], "the history keeps its own order");
    assert!(service.end().0);
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    assert_eq!(previews(&service.clips(&["list", "--pinned"])), ["rope", "lamp", "gel"]);
    service.run(&["unpin", "p1"]);
    assert_eq!(service.fail(&["unpin", "1"]).0, 1);
    assert_eq!(previews(&service.clips(&["find", "is:pinned"])), ["gel", "lamp"]);
    assert_eq!(service.fail(&["show", "p9"]).0, 4);
}

#[test]
fn a_drawer_is_made_filled_arranged_renamed_searched_and_removed() {
    let (_home, service) = service();
    add(&service, &["Cue 3", "Cue 1", "Cue 2", "elsewhere"]);
    assert_eq!(service.run(&["drawer", "new", "Cues"]), "Made the drawer Cues\n");
    assert_eq!(service.fail(&["drawer", "new", "cues"]).0, 1, "letter case makes no other drawer");
    service.run(&["drawer", "put", "cues", "4", "3", "2"]);
    let listed = |name: &str| -> DrawerContents {
        serde_json::from_str(&service.run(&["drawer", "list", name, "--json"])).unwrap()
    };
    let lines = |drawer: DrawerContents| -> Vec<String> {
        let line = |item: yadori_api::DrawerItem| item.heading.or(item.clip.map(|clip| clip.preview)).unwrap();
        drawer.items.into_iter().map(line).collect()
    };
    assert_eq!(lines(listed("cues")), ["Cue 3", "Cue 1", "Cue 2"]);
    service.run(&["drawer", "sort", "cues"]);
    service.run(&["drawer", "heading", "cues", "Act", "one", "--at", "1"]);
    service.run(&["drawer", "move", "cues", "4", "2"]);
    assert_eq!(lines(listed("cues")), ["Act one", "Cue 3", "Cue 1", "Cue 2"]);
    service.run(&["drawer", "rename", "cues", "Cue list"]);
    assert_eq!(service.clips(&["find", "drawer:\"cue list\"", "1"]).len(), 1);
    assert_eq!(
        service.run(&["tray", "pour", "--drawer", "cue list", "--join", "tab"]),
        "On the clipboard, joined: 3 clips\n"
    );
    assert_eq!(paste(&service), "Cue 3\tCue 1\tCue 2");
    assert_eq!(service.run(&["tray", "add", "--drawer", "cue list"]), "Added 3 clips; the tray holds 3\n");

    service.run(&["drawer", "new", "Other"]);
    service.run(&["drawer", "put", "other", "1"]);
    service.run(&["clear", "--yes"]);
    assert_eq!(service.clips(&["list"]).len(), 4, "what lies in a drawer is kept");
    let removed = service.run(&["drawer", "remove", "cue list", "--into", "other"]);
    assert_eq!(removed, "Removed the drawer Cue list; 3 clips are in other now\n");
    assert_eq!(lines(listed("other")), ["elsewhere", "Cue 3", "Cue 1", "Cue 2"]);
    assert!(service.fail(&["drawer", "remove", "other"]).1.contains("4 clips in it will no longer be kept"));
    service.run(&["drawer", "remove", "other", "--yes"]);
    assert_eq!(service.clips(&["list"]).len(), 4, "never away");
    assert!(service.clips(&["find", "is:kept"]).is_empty());
    assert_eq!(service.fail(&["drawer", "list", "other"]).0, 1);
    assert_eq!(service.fail(&["drawer", "new", ""]).0, 2);
    assert_eq!(service.fail(&["drawer", "new", &"x".repeat(10_000)]).0, 2);
}

#[test]
fn attributes_are_given_shown_searched_and_taken_away() {
    let (_home, service) = service();
    add(&service, &["+1 555 0101", "Kestrel Lane Puppets"]);
    service.run(&["title", "2", "Mill", "Row"]);
    service.run(&["mark", "2", "fern"]);
    assert_eq!(
        service.run(&["alias", "set", ":Mill", "2"]),
        ":mill stands for text “Mill Row”, pinned so that it stays\n"
    );
    let clip = service.clips(&["find", ":mill"]).remove(0);
    assert_eq!((clip.title.as_deref(), clip.alias.as_deref(), clip.pinned), (Some("Mill Row"), Some("mill"), true));
    assert!(service.run(&["list"]).contains("Mill Row: +1 555 0101  (:mill, pinned, fern)"));
    service.run(&["recall", ":MILL"]);
    assert_eq!(paste(&service), "+1 555 0101");

    let (code, said) = service.fail(&["alias", "set", "mill", "1"]);
    assert!(code == 1 && said.contains("Mill Row") && said.contains("--take"), "{said}");
    service.run(&["alias", "set", "mill", "1", "--take"]);
    service.run(&["recall", ":mill"]);
    assert_eq!(paste(&service), "Kestrel Lane Puppets");
    service.run(&["alias", "remove", "mill"]);
    assert_eq!(service.fail(&["recall", ":mill"]).0, 4);
    assert_eq!(service.fail(&["title", "1", &"x".repeat(100_000)]).0, 2);
    service.run(&["title", "2"]);
    assert_eq!(service.clips(&["list"])[1].title, None);
    // A name that would steer the terminal is never printed as it is.
    service.run(&["title", "1", "a\u{1b}[2J\u{202e}b"]);
    assert!(!service.run(&["list"]).contains(['\u{1b}', '\u{202e}']));
}

#[test]
fn a_clip_by_hand_goes_straight_to_where_it_is_kept() {
    let (_home, service) = service();
    service.run(&["drawer", "new", "Replies"]);
    let added = service.run_with(
        &["add", "--drawer", "replies", "--alias", "sorry", "--mark", "plum", "--title", "No"],
        b"We are sorry",
    );
    assert!(added.status.success());
    let clip = service.clips(&["list"]).remove(0);
    assert_eq!((clip.drawer.as_deref(), clip.alias.as_deref(), clip.pinned), (Some("Replies"), Some("sorry"), false));
    assert_eq!(service.fail(&["add", "x", "--drawer", "nowhere"]).0, 1);
    assert_eq!(service.fail(&["add", "x", "--alias", "sorry"]).0, 1);
    assert_eq!(service.clips(&["list"]).len(), 1, "nothing is half done");
}

#[test]
fn placeholders_and_aliases_are_filled_in() {
    let (_home, service) = service();
    service.run(&["add", "Kestrel Lane", "--alias", "sig"]);
    service.run(&["add", "Dear {ask:Name}, {ask:Word=fine}. {none}", "--alias", "dear", "--fill"]);
    let (code, said) = service.fail(&["recall", ":dear"]);
    assert!(code == 1 && said.contains("Name") && said.contains("--answer"), "{said}");
    service.run(&["recall", ":dear", "--answer", "Name=Ada"]);
    assert_eq!(paste(&service), "Dear Ada, fine. {none}");
    // A misspelt name is no answer.
    let (code, said) = service.fail(&["recall", ":dear", "--answer", "Name=Ada", "--answer", "Wrod=well"]);
    assert!(code == 2 && said.contains("“Wrod”") && said.contains("Name, Word"), "{said}");
    // At a terminal everything is asked, with the usual answer to be taken by a bare Enter.
    let asked = service.at_a_terminal(&["recall", ":dear"], "Bo\n\n");
    assert!(asked.contains("Name: ") && asked.contains("Word [fine]: "), "{asked}");
    assert_eq!(paste(&service), "Dear Bo, fine. {none}");
    service.run(&["recall", ":dear", "--no-fill"]);
    assert_eq!(paste(&service), "Dear {ask:Name}, {ask:Word=fine}. {none}");
    service.run(&["fill", ":dear", "off"]);
    service.run(&["recall", ":dear"]);
    assert_eq!(paste(&service), "Dear {ask:Name}, {ask:Word=fine}. {none}");

    let text = "at 10:30 :sig\n::sig :nope";
    let output = service.run_with(&["expand"], text.as_bytes());
    assert_eq!(String::from_utf8_lossy(&output.stdout), "at 10:30 Kestrel Lane\n:sig :nope");
    assert_eq!(service.run_with(&["expand", "--strict"], text.as_bytes()).status.code(), Some(1));
}

#[test]
fn several_clips_are_joined_and_what_does_not_fit_is_named() {
    let (_home, service) = service();
    add(&service, &["a", "b"]);
    service.run(&["add", "--path", "/etc/hostname"]);
    service.run(&["add", "--path", "/etc/hosts"]);
    let html = service.request(
        "POST",
        "/clips",
        &[("authorization", &service.bearer()), ("content-type", "text/html")],
        b"<b>bold</b> & plain",
    );
    assert!(html.status < 300);
    service.run(&["recall", "1"]);
    assert_eq!(paste(&service), "bold & plain");
    assert_eq!(service.get("/simulated/paste?format=text/html").text(), "<b>bold</b> & plain");
    let (code, said) = service.fail(&["recall", "5", "4", "2"]);
    assert!(code == 1 && said.contains("2 (files)"), "{said}");
    service.run(&["recall", "5", "4", "2", "--join", "comma", "--skip-others"]);
    assert_eq!(paste(&service), "a, b");
    service.run(&["recall", "1", "5", "--join", "tab"]);
    assert_eq!(paste(&service), "bold & plain\ta");
    let markup = service.get("/simulated/paste?format=text/html").text();
    assert_eq!(markup, "<table><tr><td><b>bold</b> & plain</td><td>a</td></tr></table>");
    service.run(&["recall", "2", "3"]);
    assert_eq!(
        service.get("/simulated/paste?format=text/uri-list").text(),
        "file:///etc/hosts\r\nfile:///etc/hostname\r\n"
    );
    service.run(&["recall", "5", "4", "--reshape", "upper", "--join", "-"]);
    assert_eq!(paste(&service), "A-B");
}

#[test]
fn an_edit_takes_the_place_of_the_old_clip_and_loses_nothing() {
    let (_home, service) = service();
    add(&service, &["Cue 7 fades", "newer"]);
    service.run(&["title", "2", "Cue"]);
    service.run(&["pin", "2"]);
    service.run(&["alias", "set", "cue", "2"]);
    assert_eq!(service.run(&["edit", ":cue", "Cue 7 snaps"]), "Changed: text “Cue”\n");
    let clips = service.clips(&["list"]);
    assert_eq!(previews(&clips), ["newer", "Cue 7 snaps"]);
    assert_eq!(
        (clips[1].pinned, clips[1].alias.as_deref(), clips[1].title.as_deref()),
        (true, Some("cue"), Some("Cue"))
    );
    assert!(service.run(&["bin"]).contains("Cue 7 fades"));
    service.run(&["undo"]);
    let clips = service.clips(&["list"]);
    assert_eq!((clips[1].preview.as_str(), clips[1].alias.as_deref()), ("Cue 7 fades", Some("cue")));
    assert_eq!(service.run(&["redo"]), "Edited again: text “Cue”. Undo with: yadori undo\n");
    let clips = service.clips(&["list"]);
    assert_eq!(
        (clips[1].preview.as_str(), clips[1].pinned, clips[1].alias.as_deref()),
        ("Cue 7 snaps", true, Some("cue"))
    );
    service.run(&["undo"]);
    let clips = service.clips(&["list"]);
    assert_eq!((clips[1].preview.as_str(), clips[1].pinned), ("Cue 7 fades", true));

    // Copied once more while it was being edited: both stay.
    let id = clips[1].id.clone();
    add(&service, &["Cue 7 fades"]);
    let edited = service.request(
        "PUT",
        &format!("/clips/{id}/text?copies=1"),
        &[("authorization", &service.bearer()), ("content-type", "text/plain")],
        "Cue 7 snaps twice".as_bytes(),
    );
    assert_eq!(edited.json::<Value>()["old_stays"], true);
    assert_eq!(service.clips(&["find", "cue 7"]).len(), 2);
    // The editor that is set is opened with the text; what it leaves is the new text.
    let mut client = yadori_e2e::service::client(service.home());
    let done = client.args(["edit", ":cue"]).env("EDITOR", "sed -i s/twice/thrice/").output().unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    assert_eq!(service.clips(&["find", "thrice"]).len(), 1);
}

#[test]
fn a_clip_is_reshaped_in_its_place_or_only_shown() {
    let (_home, service) = service();
    add(&service, &["2. lamp \n1. gel\n2. lamp "]);
    let shown = service.run(&["reshape", "1", "unlist", "trim,unique,sort", "--dry-run"]);
    assert!(shown.ends_with("after\ngel\nlamp\n"), "{shown}");
    assert_eq!(service.clips(&["list"])[0].lines, Some(3), "only shown");
    service.run(&["reshape", "1", "upper"]);
    assert_eq!(previews(&service.clips(&["list"])), ["2. LAMP 1. GEL 2. LAMP"]);
    assert_eq!(service.fail(&["reshape", "1", "uper"]).0, 2);
    assert_eq!(service.fail(&["reshape", "1", "json"]).0, 1);
    assert!(service.run(&["reshape", "--list"]).lines().count() > 20);
}

#[test]
fn a_short_text_is_shown_as_a_code_for_a_phone() {
    let (_home, service) = service();
    add(&service, &["https://example.org/stalls", &"long ".repeat(2000)]);
    let drawn = service.run(&["show", "2", "--qr"]);
    let widths: Vec<usize> = drawn.lines().map(|line| line.chars().count()).collect();
    assert!(widths.len() > 10 && widths.iter().all(|width| *width == widths[0]) && widths[0] > 20, "{drawn}");
    let answer = service.get("/clips/2/qr");
    assert_eq!((answer.status, answer.header("content-type")), (200, "image/svg+xml"));
    assert_eq!(service.get("/clips/1/qr").status, 422);
    assert_eq!(service.fail(&["show", "1", "--qr"]).0, 1);
}
