//! The picker: a window at a key press, in which a clip is found and pasted where the person was.

use super::desk::Desk;
use std::io::BufRead;
use std::process::{Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;
use std::time::Instant;
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{AtomEnum, ConnectionExt, ImageFormat, Window};
use x11rb::rust_connection::RustConnection;
use yadori_api::{Clips, KeyState, Keys, Tray};
use yadori_e2e::PATIENCE;
use yadori_e2e::bus::Bus;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::pad::keysyms::{ALT, CONTROL, DELETE, DOWN, ENTER, ESCAPE, HOME, SHIFT, SPACE, V};
use yadori_e2e::pad::{Pad, Written, picker_window, press};
use yadori_e2e::process::{Process, built};
use yadori_e2e::service::{self, Service};
use yadori_e2e::waiting::{until, until_or_tell};

/// A desk with a picker, and the window that a person is in.
struct Office {
    desk: Desk<Display>,
    connection: RustConnection,
    root: Window,
    _manager: Option<Process>,
}

impl Office {
    /// One with these clips, the newest first.
    fn with(managed: bool, clips: &[&str]) -> Self {
        Self::started(managed, clips, Service::on_display)
    }

    /// The same with a service that is started so.
    fn started(managed: bool, clips: &[&str], start: impl FnOnce(&Home, &Display) -> Service) -> Self {
        let display = Display::start();
        let (connection, screen) = x11rb::connect(Some(display.name())).unwrap();
        let root = connection.setup().roots[screen].root;
        let manager = managed.then(|| {
            let mut command = Command::new("openbox");
            command.env_clear().env("PATH", "/usr/bin:/bin").env("DISPLAY", display.name()).env("HOME", "/nonexistent");
            command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            let manager = Process::spawn(command);
            let known = connection.intern_atom(false, b"_NET_SUPPORTING_WM_CHECK").unwrap().reply().unwrap().atom;
            until("there is a window manager", || {
                let asked = connection.get_property(false, root, known, AtomEnum::WINDOW, 0, 1);
                asked.unwrap().reply().unwrap().value_len > 0
            });
            manager
        });
        let desk = Desk::of(display, start);
        for clip in clips.iter().rev() {
            desk.service.run(&["add", clip]);
        }
        let office = Self { desk, connection, root, _manager: manager };
        until("the keys reach the service", || {
            let keys = office.desk.service.get("/keys").json::<Keys>().keys;
            keys.iter().all(|binding| binding.state == Some(KeyState::Grabbed))
        });
        office
    }

    fn display(&self) -> &str {
        self.desk.desktop.name()
    }

    /// A window that has the keyboard.
    fn pad(&self, application: &str) -> Pad {
        let pad = Pad::open(self.display(), application, V);
        pad.focus();
        pad
    }

    fn press(&self, keys: &[u32]) {
        press(self.display(), keys);
    }

    fn type_in(&self, text: &str) {
        text.chars().for_each(|c| self.press(&[u32::from(c)]));
    }

    /// The picker's window, if it can be seen.
    fn window(&self) -> Option<Window> {
        picker_window(&self.connection, self.root)
    }

    /// Whether the picker has the keyboard.
    fn has_keyboard(&self) -> bool {
        let focus = self.connection.get_input_focus().unwrap().reply().unwrap().focus;
        let Some(window) = self.window() else { return false };
        let same = |focus: Window| focus & !self.connection.setup().resource_id_mask;
        same(focus) == same(window)
    }

    /// Opens the picker by its key.
    fn open(&self) {
        self.press(&[CONTROL, ALT, SPACE]);
        let tell = || {
            let focus = self.connection.get_input_focus().unwrap().reply().unwrap().focus;
            let (keyboard, keys) = (self.desk.service.get("/keyboard").text(), self.desk.service.get("/keys"));
            format!("(window {:?}, focus {focus}, {keyboard}, {:?})", self.window(), keys.json::<Keys>().failed)
        };
        until_or_tell("the picker has the keyboard", || self.has_keyboard(), tell);
    }

    fn is_closed(&self) {
        until("the picker is closed", || self.window().is_none());
    }

    fn positions(&self) -> Vec<String> {
        self.desk.service.clips(&["list"]).into_iter().map(|clip| clip.preview).collect()
    }

    fn pins(&self) -> Vec<String> {
        self.desk.service.get("/pins").json::<Clips>().clips.into_iter().map(|clip| clip.preview).collect()
    }
}

#[test]
fn a_digit_pastes_into_the_window_where_the_person_was() {
    for managed in [true, false] {
        let office = Office::with(managed, &["first", "second", "third"]);
        let (other, pad) = (office.pad("Other"), office.pad("Form"));
        office.open();
        office.press(&[0x32]);
        pad.pasted("second");
        office.is_closed();
        // It stays warm, and opens again at once.
        office.open();
        office.press(&[DOWN]);
        office.press(&[DOWN]);
        office.press(&[ENTER]);
        pad.pasted("third");
        assert_eq!(other.rest().iter().filter(|written| matches!(written, Written::Pasted(_))).count(), 0);
        office.type_in("z");
        pad.wait(&Written::Typed("z".into()));
    }
}

#[test]
fn what_is_typed_finds_and_enter_pastes_plain_or_only_copies() {
    let office = Office::with(true, &["gel 201 for the moon", "lamp 7", "gel 119 for the sea"]);
    let pad = office.pad("Form");
    office.open();
    office.type_in("gel moon");
    // Each answer is of the latest query, so that the one clip that is left is the first.
    let found = || office.desk.service.clips(&["find", "gel moon"]).len() == 1;
    until("it is found", found);
    until("it is pasted", || {
        office.press(&[SHIFT, ENTER]);
        pad.rest().contains(&Written::Pasted("gel 201 for the moon".into()))
    });
    office.open();
    office.press(&[DOWN]);
    office.press(&[CONTROL, ENTER]);
    office.is_closed();
    until("it is on the clipboard", || office.desk.desktop.xclip_paste("UTF8_STRING").as_deref() == Some(b"lamp 7"));
    assert!(pad.rest().iter().all(|written| !matches!(written, Written::Pasted(_))));
}

#[test]
fn while_an_input_method_composes_keys_are_its_own() {
    let office = Office::with(true, &["gel 201", "今夜の舞台照明", "gel 119"]);
    let pad = office.pad("Form");
    office.open();
    // Up goes into the field. Of the input methods, the one within GTK is there everywhere: Ctrl+Shift+U, and then the number
    // of a character. Digits paste nothing meanwhile, and Enter ends the composition.
    office.press(&[0xff52]);
    office.press(&[CONTROL, SHIFT, u32::from('u')]);
    office.type_in("821e");
    office.press(&[ENTER]);
    assert!(office.has_keyboard(), "nothing was pasted yet");
    office.press(&[ENTER]);
    pad.pasted("今夜の舞台照明");
}

#[test]
fn what_was_searched_for_before_is_forgotten_at_the_next_opening() {
    let office = Office::with(false, &["gel 201 for the moon", "lamp 7", "gel 119 for the sea"]);
    let pad = office.pad("Form");
    for _ in 0..5 {
        office.open();
        office.type_in("lamp");
        office.press(&[ESCAPE]);
        office.is_closed();
        office.open();
        office.press(&[ENTER]);
        pad.pasted("gel 201 for the moon");
        office.is_closed();
        office.open();
        office.press(&[CONTROL, 0x6b]);
        office.press(&[ESCAPE]);
        office.is_closed();
        office.open();
        office.press(&[0x33]);
        pad.pasted("gel 119 for the sea");
        office.is_closed();
    }
}

#[test]
fn several_are_marked_and_pasted_joined() {
    let office = Office::with(true, &["one", "two", "three"]);
    let pad = office.pad("Form");
    office.open();
    office.press(&[CONTROL, SPACE]);
    office.press(&[DOWN]);
    office.press(&[CONTROL, SPACE]);
    office.press(&[ENTER]);
    pad.pasted("one\nthree");
}

#[test]
fn clips_are_pinned_deleted_brought_back_and_put_into_the_tray() {
    let office = Office::with(true, &["first", "second", "third"]);
    let pad = office.pad("Form");
    office.open();
    office.press(&[CONTROL, 0x70]);
    until("it is pinned", || office.pins() == ["first"]);
    office.press(&[DOWN]);
    office.press(&[CONTROL, DELETE]);
    until("it is deleted", || office.positions() == ["first", "third"]);
    office.press(&[CONTROL, 0x7a]);
    until("it is back", || office.positions().contains(&"second".to_owned()));
    office.press(&[CONTROL, 0x74]);
    until("it is in the tray", || office.desk.service.get("/tray").json::<Tray>().items.len() == 1);
    // The kept ones are a list of their own, a key away.
    office.press(&[CONTROL, 0x6b]);
    until("the kept one is pasted", || {
        office.press(&[0x31]);
        pad.rest().contains(&Written::Pasted("first".into()))
    });
}

#[test]
fn escape_gives_the_keyboard_back_and_pastes_nothing() {
    // A window manager does so itself.
    for managed in [true, false] {
        let office = Office::with(managed, &["first"]);
        let pad = office.pad("Form");
        office.open();
        office.type_in("fi");
        // The help is left first, and then the picker.
        office.press(&[0xffbe]);
        office.press(&[ESCAPE]);
        assert!(office.has_keyboard());
        office.press(&[ESCAPE]);
        office.is_closed();
        until("the window has the keyboard again", || {
            office.connection.get_input_focus().unwrap().reply().unwrap().focus == pad.window()
        });
        office.type_in("z");
        let before = pad.wait(&Written::Typed("z".into()));
        assert!(!before.iter().any(|written| matches!(written, Written::Pasted(_))), "{before:?}");
    }
}

#[test]
fn nothing_is_pasted_anywhere_when_the_window_is_gone_and_the_picker_says_so() {
    let office = Office::with(true, &["first"]);
    let (other, pad) = (office.pad("Other"), office.pad("Form"));
    office.open();
    pad.kill();
    office.press(&[0x31]);
    until("it is on the clipboard", || office.desk.desktop.xclip_paste("UTF8_STRING").as_deref() == Some(b"first"));
    until("the picker says so", || office.has_keyboard());
    office.press(&[ESCAPE]);
    office.is_closed();
    assert!(other.rest().iter().all(|written| !matches!(written, Written::Pasted(_))));
}

#[test]
fn there_is_one_picker_and_it_outlives_a_crash_of_the_service() {
    let mut office = Office::with(true, &["first"]);
    let pad = office.pad("Form");
    office.open();
    office.press(&[ESCAPE]);
    office.is_closed();
    // A second one has the first one show itself, and ends.
    let mut second = Command::new(built("yadori-picker"));
    second.env_clear().env("DISPLAY", office.display()).arg("--home").arg(office.desk.service.home());
    assert!(second.status().unwrap().success());
    until("the first one is shown", || office.has_keyboard());
    office.press(&[ESCAPE]);
    office.is_closed();

    let home = office.desk.service.home().to_owned();
    let again = service::command(&home, "x11", Some(office.display()));
    let picker = pid_of_picker(&office);
    office.desk.service.crash_and_start(again);
    office.desk.service.run(&["keys", "press", "picker"]);
    until("the first one is shown by the new service", || office.has_keyboard());
    office.press(&[0x31]);
    pad.pasted("first");
    assert!(std::fs::exists(format!("/proc/{picker}")).unwrap(), "it is the same one");
    let Office { desk, .. } = office;
    assert!(desk.service.end().0);
    until("the picker ends with its service", || !std::fs::exists(format!("/proc/{picker}")).unwrap());
}

#[test]
fn two_hundred_openings_leave_nothing_behind() {
    let office = Office::with(true, &["first", "second"]);
    let _pad = office.pad("Form");
    let once = || {
        office.open();
        office.press(&[ESCAPE]);
        office.is_closed();
    };
    let memory = || {
        let pid = pid_of_picker(&office);
        let status = std::fs::read_to_string(format!("/proc/{pid}/status")).unwrap();
        let files = std::fs::read_dir(format!("/proc/{pid}/fd")).unwrap().count();
        let line = status.lines().find(|line| line.starts_with("RssAnon:")).unwrap();
        (line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap(), files)
    };
    for _ in 0..10 {
        once();
    }
    let (before, files) = memory();
    for _ in 0..200 {
        once();
    }
    let (after, files_after) = memory();
    assert!(after < before + 4 * 1024, "{before} KiB before, {after} KiB after");
    assert!(files_after <= files + 1, "{files} files before, {files_after} after");
}

/// The process that listens at the picker's socket: the child of the service.
fn pid_of_picker(office: &Office) -> u32 {
    let children = format!("/proc/{0}/task/{0}/children", office.desk.service.pid());
    let of_threads = std::fs::read_dir(format!("/proc/{}/task", office.desk.service.pid())).unwrap().flatten();
    let all = of_threads.filter_map(|task| std::fs::read_to_string(task.path().join("children")).ok());
    let all: Vec<u32> = all
        .chain(std::fs::read_to_string(children))
        .flat_map(|text| text.split_whitespace().filter_map(|pid| pid.parse().ok()).collect::<Vec<_>>())
        .collect();
    let is_picker = |pid: &u32| {
        std::fs::read_to_string(format!("/proc/{pid}/comm")).is_ok_and(|name| name.trim() == "yadori-picker")
    };
    all.into_iter().find(is_picker).expect("a picker")
}

#[test]
fn a_real_editor_is_pasted_into() {
    let mut office = Office::with(true, &["Load-in at 14:00, loading door"]);
    let mut command = Command::new("mousepad");
    command
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("DISPLAY", office.display())
        .env("HOME", office.desk.service.home());
    command
        .env("GSETTINGS_BACKEND", "memory")
        .env("DBUS_SESSION_BUS_ADDRESS", "disabled:")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    let _editor = Process::spawn(command);
    until("the editor has the keyboard", || {
        office.desk.service.get("/keyboard").text().to_lowercase().contains("\"application\":\"mousepad\"")
    });
    office.open();
    office.press(&[0x31]);
    office.is_closed();
    // It is copied out of the editor again, twice over: what is there was pasted there.
    let mut copied = false;
    until("the text is in the editor", || {
        office.press(&[CONTROL, 0x61]);
        office.press(&[CONTROL, 0x63]);
        while let Some(change) = office.desk.events.change_within(Duration::from_millis(300)) {
            copied |= change.clip.is_some_and(|clip| {
                clip.preview == "Load-in at 14:00, loading door"
                    && clip.source.application.as_deref() == Some("Mousepad")
            });
        }
        copied
    });
}

#[test]
fn a_real_terminal_is_pasted_into() {
    let office = Office::with(true, &["scp plan.pdf booth:", "another"]);
    let written = office.desk.service.home().join("typed");
    let mut command = Command::new("sakura");
    command.env_clear().env("PATH", "/usr/bin:/bin").env("DISPLAY", office.display()).env("LC_ALL", "C.UTF-8");
    command.env("HOME", office.desk.service.home()).env("SHELL", "/bin/sh").env("GSETTINGS_BACKEND", "memory");
    command.env("DBUS_SESSION_BUS_ADDRESS", "disabled:").env("NO_AT_BRIDGE", "1");
    command.arg("-e").arg(format!("sh -c \"cat > '{}'\"", written.display()));
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    let _terminal = Process::spawn(command);
    until("the terminal has the keyboard, and the program in it runs", || {
        written.exists() && office.desk.service.get("/keyboard").text().to_lowercase().contains("sakura")
    });
    office.open();
    office.press(&[0x31]);
    office.is_closed();
    // What a terminal passes on is seen once the line is ended.
    until("the line is there", || {
        office.press(&[ENTER]);
        std::fs::read_to_string(&written).is_ok_and(|text| text.trim_start().starts_with("scp plan.pdf booth:\n"))
    });
}

/// The height of the letters of the rows, in pixels: of the most lines of pixels with ink that follow one another.
fn letters(office: &Office) -> usize {
    let window = office.window().unwrap();
    let (width, height) = (200, 160);
    let image = office.connection.get_image(ImageFormat::Z_PIXMAP, window, 120, 40, width, height, !0).unwrap();
    let image = image.reply().unwrap().data;
    let is_inked = |line: &[u8]| line.chunks(4).any(|pixel| pixel[0] < 0x60 && pixel[1] < 0x60 && pixel[2] < 0x60);
    let lines: Vec<bool> = image.chunks(usize::from(width) * 4).map(is_inked).collect();
    lines.split(|inked| !inked).map(<[bool]>::len).max().unwrap_or(0)
}

#[test]
fn large_fonts_of_the_system_are_followed() {
    let heights = [10, 22].map(|points| {
        let with_fonts = |home: &Home, display: &Display| {
            let settings = home.path().join(".config/gtk-4.0");
            std::fs::create_dir_all(&settings).unwrap();
            let wanted = format!("[Settings]\ngtk-font-name=DejaVu Sans {points}\ngtk-enable-animations=0\n");
            std::fs::write(settings.join("settings.ini"), wanted).unwrap();
            let mut command = service::command(home.path(), "x11", Some(display.name()));
            command.env("HOME", home.path());
            Service::start(home.path(), command)
        };
        let office = Office::started(true, &["Hamburg Hamburg Hamburg"], with_fonts);
        let _pad = office.pad("Form");
        office.open();
        let mut height = 0;
        until("words are painted, and stay as they are", || {
            let before = std::mem::replace(&mut height, letters(&office));
            (5..100).contains(&height) && before == height
        });
        height
    });
    assert!(heights[1] >= heights[0] * 3 / 2, "{heights:?}");
}

/// What a screen reader hears of the picker, on a session bus of its own.
struct Reader {
    heard: Receiver<String>,
    _reader: Process,
    bus: Bus,
}

impl Reader {
    fn listen(display: &str, home: &std::path::Path) -> Self {
        let bus = Bus::start(home, display);
        let mut command = Command::new("/usr/bin/python3");
        command.arg(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/e2e/reader.py"));
        command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", home).env("DISPLAY", display);
        command.env("DBUS_SESSION_BUS_ADDRESS", bus.address());
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut reader = Process::spawn(command);
        let lines = std::io::BufReader::new(reader.child().stdout.take().unwrap()).lines();
        let (tells, heard) = channel();
        std::thread::spawn(move || lines.map_while(Result::ok).try_for_each(|line| tells.send(line)));
        assert_eq!(heard.recv_timeout(PATIENCE).unwrap(), "listening");
        Self { heard, _reader: reader, bus }
    }

    /// Waits until something is heard.
    fn hears(&self, words: &str) {
        self.hears_all(&[words]);
    }

    /// Waits until all of this is heard, in whatever order.
    fn hears_all(&self, words: &[&str]) {
        let deadline = Instant::now() + PATIENCE;
        let mut all: Vec<String> = Vec::new();
        let missing = |all: &[String]| {
            words.iter().filter(|words| !all.iter().any(|line| line.contains(**words))).copied().collect::<Vec<_>>()
        };
        while !missing(&all).is_empty() {
            match self.heard.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
                Ok(line) => all.push(line),
                Err(_) => panic!("{:?} is not heard, but {all:#?}", missing(&all)),
            }
        }
    }

    /// What is heard until these words are, or the time is over.
    fn heard_within(&self, words: &str, time: Duration) -> Vec<String> {
        let deadline = Instant::now() + time;
        let mut all: Vec<String> = Vec::new();
        while let Ok(line) = self.heard.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
            all.push(line);
            if all.last().is_some_and(|line| line.contains(words)) {
                break;
            }
        }
        all
    }
}

#[test]
fn the_whole_job_is_done_with_a_screen_reader_and_no_picture() {
    let (home, display) = (Home::new(), Display::start());
    let reader = Reader::listen(display.name(), home.path());
    let mut command = service::command(home.path(), "x11", Some(display.name()));
    command.env("DBUS_SESSION_BUS_ADDRESS", reader.bus.address()).env("HOME", home.path());
    let service = Service::start(home.path(), command);
    for clip in ["third", "second", "first"] {
        service.run(&["add", clip]);
    }
    until("the keys reach the service", || {
        service.get("/keys").json::<Keys>().keys.iter().all(|binding| binding.state == Some(KeyState::Grabbed))
    });
    let press = |keys: &[u32]| press(display.name(), keys);
    let pad = Pad::open(display.name(), "Form", V);
    pad.focus();
    press(&[CONTROL, ALT, SPACE]);
    // A program that has just started and a screen reader need a moment to meet.
    let met = || {
        press(&[DOWN]);
        press(&[HOME]);
        let all = reader.heard_within("focus list item | 1, first, ", Duration::from_secs(1));
        all.iter().any(|line| line.contains("1, first, "))
    };
    until("the screen reader has met the picker", met);
    press(&[ESCAPE]);
    until("the picker is closed", || !service.get("/keyboard").text().contains("Picker"));
    pad.focus();
    press(&[CONTROL, ALT, SPACE]);
    // The first clip is read as soon as the window is there.
    reader.hears("focus list item | 1, first, ");
    // It may be told of before the window has the keyboard.
    until("the picker has the keyboard", || service.get("/keyboard").text().contains("Picker"));
    press(&[DOWN]);
    reader.hears("focus list item | 2, second, ");
    // What is typed goes into a field that has a name, and the results are a key away.
    "thi".chars().for_each(|c| press(&[u32::from(c)]));
    reader.hears_all(&["focus entry | Search your clips", "says 1 of 3 clips match"]);
    press(&[DOWN]);
    reader.hears("focus list item | 1, third, ");
    press(&[0xffbe]);
    reader.hears("Keys");
    press(&[ESCAPE]);
    reader.hears("focus list item | 1, third, ");
    // What the person must know is said when it happens.
    service.run(&["pause"]);
    reader.hears("says Paused; copies are not kept");
    press(&[ENTER]);
    pad.pasted("third");
    assert!(service.end().0);
}
