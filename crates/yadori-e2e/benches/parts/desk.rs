//! What a person at a desk waits for: the picker, keys, pastes. On Xvfb without a window manager.

use super::{fill, quantile, sleeps, terminal};
use crate::report::Report;
use std::io::Write;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use x11rb::connection::Connection;
use x11rb::protocol::xproto::{ConnectionExt, ImageFormat, Window};
use x11rb::rust_connection::RustConnection;
use yadori_api::{KeyState, Keys};
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::pad::keysyms::{ALT, CONTROL, ENTER, ESCAPE, SPACE, V};
use yadori_e2e::pad::{Pad, Written, picker_window, press, seen_window};
use yadori_e2e::process::built;
use yadori_e2e::program::{Manner, Program};
use yadori_e2e::service::Service;
use yadori_e2e::waiting::until;

/// How often each is measured.
const TIMES: usize = 60;

/// Pause between pastes: who pastes again at once waits until the paste before is surely over, and that is not measured.
const BETWEEN: Duration = Duration::from_millis(160);

/// The ground of what meets a query, by day (blue, green, red).
const MARK: [u8; 3] = [0x8c, 0xdc, 0xf2];

struct Desk {
    connection: RustConnection,
    root: Window,
    display: Display,
}

impl Desk {
    fn press(&self, keys: &[u32]) {
        press(self.display.name(), keys);
    }

    fn window(&self) -> Option<Window> {
        picker_window(&self.connection, self.root)
    }

    /// The pixels of the first rows.
    fn rows(&self, window: Window) -> Vec<u8> {
        let asked = self.connection.get_image(ImageFormat::Z_PIXMAP, window, 70, 45, 300, 60, !0);
        asked.ok().and_then(|asked| asked.reply().ok()).map(|image| image.data).unwrap_or_default()
    }

    /// Presses the picker's key; how long until its first rows are painted.
    fn open(&self) -> Duration {
        let before = Instant::now();
        self.press(&[CONTROL, ALT, SPACE]);
        until("the picker is painted", || {
            self.window().is_some_and(|window| {
                let rows = self.rows(window);
                // Something light with something dark on it: words on paper.
                rows.chunks(4).any(|pixel| pixel[0] > 0xd0)
                    && rows.chunks(4).any(|pixel| pixel[0] < 0x50 && pixel[2] > 0)
            })
        });
        before.elapsed()
    }

    fn close(&self) {
        self.press(&[ESCAPE]);
        until("the picker is closed", || self.window().is_none());
    }
}

/// How long an empty window of the same toolkit takes from a word to be painted.
fn empty_window(desk: &Desk) -> Vec<Duration> {
    let mut command = Command::new(built("examples/empty_window"));
    command.env("DISPLAY", desk.display.name()).env_remove("WAYLAND_DISPLAY").env("GDK_BACKEND", "x11");
    command.env("DBUS_SESSION_BUS_ADDRESS", "disabled:").env("NO_AT_BRIDGE", "1").stderr(Stdio::null());
    let mut program = command.stdin(Stdio::piped()).spawn().expect("an empty window");
    let mut orders = program.stdin.take().expect("a pipe");
    let seen = || seen_window(&desk.connection, desk.root, "empty_window");
    let mut times = Vec::with_capacity(TIMES);
    // The first time it is not warm.
    for _ in 0..=TIMES {
        let before = Instant::now();
        orders.write_all(b"\n").expect("an order");
        let is_light = |window| {
            let rows = desk.rows(window);
            !rows.is_empty() && rows.chunks(4).all(|pixel| pixel[0] > 0xd0)
        };
        until("the window is painted", || seen().is_some_and(is_light));
        times.push(before.elapsed());
        orders.write_all(b"\n").expect("an order");
        until("the window is hidden", || seen().is_none());
    }
    drop(orders);
    program.wait().expect("it ends");
    times.split_off(1)
}

/// Private memory of a process, in MiB.
fn private_mib(pid: u32) -> f64 {
    let text = std::fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).expect("its memory");
    let of = |name: &str| -> f64 {
        let line =
            text.lines().find_map(|line| line.strip_prefix(name)?.trim().strip_suffix(" kB")?.trim().parse().ok());
        line.unwrap_or(0.0)
    };
    (of("Private_Clean:") + of("Private_Dirty:")) / 1024.0
}

fn picker_pid() -> u32 {
    let own = std::fs::read_dir("/proc").expect("processes").flatten();
    let pids = own.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let mut pickers = pids.filter(|pid| {
        std::fs::read_to_string(format!("/proc/{pid}/comm")).is_ok_and(|name| name.trim() == "yadori-picker")
    });
    pickers.next().expect("the picker")
}

fn both(report: &mut Report, what: &str, samples: &mut [Duration], least: &mut [Duration], budget: Option<f64>) {
    for share in [0.5, 0.99] {
        let figure = quantile(samples, share);
        let limit = Some(("an empty window of the toolkit", quantile(least, share)));
        report.add(format!("{what}, p{}", share * 100.0), figure, "ms", limit, budget.filter(|_| share < 0.9), false);
    }
}

pub fn desk(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    let home = Home::new();
    runtime.block_on(fill(&home.path().join("data/database"), 100_000));
    let display = Display::start();
    let (connection, screen) = x11rb::connect(Some(display.name())).expect("the X server");
    let root = connection.setup().roots[screen].root;
    let service = Service::on_display(&home, &display);
    let desk = Desk { connection, root, display };
    until("the keys reach the service", || {
        service.get("/keys").json::<Keys>().keys.iter().all(|key| key.state == Some(KeyState::Grabbed))
    });
    let pad = Pad::open(desk.display.name(), "Form", V);
    pad.focus();

    let cold = desk.open();
    report.add("key to painted picker, cold, 100,000 clips", cold.as_secs_f64() * 1000.0, "ms", None, None, false);
    desk.close();
    let mut warm: Vec<Duration> = (0..TIMES)
        .map(|_| {
            let time = desk.open();
            desk.close();
            time
        })
        .collect();
    let mut empty = empty_window(&desk);
    both(report, "key to painted picker, warm, 100,000 clips", &mut warm, &mut empty, Some(50.0));
    pad.focus();

    // One letter more, and its matches are marked.
    let mut typed = Vec::with_capacity(TIMES);
    for _ in 0..TIMES {
        desk.open();
        let window = desk.window().expect("the picker");
        let before = Instant::now();
        desk.press(&[u32::from('l')]);
        until("the matches are marked", || desk.rows(window).chunks(4).any(|pixel| pixel[..3] == MARK));
        typed.push(before.elapsed());
        desk.close();
    }
    let mut asked: Vec<Duration> = (0..TIMES)
        .map(|_| {
            let before = Instant::now();
            service.get("/clips?q=l&limit=30");
            before.elapsed()
        })
        .collect();
    let limit = ("the same search over HTTP", quantile(&mut asked, 0.5));
    let figure = quantile(&mut typed, 0.5);
    report.add("keystroke to painted results, 100,000 clips, p50", figure, "ms", Some(limit), Some(33.0), false);
    report.add("keystroke to painted results, 100,000 clips, p99", quantile(&mut typed, 0.99), "ms", None, None, false);

    pastes(report, &desk, &service, &pad);
    terminal::pick(report, &service);
    let pid = picker_pid();
    report.add("private memory of the warm picker", private_mib(pid), "MiB", None, Some(64.0), false);
    // The connections of the requests before are closed, and threads ended that nobody needs any more.
    std::thread::sleep(Duration::from_secs(40));
    let before = (sleeps(service.pid()), sleeps(pid));
    std::thread::sleep(Duration::from_secs(10));
    let woken = |pid: u32, before: u64| (sleeps(pid) - before) as f64 / 10.0;
    report.add(
        "wakeups of the idle service, keys grabbed",
        woken(service.pid(), before.0),
        "per second",
        None,
        Some(0.0),
        false,
    );
    report.add("wakeups of the idle picker", woken(pid, before.1), "per second", None, Some(0.0), false);
}

/// How long until the newest clip is pasted, by the picker and by its position key.
fn pastes(report: &mut Report, desk: &Desk, service: &Service, pad: &Pad) {
    let newest = service.clips(&["list", "-n", "1"]).remove(0);
    let text = service.get(&format!("/clips/{}/content", newest.id)).text();
    let mut picked = Vec::with_capacity(TIMES);
    for _ in 0..TIMES {
        desk.open();
        let before = Instant::now();
        desk.press(&[ENTER]);
        pad.pasted(&text);
        picked.push(before.elapsed());
        until("the picker is closed", || desk.window().is_none());
        std::thread::sleep(BETWEEN);
    }
    let mut keyed = Vec::with_capacity(TIMES);
    for _ in 0..TIMES {
        let before = Instant::now();
        desk.press(&[CONTROL, ALT, 0x31]);
        pad.pasted(&text);
        keyed.push(before.elapsed());
        std::thread::sleep(BETWEEN);
    }
    // A bare owner, and the keys that paste.
    let _owner = Program::copy(desk.display.name(), &[("UTF8_STRING", text.as_bytes())], Manner::Honest);
    let mut bare = Vec::with_capacity(TIMES);
    for _ in 0..TIMES {
        let before = Instant::now();
        desk.press(&[CONTROL, V]);
        pad.wait(&Written::Pasted(text.clone()));
        bare.push(before.elapsed());
    }
    for share in [0.5, 0.99] {
        let limit = quantile(&mut bare, share);
        let least = Some(("the keys and a bare transfer", limit));
        let p = share * 100.0;
        report.add(
            format!("Enter in the picker to pasted, p{p}"),
            quantile(&mut picked, share),
            "ms",
            least,
            None,
            true,
        );
        report.add(format!("position key to pasted, p{p}"), quantile(&mut keyed, share), "ms", least, None, true);
    }
}
