//! The tray: gathered in reading order, pasted in the same order.

use serde_json::json;
use yadori_api::Tray;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::program::{self, Manner, Program};
use yadori_e2e::service::{Service, command};

fn copy(service: &Service, text: &str) {
    let mut events = service.events(None);
    let copied = json!({ "formats": [{ "mime": "text/plain", "text": text }] });
    assert_eq!(service.post("/simulated/copy", &copied).status, 204);
    events.copied(text);
}

fn paste(service: &Service) -> String {
    service.get("/simulated/paste?format=text/plain").text()
}

fn tray(service: &Service) -> Tray {
    service.get("/tray").json()
}

fn words(tray: &Tray) -> Vec<&str> {
    tray.items.iter().map(|item| item.clip.preview.as_str()).collect()
}

/// Waits until the tray has dealt so many.
fn dealt(service: &Service, next: u32) {
    let mut events = service.events(None);
    while tray(service).next != next {
        events.wait("status", |_| true);
    }
}

#[test]
fn fields_are_pasted_in_the_order_in_which_they_were_copied() {
    let home = Home::new();
    let service = Service::simulated(&home);
    copy(&service, "before");
    service.run(&["tray", "open"]);
    for text in ["Tove", "Mill Row", "Tove", "555 0101"] {
        copy(&service, text);
    }
    assert_eq!(words(&tray(&service)), ["Tove", "Mill Row", "Tove", "555 0101"], "the same field twice");
    assert_eq!(service.clips(&["list"]).len(), 4, "and they are in the history too");
    service.run(&["tray", "next"]);
    assert_eq!(paste(&service), "Tove");
    service.run(&["tray", "skip"]);
    service.run(&["tray", "back"]);
    assert_eq!(paste(&service), "Tove");
    service.run(&["tray", "next"]);
    assert_eq!(paste(&service), "Mill Row");
    service.run(&["recall", "t4"]);
    assert_eq!(paste(&service), "555 0101");

    assert!(service.end().0);
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    assert_eq!((tray(&service).open, tray(&service).next), (true, 3), "it survives a restart");
    service.run(&["tray", "close"]);
    copy(&service, "not in it");
    assert_eq!(tray(&service).items.len(), 4);
    service.run(&["tray", "restart"]);
    service.run(&["tray", "move", "4", "1"]);
    service.run(&["tray", "drop", "2"]);
    service.run(&["tray", "undo"]);
    service.run(&["tray", "add", "1", "1"]);
    assert_eq!(words(&tray(&service)), ["555 0101", "Mill Row", "not in it", "not in it"]);
    service.run(&["tray", "pour", "--join", "comma"]);
    assert_eq!(paste(&service), "555 0101, Mill Row, not in it, not in it");
    // What is deleted is out of it; what is kept as a drawer is there once.
    service.run(&["delete", "t2", "--yes"]);
    service.run(&["tray", "close", "--keep-as", "Form"]);
    assert!(tray(&service).items.is_empty());
    assert_eq!(service.clips(&["find", "drawer:form"]).len(), 2);
    assert_eq!(service.fail(&["tray", "next"]).0, 1);
    assert_eq!(service.fail(&["tray", "drop", "9"]).0, 1);
}

#[test]
fn each_paste_brings_the_next_one_and_looking_does_not() {
    let home = Home::new();
    let service = Service::simulated(&home);
    for text in ["one", "two", "three"] {
        service.run(&["add", text]);
    }
    service.run(&["tray", "add", "3", "2", "1"]);
    assert_eq!(service.run(&["tray", "next", "--auto"]), "On the clipboard: text “one”. 2 of 3 left\n");
    for (number, text) in [(3, "one"), (4, "two")] {
        // A program that cannot use it gets nothing, and that is no paste.
        assert_eq!(service.get("/simulated/paste?format=image/png").status, 404);
        assert_eq!(paste(&service), text);
        dealt(&service, number);
    }
    assert_eq!(paste(&service), "three");
    let mut events = service.events(None);
    while tray(&service).auto {
        events.wait("status", |_| true);
    }
    assert_eq!(paste(&service), "three", "the last one stays");
}

#[test]
fn on_a_real_clipboard_a_paste_brings_the_next_one() {
    let (home, display) = (Home::new(), Display::start());
    let service = Service::on_display(&home, &display);
    service.run(&["tray", "open", "--empty"]);
    let mut events = service.events(None);
    for text in ["first field", "second field"] {
        let owner = Program::copy(display.name(), &[("UTF8_STRING", text.as_bytes())], Manner::Honest);
        events.copied(text);
        owner.exit();
    }
    service.run(&["tray", "next", "--auto"]);
    // Whoever only looks at what there is, pastes nothing.
    assert!(program::targets(display.name()).contains(&"UTF8_STRING".to_owned()));
    assert_eq!(tray(&service).next, 2);
    assert_eq!(program::paste(display.name(), "UTF8_STRING").as_deref(), Some(&b"first field"[..]));
    dealt(&service, 3);
    assert_eq!(program::paste(display.name(), "UTF8_STRING").as_deref(), Some(&b"second field"[..]));
    assert_eq!(tray(&service).items.len(), 2, "what the service puts there does not join it again");
}
