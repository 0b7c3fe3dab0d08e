//! The service as a process, and the ways to talk to it.

use crate::home::Home;
use crate::process::{Process, built};
use crate::{PATIENCE, compositor::Compositor, display::Display};
use rustix::process::Signal;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{ChildStderr, Command, Output, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Condvar, Mutex, PoisonError};
use std::time::Instant;
use yadori_api::{BASE, Clip, ClipChange, Reach, Status};
pub use yadori_client::Event;

/// A running service.
pub struct Service {
    process: Process,
    /// How to reach it.
    pub reach: Reach,
    home: PathBuf,
    agent: ureq::Agent,
    log: Log,
}

/// What a service logs, as it comes.
struct Log {
    said: Arc<(Mutex<String>, Condvar)>,
    reading: Option<std::thread::JoinHandle<()>>,
}

impl Log {
    fn of(errors: ChildStderr) -> Self {
        let said = Arc::<(Mutex<String>, Condvar)>::default();
        let of_reader = said.clone();
        let reading = std::thread::spawn(move || {
            for line in BufReader::new(errors).lines().map_while(Result::ok) {
                *of_reader.0.lock().unwrap_or_else(PoisonError::into_inner) += &format!("{line}\n");
                of_reader.1.notify_all();
            }
        });
        Self { said, reading: Some(reading) }
    }

    /// What it has logged so far.
    fn so_far(&self) -> String {
        self.said.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Waits until it has logged these words.
    fn wait_for(&self, words: &str) {
        let said = self.said.0.lock().unwrap_or_else(PoisonError::into_inner);
        let waited = self.said.1.wait_timeout_while(said, PATIENCE, |said| !said.contains(words));
        let (said, late) = waited.unwrap_or_else(PoisonError::into_inner);
        assert!(!late.timed_out(), "it did not log “{words}”, but:\n{said}");
    }

    /// All that it has logged, once it has ended.
    fn whole(&mut self) -> String {
        if let Some(reading) = self.reading.take() {
            let _ = reading.join();
        }
        self.so_far()
    }
}

/// Lines that are shown of what a service logged, when a test fails that has it.
const SHOWN: usize = 40;

impl Drop for Service {
    fn drop(&mut self) {
        if std::thread::panicking() {
            let said = self.log.so_far();
            let lines: Vec<&str> = said.lines().collect();
            let last = lines[lines.len().saturating_sub(SHOWN)..].join("\n");
            eprintln!("the service in {} logged:\n{last}\n", self.home.display());
        }
    }
}

/// An answer over HTTP.
#[derive(Debug)]
pub struct Answer {
    /// The status.
    pub status: u16,
    /// The headers.
    pub headers: ureq::http::HeaderMap,
    /// The body.
    pub body: Vec<u8>,
}

impl Answer {
    /// The body as JSON.
    ///
    /// # Panics
    /// If it is not.
    pub fn json<T: DeserializeOwned>(&self) -> T {
        serde_json::from_slice(&self.body).unwrap_or_else(|error| panic!("{error} in {}", self.text()))
    }

    /// The body as text.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }

    /// A header.
    pub fn header(&self, name: &str) -> &str {
        self.headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
    }
}

/// The command that starts the service with this home. The environment is cleared.
pub fn command(home: &Path, clipboard: &str, display: Option<&str>) -> Command {
    let mut command = Command::new(built("yadorid"));
    command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/bin").env("RUST_BACKTRACE", "1").env("TZ", "UTC");
    // GTK would start a session bus of its own where there is none, which nobody ends.
    command.env("DBUS_SESSION_BUS_ADDRESS", "disabled:");
    command.arg("--home").arg(home).args(["--clipboard", clipboard]);
    if let Some(display) = display {
        command.env("DISPLAY", display);
    }
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    command
}

/// The same on a compositor.
pub fn on_compositor(home: &Path, clipboard: &str, compositor: &Compositor) -> Command {
    let mut command = command(home, clipboard, None);
    command.env("WAYLAND_DISPLAY", compositor.socket()).env("XDG_RUNTIME_DIR", compositor.runtime());
    command
}

impl Service {
    /// Starts the service on an X server, and waits until it is ready.
    ///
    /// # Panics
    /// If it does not start.
    pub fn on_display(home: &Home, display: &Display) -> Self {
        Self::start(home.path(), command(home.path(), "x11", Some(display.name())))
    }

    /// Starts the service on a compositor, and waits until it is ready.
    ///
    /// # Panics
    /// If it does not start.
    pub fn on_compositor(home: &Home, compositor: &Compositor) -> Self {
        Self::start(home.path(), on_compositor(home.path(), "wayland", compositor))
    }

    /// Starts the service with a simulated clipboard, and a clock that is off by this much, as faketime(1) writes it.
    ///
    /// # Panics
    /// If it does not start.
    pub fn at(home: &Home, off: &str) -> Self {
        let mut off_clock = command(home.path(), "simulated", None);
        // What faketime(1) sets; that itself would be a process more, which stands in between when this one is killed.
        let libraries = ["/usr/lib", "/usr/lib64"].iter().filter_map(|folder| std::fs::read_dir(folder).ok()).flatten();
        let library = libraries
            .flatten()
            .map(|entry| entry.path().join("faketime/libfaketimeMT.so.1"))
            .chain(["/usr/lib/faketime/libfaketimeMT.so.1".into()])
            .find(|path| path.is_file())
            .expect("libfaketime, which script/setup installs");
        off_clock.env("LD_PRELOAD", library).env("FAKETIME", off).env("FAKETIME_DONT_FAKE_MONOTONIC", "1");
        Self::start(home.path(), off_clock)
    }

    /// Starts the service with a simulated clipboard.
    ///
    /// # Panics
    /// If it does not start.
    pub fn simulated(home: &Home) -> Self {
        Self::start(home.path(), command(home.path(), "simulated", None))
    }

    /// Starts it by this command, and waits until it is ready.
    ///
    /// # Panics
    /// If it does not start; with what it said.
    pub fn start(home: &Path, command: Command) -> Self {
        let mut process = Process::spawn(command);
        let mut log = Log::of(process.child().stderr.take().expect("its errors"));
        let mut ready = String::new();
        BufReader::new(process.child().stdout.take().expect("its output")).read_line(&mut ready).expect("its output");
        if !ready.starts_with("ready ") {
            let _ = process.child().wait();
            panic!("the service did not start: {}", log.whole());
        }
        let reach = std::fs::read(home.join("run/api.json")).expect("how to reach it");
        let reach = serde_json::from_slice(&reach).expect("how to reach it");
        let agent =
            ureq::Agent::config_builder().http_status_as_error(false).max_redirects(0).proxy(None).build().new_agent();
        Self { process, reach, home: home.to_owned(), agent, log }
    }

    /// It is killed, and started again by this command.
    ///
    /// # Panics
    /// If it does not start.
    pub fn crash_and_start(&mut self, command: Command) {
        self.crash();
        self.start_again(command);
    }

    /// It is killed, and what it has started stays.
    pub fn crash(&mut self) {
        self.process.end(Signal::KILL);
    }

    /// It is started again by this command.
    ///
    /// # Panics
    /// If it does not start.
    pub fn start_again(&mut self, command: Command) {
        let home = self.home.clone();
        *self = Self::start(&home, command);
    }

    /// The folder that it keeps everything in.
    pub fn home(&self) -> &Path {
        &self.home
    }

    /// Changes something over HTTP.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn patch(&self, path: &str, body: &Value) -> Answer {
        let headers = [("authorization", self.bearer()), ("content-type", "application/json".to_owned())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        self.request("PATCH", path, &headers, body.to_string().as_bytes())
    }

    /// Waits until it has logged these words.
    ///
    /// # Panics
    /// If it does not in time.
    pub fn wait_for_log(&self, words: &str) {
        self.log.wait_for(words);
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.process.pid()
    }

    /// Ends it in good order. Tells whether it ended well, and what it logged.
    pub fn end(mut self) -> (bool, String) {
        let well = self.process.end(Signal::TERM);
        (well, self.log.whole())
    }

    /// Waits until it has ended by itself. Tells whether it ended well, and what it logged.
    ///
    /// # Panics
    /// If it does not.
    pub fn ended(mut self) -> (bool, String) {
        let well = self.process.ended();
        (well, self.log.whole())
    }

    /// Kills it.
    pub fn kill(mut self) {
        self.process.end(Signal::KILL);
    }

    /// Runs the client, with this standard input.
    ///
    /// # Panics
    /// If it cannot be run.
    pub fn run_with(&self, arguments: &[&str], input: &[u8]) -> Output {
        let mut child = client(&self.home)
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .expect("the client");
        let mut pipe = child.stdin.take().expect("its input");
        let input = input.to_owned();
        let writer = std::thread::spawn(move || drop(pipe.write_all(&input)));
        let output = child.wait_with_output().expect("the client");
        let _ = writer.join();
        output
    }

    /// Runs the client at a terminal of its own, into which `typed` is typed. Gives what that showed.
    ///
    /// # Panics
    /// If it cannot be run, or fails.
    pub fn at_a_terminal(&self, arguments: &[&str], typed: &str) -> String {
        self.at_a_terminal_with(arguments, typed, "")
    }

    /// The same with a pager for what is longer than the screen.
    ///
    /// # Panics
    /// If it cannot be run, or fails.
    pub fn at_a_terminal_with(&self, arguments: &[&str], typed: &str, pager: &str) -> String {
        let quoted = |part: &std::ffi::OsStr| format!("'{}'", part.to_string_lossy().replace('\'', r"'\''"));
        let mut inner = client(&self.home);
        inner.args(arguments).env("PAGER", pager);
        let words = std::iter::once(inner.get_program()).chain(inner.get_args()).map(quoted);
        let line = words.collect::<Vec<_>>().join(" ");
        let mut outer = Command::new("script");
        outer.args(["--quiet", "--return", "--command", &line, "/dev/null"]);
        for (name, value) in inner.get_envs() {
            match value {
                Some(value) => outer.env(name, value),
                None => outer.env_remove(name),
            };
        }
        let mut child = outer.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("script, of bsdutils");
        child.stdin.take().expect("its input").write_all(typed.as_bytes()).expect("typing");
        let output = child.wait_with_output().expect("the client");
        let shown = String::from_utf8_lossy(&output.stdout).into_owned();
        assert!(output.status.success(), "yadori {arguments:?} failed: {shown}");
        shown
    }

    /// Runs the client, which must succeed. Gives what it printed.
    ///
    /// # Panics
    /// If it fails.
    pub fn run(&self, arguments: &[&str]) -> String {
        let output = self.run_with(arguments, &[]);
        assert!(output.status.success(), "yadori {arguments:?} failed: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).expect("text")
    }

    /// Runs the client, which must fail. Gives its exit code and what it said.
    ///
    /// # Panics
    /// If it succeeds.
    pub fn fail(&self, arguments: &[&str]) -> (i32, String) {
        let output = self.run_with(arguments, &[]);
        assert!(!output.status.success(), "yadori {arguments:?} did not fail");
        (output.status.code().unwrap_or(-1), String::from_utf8_lossy(&output.stderr).into_owned())
    }

    /// Runs a command of the client that lists clips.
    ///
    /// # Panics
    /// If it fails.
    pub fn clips(&self, arguments: &[&str]) -> Vec<Clip> {
        serde_json::from_str(&self.run(&[arguments, &["--json"]].concat())).expect("clips")
    }

    /// The most memory that it has held so far, in KiB.
    ///
    /// # Panics
    /// If it has ended.
    pub fn peak_memory_kib(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.pid())).expect("the process");
        status
            .lines()
            .find_map(|line| line.strip_prefix("VmHWM:")?.trim().strip_suffix(" kB")?.trim().parse().ok())
            .expect("its memory")
    }

    /// How the service stands.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn status(&self) -> Status {
        self.get("/status").json()
    }

    /// A request with these headers and nothing else; the path is below the interface's base unless it begins
    /// with `//`.
    ///
    /// # Panics
    /// If there is no answer at all.
    pub fn request(&self, method: &str, path: &str, headers: &[(&str, &str)], body: &[u8]) -> Answer {
        let path = path
            .strip_prefix('/')
            .filter(|rest| rest.starts_with('/'))
            .map_or_else(|| format!("{BASE}{path}"), str::to_owned);
        let mut request =
            ureq::http::Request::builder().method(method).uri(format!("http://{}{path}", self.reach.address));
        for (name, value) in headers {
            request = request.header(*name, *value);
        }
        let answer = if method == "GET" || method == "HEAD" {
            self.agent.run(request.body(()).expect("a request"))
        } else {
            self.agent.run(request.body(body).expect("a request"))
        };
        let answer = answer.unwrap_or_else(|error| panic!("{method} {path}: {error}"));
        let (parts, body) = answer.into_parts();
        let body = body.into_with_config().limit(u64::MAX).read_to_vec().expect("the body");
        Answer { status: parts.status.as_u16(), headers: parts.headers, body }
    }

    /// Where it listens: address and port.
    pub fn address(&self) -> String {
        self.reach.address.to_string()
    }

    /// The header that lets a program in.
    pub fn bearer(&self) -> String {
        format!("Bearer {}", self.reach.token)
    }

    /// Asks for something, with the token.
    pub fn get(&self, path: &str) -> Answer {
        self.request("GET", path, &[("authorization", &self.bearer())], &[])
    }

    /// Sends JSON, with the token.
    pub fn post(&self, path: &str, body: &Value) -> Answer {
        let headers = [("authorization", self.bearer()), ("content-type", "application/json".into())];
        self.request(
            "POST",
            path,
            &headers.each_ref().map(|(name, value)| (*name, value.as_str())),
            body.to_string().as_bytes(),
        )
    }

    /// Follows its events.
    ///
    /// # Panics
    /// If the stream cannot be had.
    pub fn events(&self, last: Option<u64>) -> Events {
        let mut request = self
            .agent
            .get(format!("http://{}{BASE}/events", self.reach.address))
            .header("authorization", self.bearer());
        if let Some(last) = last {
            request = request.header("last-event-id", last.to_string());
        }
        let body = request.call().expect("the event stream").into_body().into_reader();
        let (sender, received) = channel();
        std::thread::spawn(move || {
            for event in yadori_client::Events::of(body).map_while(Result::ok) {
                if sender.send(event).is_err() {
                    return;
                }
            }
        });
        let mut events = Events { received, last: 0 };
        if last.is_none() {
            events.wait("ready", |_| true);
        }
        events
    }
}

/// The client, with a cleared environment.
pub fn client(home: &Path) -> Command {
    let mut command = Command::new(built("yadori"));
    command.env_clear().env("PATH", "/usr/bin:/bin").env("TZ", "UTC").arg("--home").arg(home);
    command
}

/// The events of a service, as they come.
pub struct Events {
    received: Receiver<Event>,
    /// The id of the last that came.
    pub last: u64,
}

impl Events {
    /// The next event.
    ///
    /// # Panics
    /// If none comes in time.
    pub fn any(&mut self) -> Event {
        let event = match self.received.recv_timeout(PATIENCE) {
            Ok(event) => event,
            Err(RecvTimeoutError::Timeout) => panic!("no event came in time"),
            Err(RecvTimeoutError::Disconnected) => panic!("the event stream ended"),
        };
        self.last = event.id.unwrap_or(self.last);
        event
    }

    /// Passes over events until one of this name is as it should be.
    ///
    /// # Panics
    /// If none comes in time.
    pub fn wait(&mut self, name: &str, as_it_should_be: impl Fn(&Event) -> bool) -> Event {
        let deadline = Instant::now() + PATIENCE;
        while Instant::now() < deadline {
            let event = self.any();
            if event.name == name && as_it_should_be(&event) {
                return event;
            }
        }
        panic!("no {name} event came as it should be")
    }

    /// The next change of a clip.
    ///
    /// # Panics
    /// If none comes in time.
    pub fn change(&mut self) -> ClipChange {
        let event = self.wait("clip", |_| true);
        serde_json::from_str(&event.data).expect("a change")
    }

    /// The next event, if one comes in this time.
    pub fn any_within(&mut self, time: std::time::Duration) -> Option<Event> {
        self.received.recv_timeout(time).ok()
    }

    /// The next change of a clip, if one comes in this time.
    pub fn change_within(&mut self, time: std::time::Duration) -> Option<ClipChange> {
        let deadline = Instant::now() + time;
        loop {
            let event = self.received.recv_timeout(deadline.saturating_duration_since(Instant::now())).ok()?;
            self.last = event.id.unwrap_or(self.last);
            if event.name == "clip" {
                return Some(serde_json::from_str(&event.data).expect("a change"));
            }
        }
    }

    /// Waits for a clip that was copied, and gives it.
    ///
    /// # Panics
    /// If none comes in time.
    pub fn copied(&mut self, preview: &str) -> Clip {
        let deadline = Instant::now() + PATIENCE;
        while Instant::now() < deadline {
            if let Some(clip) = self.change().clip.filter(|clip| clip.preview.contains(preview)) {
                return clip;
            }
        }
        panic!("no copy of {preview} was announced")
    }

    /// All that still comes until the stream ends.
    pub fn rest(self) -> Vec<Event> {
        self.received.iter().collect()
    }
}
