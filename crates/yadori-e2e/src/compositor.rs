//! A Wayland compositor of its own for each test.

use crate::process::Process;
use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::TempDir;

/// A running compositor without a screen.
pub struct Compositor {
    runtime: TempDir,
    socket: PathBuf,
    x11: Option<String>,
    server: Process,
}

/// What the compositor is to be.
#[derive(Clone, Debug, Default)]
pub struct Wanted<'a> {
    /// Whether X11 programs can run on it too.
    pub xwayland: bool,
    /// Further lines of its configuration.
    pub configuration: &'a str,
}

impl Compositor {
    /// Starts one that gives access to its clipboard.
    ///
    /// # Panics
    /// If sway is missing or does not start.
    pub fn start() -> Self {
        Self::with(&Wanted::default())
    }

    /// The same, with more.
    ///
    /// # Panics
    /// If sway is missing or does not start.
    pub fn with(wanted: &Wanted<'_>) -> Self {
        Self::again(tempfile::Builder::new().prefix("yadori-way-").tempdir().expect("a temporary folder"), wanted)
    }

    fn again(runtime: TempDir, wanted: &Wanted<'_>) -> Self {
        let path = runtime.path();
        let configuration = path.join("sway.conf");
        let xwayland = if wanted.xwayland { "force" } else { "disable" };
        let text = format!(
            "xwayland {xwayland}\noutput HEADLESS-1 resolution 1280x800\ndefault_border none\n{}\nexec echo \"ready $WAYLAND_DISPLAY $DISPLAY\"\n",
            wanted.configuration
        );
        std::fs::write(&configuration, text).expect("a configuration");
        let mut command = without_a_screen(path, "sway");
        command.arg("-c").arg(&configuration);
        let mut server = Process::spawn(command);
        let mut ready = String::new();
        BufReader::new(server.child().stdout.take().expect("its output")).read_line(&mut ready).expect("its output");
        let mut words = ready.split_whitespace().skip(1);
        let socket = path.join(words.next().expect("sway did not start"));
        Self { socket, x11: words.next().map(str::to_owned), server, runtime }
    }

    /// Starts one that gives no access to its clipboard.
    ///
    /// # Panics
    /// If cage is missing or does not start.
    pub fn without_access() -> Self {
        let runtime = tempfile::Builder::new().prefix("yadori-way-").tempdir().expect("a temporary folder");
        let mut command = without_a_screen(runtime.path(), "cage");
        command.args(["--", "sh", "-c", "echo \"ready $WAYLAND_DISPLAY\"; exec sleep infinity"]);
        let mut server = Process::spawn(command);
        let mut ready = String::new();
        BufReader::new(server.child().stdout.take().expect("its output")).read_line(&mut ready).expect("its output");
        let socket = runtime.path().join(ready.split_whitespace().nth(1).expect("cage did not start"));
        Self { socket, x11: None, server, runtime }
    }

    /// It crashes; gives what starts it again at the same socket.
    pub fn crash(self) -> impl FnOnce() -> Self {
        let Self { runtime, socket, mut server, .. } = self;
        server.end(rustix::process::Signal::KILL);
        // What a crash leaves behind would make it choose another name.
        let _ = std::fs::remove_file(&socket);
        let _ = std::fs::remove_file(socket.with_extension("lock"));
        move || {
            let again = Self::again(runtime, &Wanted::default());
            assert_eq!(again.socket, socket, "it has another name now");
            again
        }
    }

    /// Where it listens, for `WAYLAND_DISPLAY`.
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    /// The folder of its socket.
    pub fn runtime(&self) -> &Path {
        self.runtime.path()
    }

    /// The X server for programs on it that need one, for `DISPLAY`.
    ///
    /// # Panics
    /// If it was not wanted.
    pub fn display(&self) -> &str {
        self.x11.as_deref().expect("an X server on the compositor")
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.server.pid()
    }

    /// A program on it.
    pub fn command(&self, program: &str) -> Command {
        let mut command = Command::new(program);
        command.env("WAYLAND_DISPLAY", &self.socket).env("XDG_RUNTIME_DIR", self.runtime.path());
        command.env_remove("DISPLAY").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        command
    }

    /// Copies bytes as `wl-copy` does, under one MIME type.
    ///
    /// # Panics
    /// If wl-copy is missing or fails.
    pub fn wl_copy(&self, mime: &str, content: &[u8]) {
        self.wl_copy_with(&["--type", mime], content);
    }

    /// The same, with any arguments.
    ///
    /// # Panics
    /// If wl-copy is missing or fails.
    pub fn wl_copy_with(&self, arguments: &[&str], content: &[u8]) {
        let mut child = self.command("wl-copy").args(arguments).stdin(Stdio::piped()).spawn().expect("wl-copy");
        child.stdin.take().expect("its input").write_all(content).expect("wl-copy reads");
        assert!(child.wait().expect("wl-copy").success(), "wl-copy failed");
    }

    /// Pastes as `wl-paste` does; `None` when it gets nothing.
    ///
    /// # Panics
    /// If wl-paste is missing.
    pub fn wl_paste(&self, arguments: &[&str]) -> Option<Vec<u8>> {
        let output = self
            .command("wl-paste")
            .arg("--no-newline")
            .args(arguments)
            .stdout(Stdio::piped())
            .output()
            .expect("wl-paste");
        output.status.success().then_some(output.stdout)
    }

    /// Sends a command to the compositor, and waits until it is carried out.
    ///
    /// # Panics
    /// If it does not understand.
    pub fn tell(&self, message: &str) -> String {
        self.tell_words(&message.split(' ').collect::<Vec<_>>())
    }

    /// Sends a line of a configuration to the compositor.
    ///
    /// # Panics
    /// If it does not understand.
    pub fn tell_whole(&self, line: &str) -> String {
        self.tell_words(&["--", line])
    }

    fn tell_words(&self, words: &[&str]) -> String {
        let sockets = std::fs::read_dir(self.runtime.path()).expect("its folder");
        let socket = sockets
            .filter_map(|entry| Some(entry.ok()?.path()))
            .find(|path| path.file_name().is_some_and(|name| name.to_string_lossy().starts_with("sway-ipc")))
            .expect("a socket to tell it something");
        let output = self.command("swaymsg").arg("-s").arg(socket).args(words).stdout(Stdio::piped()).output();
        let output = output.expect("swaymsg");
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stdout));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }
}

/// A compositor's command. Both refuse to run as root, so root becomes somebody else to them.
fn without_a_screen(runtime: &Path, program: &str) -> Command {
    let mut command = if rustix::process::geteuid().is_root() {
        let mut command = Command::new("unshare");
        command.args(["--user", "--map-user=1000", "--map-group=1000", program]);
        command
    } else {
        Command::new(program)
    };
    command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", runtime).env("XDG_RUNTIME_DIR", runtime);
    command.env("WLR_BACKENDS", "headless").env("WLR_LIBINPUT_NO_DEVICES", "1").env("WLR_RENDERER", "pixman");
    command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
    command
}
