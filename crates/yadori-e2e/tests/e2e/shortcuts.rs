//! Keys that work in every program, and pasting, on an X server.

use super::desk::Desk;
use std::process::Command;
use yadori_api::{KeyState, KeyboardFocus, Keys};
use yadori_e2e::display::Display;
use yadori_e2e::pad::keysyms::{ALT, CAPS_LOCK, CONTROL, V};
use yadori_e2e::pad::{self, Pad, Written, hold, is_down};
use yadori_e2e::service::Service;
use yadori_e2e::waiting::until;

fn digit(digit: u32) -> u32 {
    0x30 + digit
}

/// A desk whose keys reach the service, with clips that were copied from last to first.
fn desk(clips: &[&str]) -> Desk<Display> {
    let desk = Desk::of(Display::start(), Service::on_display);
    for clip in clips.iter().rev() {
        desk.service.run(&["add", clip]);
    }
    until("the keys reach the service", || states(&desk).iter().all(|state| *state == Some(KeyState::Grabbed)));
    desk
}

fn states(desk: &Desk<Display>) -> Vec<Option<KeyState>> {
    desk.service.get("/keys").json::<Keys>().keys.into_iter().map(|binding| binding.state).collect()
}

/// Presses and releases keys together.
fn press(desk: &Desk<Display>, keys: &[u32]) {
    pad::press(desk.desktop.name(), keys);
}

#[test]
fn five_fields_are_filled_by_position_keys_whatever_is_copied_meanwhile() {
    let mut desk = desk(&["Kestrel Lane", "Unit 4", "Ebbing", "0199", "owl@example.org"]);
    let pad = Pad::open(desk.desktop.name(), "Form", V);
    pad.focus();
    for (position, field) in (1..).zip(["Kestrel Lane", "Unit 4", "Ebbing", "0199", "owl@example.org"]) {
        press(&desk, &[CONTROL, ALT, digit(position)]);
        let before = pad.pasted(field);
        assert!(before.contains(&Written::Typed("Ctrl+v".into())), "{before:?}");
        desk.desktop.xclip("UTF8_STRING", format!("copied after field {position}").as_bytes());
        desk.events.copied(&format!("copied after field {position}"));
    }
}

#[test]
fn modifiers_that_are_held_are_lifted_and_put_back_and_let_go_of_with_the_person() {
    let desk = desk(&["first", "second"]);
    let display = desk.desktop.name();
    let pad = Pad::open(display, "Form", V);
    pad.focus();
    // The person keeps Ctrl and Alt down and presses one digit after the other.
    hold(display, &[CONTROL, ALT], true);
    press(&desk, &[digit(1)]);
    pad.pasted("first");
    until("what was held is held again", || is_down(display, CONTROL) && is_down(display, ALT));
    press(&desk, &[digit(2)]);
    let before = pad.pasted("second");
    assert!(!before.contains(&Written::Typed("2".into())), "the digit reaches nobody else: {before:?}");
    hold(display, &[ALT, CONTROL], false);
    until("nothing stays down", || !is_down(display, CONTROL) && !is_down(display, ALT));
}

#[test]
fn a_lock_makes_no_difference_and_a_key_that_is_held_counts_once() {
    let desk = desk(&["first"]);
    let display = desk.desktop.name();
    let pad = Pad::open(display, "Form", V);
    pad.focus();
    press(&desk, &[CAPS_LOCK]);
    press(&desk, &[CONTROL, ALT, digit(1)]);
    pad.pasted("first");
    press(&desk, &[CAPS_LOCK]);
    // A press of what is down already is what the keyboard sends as it repeats a key.
    hold(display, &[CONTROL, ALT, digit(1)], true);
    pad.pasted("first");
    hold(display, &[digit(1), digit(1), digit(1)], true);
    hold(display, &[digit(1), ALT, CONTROL], false);
    press(&desk, &[0x79]);
    let before = pad.wait(&Written::Typed("y".into()));
    assert!(!before.iter().any(|written| matches!(written, Written::Pasted(_))), "{before:?}");
}

#[test]
fn a_terminal_and_a_program_that_differs_are_pasted_into_by_their_own_keys() {
    let desk = desk(&["to be pasted"]);
    let display = desk.desktop.name();
    let terminal = Pad::open(display, "XTerm", V);
    terminal.focus();
    press(&desk, &[CONTROL, ALT, digit(1)]);
    assert!(terminal.pasted("to be pasted").contains(&Written::Typed("Ctrl+Shift+v".into())));
    let other = Pad::open(display, "Drawing", 0x79);
    other.focus();
    desk.service.run(&["keys", "paste", "drawing", "Ctrl+Y"]);
    press(&desk, &[CONTROL, ALT, digit(1)]);
    other.pasted("to be pasted");
}

#[test]
fn a_layout_without_the_letter_is_pasted_with_all_the_same() {
    let desk = desk(&["Вечер"]);
    let display = desk.desktop.name();
    let russian = Command::new("setxkbmap").env("DISPLAY", display).arg("ru").status().expect("setxkbmap");
    assert!(russian.success());
    let pad = Pad::open(display, "Form", V);
    pad.focus();
    desk.service.run(&["recall", "1", "--paste"]);
    pad.pasted("Вечер");
}

#[test]
fn keys_that_another_program_has_are_named_and_the_others_work() {
    use x11rb::protocol::xproto::{ConnectionExt, GrabMode, ModMask};
    let display = Display::start();
    let (other, screen) = x11rb::connect(Some(display.name())).unwrap();
    let root = x11rb::connection::Connection::setup(&other).roots[screen].root;
    let map = other.get_keyboard_mapping(8, 248).unwrap().reply().unwrap();
    let place = map.keysyms.chunks(usize::from(map.keysyms_per_keycode)).position(|keys| keys[0] == digit(1)).unwrap();
    let held = ModMask::CONTROL | ModMask::M1;
    let grabbed = other.grab_key(false, root, held, 8 + place as u8, GrabMode::ASYNC, GrabMode::ASYNC).unwrap();
    grabbed.check().unwrap();

    let desk = Desk::of(display, Service::on_display);
    desk.service.run(&["add", "second"]);
    desk.service.run(&["add", "first"]);
    until("the keys are known", || states(&desk).iter().all(Option::is_some));
    let said = desk.service.run(&["keys"]);
    let line = |action: &str| said.lines().find(|line| line.starts_with(action)).unwrap_or_default();
    assert!(line("paste-1").ends_with("(taken by another program)"), "{said}");
    assert!(line("paste-2").ends_with("position 2"), "{said}");
    let pad = Pad::open(desk.desktop.name(), "Form", V);
    pad.focus();
    press(&desk, &[CONTROL, ALT, digit(2)]);
    pad.pasted("second");
    // Other keys for it work at once.
    desk.service.run(&["keys", "set", "paste-1", "Super+F2"]);
    press(&desk, &[0xffeb, 0xffbf]);
    pad.pasted("first");
}

#[test]
fn a_paste_goes_to_its_window_and_nowhere_else() {
    let desk = desk(&["for the first window"]);
    let display = desk.desktop.name();
    let (first, second) = (Pad::open(display, "First", V), Pad::open(display, "Second", V));
    first.focus();
    let focus: KeyboardFocus = desk.service.get("/keyboard").json();
    assert_eq!(focus.application.as_deref(), Some("First"));
    let paste = serde_json::json!({ "clips": ["1"], "paste": true, "into": focus.window });
    // The keyboard has gone elsewhere in between, and is given back.
    second.focus();
    let answer = desk.service.post("/recall", &paste);
    assert_eq!(answer.status, 200, "{}", answer.text());
    first.pasted("for the first window");
    assert_eq!(second.rest(), []);
    // Its window is closed in between.
    second.focus();
    first.kill();
    let answer = desk.service.post("/recall", &paste);
    assert!(answer.status == 409 && answer.text().contains("is gone"), "{}", answer.text());
    press(&desk, &[0x7a]);
    assert_eq!(second.wait(&Written::Typed("z".into())), [], "nothing was pasted anywhere");
    assert_eq!(desk.desktop.xclip_paste("UTF8_STRING").as_deref(), Some(&b"for the first window"[..]));
}

#[test]
fn what_was_on_the_clipboard_is_there_again_after_the_paste() {
    let mut desk = desk(&["gel 201"]);
    let pad = Pad::open(desk.desktop.name(), "Form", V);
    pad.focus();
    desk.desktop.xclip("UTF8_STRING", b"on the clipboard");
    desk.events.copied("on the clipboard");
    desk.service.run(&["recall", "2", "--paste", "--restore"]);
    pad.pasted("gel 201");
    assert_eq!(desk.desktop.xclip_paste("UTF8_STRING").as_deref(), Some(&b"on the clipboard"[..]));
}

#[test]
fn keys_work_again_when_the_display_is_back() {
    let (home, display) = (yadori_e2e::home::Home::new(), Display::start_apart());
    let service = Service::on_display(&home, &display);
    service.run(&["add", "first"]);
    let again = display.crash();
    let display = again();
    let pad = Pad::open(display.name(), "Form", V);
    pad.focus();
    until("the keys reach the service", || {
        hold(display.name(), &[CONTROL, ALT, digit(1)], true);
        hold(display.name(), &[digit(1), ALT, CONTROL], false);
        pad.rest().contains(&Written::Pasted("first".into()))
    });
}
