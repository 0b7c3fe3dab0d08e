//! What only a compositor has: seats, XWayland, compositors that give no access; and programs that misbehave.

use super::desk::{Desk, side_by_side};
use std::ffi::OsStr;
use yadori_api::{CaptureState, Kind};
use yadori_e2e::compositor::{Compositor, Wanted};
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::program::Manner;
use yadori_e2e::service::{Service, on_compositor};
use yadori_e2e::standin::Standin;
use yadori_e2e::waiting::until;
use yadori_e2e::wayland_program::{Selection, WaylandProgram};
use yadori_e2e::window::Window;

fn desk(wanted: &Wanted<'_>) -> Desk<Compositor> {
    Desk::of(Compositor::with(wanted), Service::on_compositor)
}

impl Desk<Compositor> {
    fn copy(&self, formats: &[(&str, &[u8])], manner: Manner) -> WaylandProgram {
        WaylandProgram::copy(self.desktop.socket(), formats, manner)
    }

    /// After whatever happened, the next copy is captured as ever.
    fn still_captures(&mut self) {
        self.desktop.wl_copy("text/plain", b"still here");
        self.events.copied("still here");
    }
}

#[test]
fn what_one_program_copies_another_pastes_after_a_recall() {
    let mut desk = desk(&Wanted::default());
    desk.desktop.wl_copy("text/plain", "Lamp 7: 650 W 🎭".as_bytes());
    desk.events.copied("Lamp 7");
    desk.desktop.wl_copy("text/plain", b"something else");
    desk.events.copied("something else");
    assert_eq!(desk.service.run(&["recall", "2"]), "On the clipboard: text “Lamp 7: 650 W 🎭”\n");
    assert_eq!(desk.desktop.wl_paste(&[]).as_deref(), Some("Lamp 7: 650 W 🎭".as_bytes()));
    let types = String::from_utf8(desk.desktop.wl_paste(&["--list-types"]).unwrap()).unwrap();
    for name in ["text/plain;charset=utf-8", "text/plain", "UTF8_STRING", "TEXT", "STRING"] {
        assert!(types.lines().any(|offered| offered == name), "{name} is not offered in {types}");
    }
    let recalled = desk.events.change().clip.unwrap();
    assert_eq!((recalled.position, recalled.recalls), (Some(2), 1), "a recall does not renumber the history");
}

#[test]
fn what_is_on_the_clipboard_at_the_start_is_kept() {
    let (home, compositor) = (Home::new(), Compositor::start());
    compositor.wl_copy("text/plain", b"copied before");
    let service = Service::on_compositor(&home, &compositor);
    service.events(Some(0)).copied("copied before");
}

#[test]
fn a_clipboard_cleared_twice_stays_clear() {
    let mut desk = desk(&Wanted::default());
    desk.desktop.wl_copy("text/plain", b"for a moment");
    desk.events.copied("for a moment");
    // The protocol does not tell a clearing from an exit, so what was copied is put back, once.
    desk.desktop.wl_copy_with(&["--clear"], b"");
    until("it is put back", || desk.desktop.wl_paste(&[]).as_deref() == Some(b"for a moment"));
    desk.desktop.wl_copy_with(&["--clear"], b"");
    until("it is clear", || desk.desktop.wl_paste(&["--list-types"]).is_none());
    assert_eq!(desk.service.clips(&["list"]).len(), 1, "what is put back is no copy");
    assert_eq!(desk.desktop.wl_paste(&["--list-types"]), None);
}

#[test]
fn all_kinds_are_told_apart() {
    let mut desk = desk(&Wanted::default());
    let picture = yadori_e2e::sample::poster("wayland");
    desk.desktop.wl_copy("text/plain", b"https://example.org/stalls");
    assert_eq!(desk.events.copied("example.org/stalls").kind, Kind::Link);
    desk.desktop.wl_copy("image/png", &picture);
    let image = desk.events.copied("picture");
    assert_eq!((image.kind, image.width, image.height), (Kind::Image, Some(420), Some(594)));
    assert_eq!(desk.raw(&image.id, "image/png"), picture);
    let _manager = desk.copy(
        &[
            ("x-special/gnome-copied-files", b"cut\nfile:///srv/cue%20list.ods"),
            ("text/uri-list", b"file:///srv/cue%20list.ods\r\n"),
        ],
        Manner::Honest,
    );
    assert_eq!(desk.events.copied("cue list.ods").kind, Kind::Files);
    desk.service.run(&["recall", "1"]);
    let pasted = desk.desktop.wl_paste(&["--type", "x-special/gnome-copied-files"]).unwrap();
    assert_eq!(pasted, b"copy\nfile:///srv/cue%20list.ods");
}

#[test]
fn tens_of_mebibytes_go_through_pipes_both_ways() {
    let mut desk = desk(&Wanted::default());
    let large: Vec<u8> = (0..20_000_000u32).map(|n| b'a' + (n / 7 % 26) as u8).collect();
    let program = desk.copy(&[("text/plain", &large)], Manner::Pieces(150_000));
    let clip = desk.events.copied("aaaaaaa");
    assert_eq!(clip.size, large.len() as u64);
    program.exit();
    desk.service.run(&["recall", &clip.id]);
    let pasted = desk.desktop.wl_paste(&[]).unwrap();
    assert!(pasted == large, "{} bytes came back", pasted.len());
}

#[test]
fn programs_that_misbehave_cost_one_refusal_each() {
    let cases = [
        (Manner::Liar, "no-useful-format"),
        (Manner::Stalls, "undelivered"),
        (Manner::Silent, "undelivered"),
        (Manner::Floods, "too-large"),
    ];
    side_by_side(&cases, |(manner, reason)| {
        let mut desk = desk(&Wanted::default());
        let program = desk.copy(&[("text/plain", &[b'x'; 200_000])], manner);
        desk.refused(reason);
        assert!(program.served() > 0, "{manner:?} was never asked");
        desk.still_captures();
        drop(program);
        desk.has_kept_one_of_two(&format!("{manner:?}"));
    });
}

#[test]
fn an_owner_that_dies_in_the_middle_leaves_what_it_gave() {
    let mut desk = desk(&Wanted::default());
    // A pipe does not tell an owner that dies from one that has no more to say; a picture tells.
    let _program = desk.copy(&[("image/png", &yadori_e2e::sample::poster("dies"))], Manner::Dies);
    desk.refused("broken-image");
    desk.still_captures();
}

#[test]
fn a_format_that_never_comes_does_not_cost_the_others() {
    let mut desk = desk(&Wanted::default());
    let _program = desk.copy(&[("text/plain", b"these words came"), ("text/html", b"")], Manner::HalfSilent);
    let clip = desk.events.copied("these words came");
    assert_eq!(desk.raw(&clip.id, "text/plain%3Bcharset%3Dutf-8"), b"these words came");
}

#[test]
fn a_thousand_mebibytes_are_refused_without_being_held() {
    let mut desk = desk(&Wanted::default());
    let _program = desk.copy(&[("text/plain", b"x")], Manner::Floods);
    desk.refused("too-large");
    desk.still_captures();
    assert!(desk.service.peak_memory_kib() < 160 * 1024, "{} kB were held", desk.service.peak_memory_kib());
}

#[test]
fn every_copy_of_a_burst_is_kept_or_accounted_for() {
    let mut desk = desk(&Wanted::default());
    for n in 0..60 {
        desk.desktop.wl_copy("text/plain", format!("burst {n:02}").as_bytes());
    }
    desk.events.copied("burst 59");
    let replaced = super::desk::accounted_for(&desk.service, &mut desk.events, 60);
    assert!(replaced < 20, "{replaced} of 60 were replaced before they were read");
}

#[test]
fn each_seat_has_its_clipboard_and_a_recall_is_put_on_all() {
    let mut desk = desk(&Wanted::default());
    // It comes while the service runs.
    desk.desktop.tell("seat second hide_cursor 1000");
    desk.desktop.wl_copy_with(&["--seat", "seat0"], b"on the first");
    desk.events.copied("on the first");
    desk.desktop.wl_copy_with(&["--seat", "second"], b"on the second");
    desk.events.copied("on the second");
    let paste = |seat| desk.desktop.wl_paste(&["--seat", seat]).unwrap();
    assert_eq!((paste("seat0"), paste("second")), (b"on the first".to_vec(), b"on the second".to_vec()));
    desk.service.run(&["add", "on both"]);
    desk.service.run(&["recall", "1"]);
    assert_eq!((paste("seat0"), paste("second")), (b"on both".to_vec(), b"on both".to_vec()));
}

#[test]
fn the_window_in_front_is_noted() {
    let mut desk = desk(&Wanted { xwayland: true, ..Wanted::default() });
    let _window = Window::show(desk.desktop.display(), "Writer", "Cue list, v4 ✂");
    until("it is in front", || desk.desktop.tell("-t get_tree").contains("Cue list, v4"));
    desk.desktop.wl_copy("text/plain", b"from a window");
    let source = desk.events.copied("from a window").source;
    assert_eq!((source.application.as_deref(), source.window.as_deref()), (Some("Writer"), Some("Cue list, v4 ✂")));
}

#[test]
fn with_xwayland_a_copy_is_one_clip() {
    let mut desk = desk(&Wanted { xwayland: true, ..Wanted::default() });
    // The compositor hands copies over from X11 while one of its windows is in front.
    let window = Window::show(desk.desktop.display(), "Writer", "An old program");
    until("it is in front", || desk.desktop.tell("-t get_tree").contains("An old program"));
    let _program = window.copy(&[("UTF8_STRING", b"from X11"), ("text/html", b"<b>from X11</b>")]);
    let clip = desk.events.copied("from X11");
    assert_eq!(desk.raw(&clip.id, "text/html"), b"<b>from X11</b>");
    desk.desktop.wl_copy("text/plain", b"from Wayland");
    desk.events.copied("from Wayland");
    assert_eq!(
        desk.service.clips(&["list"]).iter().map(|clip| (clip.preview.as_str(), clip.copies)).collect::<Vec<_>>(),
        [("from Wayland", 1), ("from X11", 1)]
    );
}

#[test]
fn the_clipboard_is_chosen_by_what_is_there() {
    let chosen = |variables: &[(&str, &OsStr)]| {
        let home = Home::new();
        let mut command = yadori_e2e::service::command(home.path(), "auto", None);
        command.envs(variables.iter().copied());
        let service = Service::start(home.path(), command);
        let capture = service.status().capture;
        (
            capture.state,
            capture.clipboard.word(),
            capture.reason.into_iter().chain(capture.notes).map(|note| note.message).collect::<String>(),
        )
    };
    let compositor = Compositor::with(&Wanted { xwayland: true, ..Wanted::default() });
    let closed = Compositor::without_access();
    let display = Display::start();
    let on = |state: &CaptureState| *state == CaptureState::On;

    let nowhere = compositor.runtime().join("nowhere");
    let (wayland, x11) = (|value| ("WAYLAND_DISPLAY", value), |value| ("DISPLAY", value));
    let (open, closed) = (wayland(compositor.socket().as_os_str()), wayland(closed.socket().as_os_str()));
    let (over, beside) = (x11(OsStr::new(compositor.display())), x11(OsStr::new(display.name())));

    let (state, name, _) = chosen(&[open, over]);
    assert!(on(&state) && name == "wayland", "{name}");
    let (state, name, _) = chosen(&[beside]);
    assert!(on(&state) && name == "x11", "{name}");
    let (state, name, notes) = chosen(&[closed, beside]);
    assert!(on(&state) && name == "x11" && notes.contains("gives no access"), "{name}: {notes}");
    let (state, _, reason) = chosen(&[closed]);
    assert!(!on(&state) && reason.contains("gives no access"), "{reason}");
    let (state, _, reason) = chosen(&[]);
    assert!(!on(&state) && reason.contains("neither WAYLAND_DISPLAY nor DISPLAY"), "{reason}");
    let (state, _, reason) = chosen(&[wayland(nowhere.as_os_str())]);
    assert!(!on(&state) && reason.contains("cannot be reached"), "{reason}");
}

#[test]
fn the_newer_protocol_does_the_same() {
    let (home, standin) = (Home::new(), Standin::start());
    let mut command = yadori_e2e::service::command(home.path(), "wayland", None);
    command.env("WAYLAND_DISPLAY", standin.socket());
    let service = Service::start(home.path(), command);
    let mut events = service.events(None);
    standin.copy(&[("text/plain", b"by the newer protocol"), ("text/html", b"<i>newer")]);
    let clip = events.copied("by the newer protocol");
    // Its owner exits, and what it left is offered.
    standin.owner_exits();
    until("it is taken over", || standin.names().contains(&"text/html".to_owned()));
    assert_eq!(standin.paste("text/html"), b"<i>newer");
    standin.copy(&[("text/plain", b"something else")]);
    events.copied("something else");
    service.run(&["recall", &clip.id]);
    assert_eq!(standin.paste("text/plain;charset=utf-8"), b"by the newer protocol");
    assert_eq!(service.clips(&["list"]).len(), 2);
}

#[test]
fn without_access_the_rest_works_and_the_doctor_says_what() {
    let (home, compositor) = (Home::new(), Compositor::without_access());
    let service = Service::on_compositor(&home, &compositor);
    assert!(service.run(&["status"]).contains("gives no access to its clipboard"));
    let output = service.run_with(&["doctor"], &[]);
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.code() == Some(1) && said.contains("XWayland"), "{said}");
    service.run(&["add", "by hand"]);
    let (code, told) = service.fail(&["recall", "1"]);
    assert!(code == 1 && told.contains("gives no access"), "{told}");
    assert_eq!(service.clips(&["find", "hand"]).len(), 1);
}

#[test]
fn a_compositor_that_is_asked_for_must_be_there() {
    let (home, compositor) = (Home::new(), Compositor::start());
    let mut command = on_compositor(home.path(), "wayland", &compositor);
    command.env("WAYLAND_DISPLAY", compositor.runtime().join("nowhere"));
    let output = command.output().unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(
        !output.status.success() && told.contains("cannot be reached") && told.contains("--clipboard none"),
        "{told}"
    );
}

#[test]
fn the_compositor_comes_back_and_the_service_stays_up() {
    let (home, compositor) = (Home::new(), Compositor::start());
    let service = Service::on_compositor(&home, &compositor);
    let mut events = service.events(None);
    compositor.wl_copy("text/plain", b"before the crash");
    events.copied("before the crash");
    let start_again = compositor.crash();
    events.wait("status", |_| service.status().capture.state == CaptureState::Off);
    let (code, told) = service.fail(&["recall", "1"]);
    assert!(code == 1 && told.contains("doctor"), "{told}");
    let compositor = start_again();
    events.wait("status", |_| service.status().capture.state == CaptureState::On);
    compositor.wl_copy("text/plain", b"after the crash");
    events.copied("after the crash");
    assert_eq!(service.clips(&["list"]).len(), 2);
}

#[test]
fn what_is_selected_is_kept_only_when_that_is_wanted_and_marked() {
    let mut desk = desk(&Wanted::default());
    let select = |desk: &Desk<Compositor>, text: &str| {
        let formats: [(&str, &[u8]); 2] = [("text/plain", text.as_bytes()), ("text/html", b"<b>gel")];
        WaylandProgram::own(desk.desktop.socket(), Selection::Primary, &formats, Manner::Honest)
    };
    desk.service.run(&["rules", "set", "primary", "on"]);
    desk.desktop.wl_copy("text/plain", b"copied");
    desk.events.copied("copied");
    let _first = select(&desk, "ge");
    let _whole = select(&desk, "gel 201");
    let clip = desk.events.copied("gel 201");
    let formats = desk.service.run(&["show", "1"]);
    assert!(clip.source.selected && !formats.contains("text/html"), "text only: {formats}");
    assert_eq!(desk.service.clips(&["list"]).len(), 2, "what was being selected is no clip");
    assert_eq!(desk.desktop.wl_paste(&[]).as_deref(), Some(&b"copied"[..]), "the clipboard is left alone");
}
