//! A real browser with a real window, on both systems: what it copies with formatting, as a link, as a picture.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::process::{Command, Stdio};
use yadori_api::{Clip, Kind, Tray};
use yadori_e2e::compositor::Compositor;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::keys::{Desktop, Key};
use yadori_e2e::process::Process;
use yadori_e2e::service::{Events, Service};
use yadori_e2e::waiting::until;

const PAGE: &str = "<!doctype html><meta charset=utf-8><title>Programme ready</title>
    <p><b>Programme</b> at <i>19:30</i>, Čáslav</p>
    <a href='/stalls' id=plan><img src='/poster.png' width=200 height=200 alt='A poster'></a>";

/// Serves one page and one picture, until the test ends.
fn serve(picture: Vec<u8>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for connection in listener.incoming() {
            let Ok(mut connection) = connection else { return };
            let mut head = [0; 4096];
            let read = connection.read(&mut head).unwrap_or(0);
            let (kind, body) = if head[..read].starts_with(b"GET /poster.png") {
                ("image/png", picture.clone())
            } else {
                ("text/html", PAGE.as_bytes().to_vec())
            };
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
                body.len()
            );
            let _ = connection.write_all(&[head.as_bytes(), &body].concat());
        }
    });
    format!("http://{address}")
}

struct Desk {
    desktop: Desktop,
    service: Service,
    events: Events,
    address: String,
    picture: Vec<u8>,
    _browser: Process,
    _profile: tempfile::TempDir,
    _home: Home,
}

impl Desk {
    fn open(desktop: Desktop) -> Self {
        let home = Home::new();
        let mut command = Command::new("chromium");
        let (service, platform) = match &desktop {
            Desktop::X11(display) => {
                command.env("DISPLAY", display.name()).env_remove("WAYLAND_DISPLAY");
                (Service::on_display(&home, display), "x11")
            }
            Desktop::Wayland(compositor) => {
                command = compositor.command("chromium");
                (Service::on_compositor(&home, compositor), "wayland")
            }
        };
        let events = service.events(None);
        let profile = tempfile::tempdir().unwrap();
        let picture = yadori_e2e::sample::poster("browser");
        let address = serve(picture.clone());
        command.args([
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--no-default-browser-check",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--password-store=basic",
            "--window-size=900,700",
            "--window-position=0,0",
            &format!("--ozone-platform={platform}"),
            &format!("--user-data-dir={}", profile.path().display()),
            &address,
        ]);
        command.env("HOME", profile.path()).env("TMPDIR", profile.path());
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let browser = Process::spawn(command);
        until("the browser shows the page", || desktop.is_in_front("Programme ready"));
        Self { desktop, service, events, address, picture, _browser: browser, _profile: profile, _home: home }
    }

    /// Presses keys until a clip comes of it: a window may be shown before it takes keys.
    fn press_until(&mut self, keys: &[Key], is: impl Fn(&Clip) -> bool) -> Clip {
        for _ in 0..15 {
            self.desktop.press(keys);
            while let Some(change) = self.events.change_within(std::time::Duration::from_secs(2)) {
                if let Some(clip) = change.clip.filter(&is) {
                    return clip;
                }
            }
        }
        panic!("nothing was copied by {keys:?}: {:?}", self.service.status());
    }

    fn raw(&self, clip: &Clip, format: &str) -> String {
        self.service.get(&format!("/clips/{}/content?format={format}", clip.id)).text()
    }

    fn copies_with_formatting_links_and_pictures(mut self) {
        let (all, copy) = (Key("a", true), Key("c", true));
        let rich = self.press_until(&[all, copy], |clip| clip.kind == Kind::Text);
        assert!(rich.preview.contains("Programme at 19:30, Čáslav"), "{rich:?}");
        assert!(self.raw(&rich, "text/html").contains("<b"), "its formatting is kept");
        assert_eq!(rich.source.page.as_deref().map(|page| page.trim_end_matches('/')), Some(self.address.as_str()));

        // With the keyboard alone: the link is the first thing on the page, and its menu copies the picture in it.
        let keys = ["Escape", "Tab", "Menu", "y"].map(|name| Key(name, false));
        let image = self.press_until(&keys, |clip| clip.kind == Kind::Image);
        assert_eq!((image.kind, image.width, image.height), (Kind::Image, Some(420), Some(594)));
        assert_eq!(image.caption.as_deref(), Some(format!("{}/poster.png", self.address).as_str()));
        let same = |png: &[u8]| image::load_from_memory(png).unwrap().to_rgba8();
        let kept = self.service.get(&format!("/clips/{}/content?format=image/png", image.id)).body;
        assert!(same(&kept) == same(&self.picture), "the pixels are those of the page");

        let address = self.press_until(&[Key("l", true), copy], |clip| clip.kind == Kind::Link);
        assert!(address.preview.starts_with("127.0.0.1:"), "{address:?}");
    }

    /// The browser's address line is filled in by a recall that pastes, and then by the tray: one paste after the other.
    fn takes_one_field_after_the_other(mut self) {
        let (address_line, all, copy, paste) = (Key("l", true), Key("a", true), Key("c", true), Key("v", true));
        // When this works, the window takes keys.
        self.press_until(&[address_line, copy], |clip| clip.kind == Kind::Link);
        self.service.run(&["add", "owl and fox", "--alias", "owl"]);
        self.desktop.press(&[address_line]);
        for _ in 0..2 {
            let said = self.service.run(&["recall", ":owl", "--paste"]);
            assert_eq!(said, "Pasted: text “owl and fox”\n");
        }
        self.press_until(&[all, copy], |clip| clip.preview == "owl and foxowl and fox");

        for field in ["first,", "second,", "third"] {
            self.service.run(&["add", field]);
        }
        self.service.run(&["tray", "add", "3", "2", "1"]);
        self.service.run(&["tray", "next", "--auto"]);
        self.desktop.press(&[address_line]);
        for next in [3, 4, 4] {
            self.desktop.press(&[paste]);
            until("the next field is on the clipboard", || self.service.get("/tray").json::<Tray>().next == next);
        }
        self.press_until(&[all, copy], |clip| clip.preview == "first,second,third");
    }

    /// The keys of a compositor's own configuration fill in the browser's address line: by position, and through the picker.
    fn takes_what_keys_and_the_picker_paste(mut self) {
        let Desktop::Wayland(compositor) = &self.desktop else { panic!("an X server has no such configuration") };
        let lines = self.service.run(&["keys", "--for", "sway"]);
        lines.lines().filter(|line| !line.starts_with('#')).for_each(|line| drop(compositor.tell_whole(line)));
        let with_control_and_alt = |key: &str| {
            let held = ["-s", "200", "-M", "ctrl", "-M", "alt", "-k", key, "-m", "alt", "-m", "ctrl"];
            assert!(compositor.command("wtype").args(held).status().expect("wtype").success());
        };
        let (all, copy) = (Key("a", true), Key("c", true));
        let recalled = |events: &mut Events, words: &str| {
            events.wait("clip", |event| event.data.contains(words) && event.data.contains("\"recalls\":1"));
        };
        for words in ["third,", "second,", "first,"] {
            self.service.run(&["add", words]);
        }
        self.desktop.press(&[Key("l", true)]);
        with_control_and_alt("2");
        recalled(&mut self.events, "second,");
        // Pastes follow one another: when this one is done, so is the one before it.
        self.service.run(&["keys", "press", "paste-plain"]);
        with_control_and_alt("space");
        until("the picker has the keyboard", || self.service.get("/keyboard").text().contains("org.yadori.Picker"));
        self.desktop.press(&[Key("3", false)]);
        recalled(&mut self.events, "third,");
        self.service.run(&["keys", "press", "paste-plain"]);
        self.press_until(&[all, copy], |clip| clip.preview == "second,second,third,third,");
    }
}

#[test]
fn on_a_compositor_its_own_configuration_brings_the_keys() {
    Desk::open(Desktop::Wayland(Compositor::start())).takes_what_keys_and_the_picker_paste();
}

#[test]
fn a_browser_on_x11_is_pasted_into_one_field_after_the_other() {
    Desk::open(Desktop::X11(Display::start())).takes_one_field_after_the_other();
}

#[test]
fn a_browser_on_x11_copies_words_links_and_pictures() {
    Desk::open(Desktop::X11(Display::start())).copies_with_formatting_links_and_pictures();
}

#[test]
fn a_browser_on_wayland_copies_words_links_and_pictures() {
    Desk::open(Desktop::Wayland(Compositor::start())).copies_with_formatting_links_and_pictures();
}

#[test]
fn a_browser_on_wayland_is_pasted_into_one_field_after_the_other() {
    Desk::open(Desktop::Wayland(Compositor::start())).takes_one_field_after_the_other();
}
