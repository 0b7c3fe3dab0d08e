//! An X server of its own for each test.

use crate::process::Process;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};

/// A running X server without a screen.
pub struct Display {
    name: String,
    server: Process,
}

impl Display {
    /// Starts one, at a free number.
    ///
    /// # Panics
    /// If Xvfb is missing or does not start.
    pub fn start() -> Self {
        Self::start_at(None)
    }

    /// Starts one whose number nobody else takes while it is gone.
    ///
    /// # Panics
    /// If Xvfb is missing or does not start.
    pub fn start_apart() -> Self {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        // Others take the lowest number that is free.
        let number = 1000 + std::process::id() % 1000 * 50 + NEXT.fetch_add(1, Ordering::SeqCst);
        Self::start_at(Some(&format!(":{number}")))
    }

    /// It crashes; gives what starts it again at the same number.
    pub fn crash(self) -> impl FnOnce() -> Self {
        let Self { name, mut server } = self;
        server.end(rustix::process::Signal::KILL);
        move || Self::start_at(Some(&name))
    }

    fn start_at(name: Option<&str>) -> Self {
        let (reader, writer) = std::io::pipe().expect("a pipe");
        let writer = OwnedFd::from(writer);
        let mut command = Command::new("Xvfb");
        // Inherited as it is numbered here.
        rustix::io::fcntl_setfd(&writer, rustix::io::FdFlags::empty()).expect("an inheritable pipe");
        command.args(name);
        command.args([
            "-displayfd",
            &writer.as_raw_fd().to_string(),
            "-screen",
            "0",
            "1280x800x24",
            "-nolisten",
            "tcp",
            "-noreset",
        ]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let server = Process::spawn(command);
        drop(writer);
        let mut number = String::new();
        BufReader::new(reader).read_line(&mut number).expect("the number of the display");
        assert!(!number.trim().is_empty(), "Xvfb did not start");
        Self { name: format!(":{}", number.trim()), server }
    }

    /// Its name, for `DISPLAY`.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.server.pid()
    }

    /// Copies bytes as `xclip` does, under one target.
    ///
    /// # Panics
    /// If xclip is missing or fails.
    pub fn xclip(&self, target: &str, content: &[u8]) {
        let mut child = Command::new("xclip")
            .args(["-selection", "clipboard", "-t", target])
            .env("DISPLAY", &self.name)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("xclip");
        child.stdin.take().expect("its input").write_all(content).expect("xclip reads");
        assert!(child.wait().expect("xclip").success(), "xclip failed");
    }

    /// Copies or selects text as `xsel` does.
    ///
    /// # Panics
    /// If xsel is missing or fails.
    pub fn xsel(&self, selection: &str, text: &str) {
        let mut command = Command::new("xsel");
        command.args([selection, "--input"]).env("DISPLAY", &self.name);
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = command.spawn().expect("xsel");
        child.stdin.take().expect("its input").write_all(text.as_bytes()).expect("xsel reads");
        assert!(child.wait().expect("xsel").success(), "xsel failed");
    }

    /// Pastes as `xsel` does.
    ///
    /// # Panics
    /// If xsel is missing or fails.
    pub fn xsel_paste(&self, selection: &str) -> String {
        let output = Command::new("xsel").args([selection, "--output"]).env("DISPLAY", &self.name).output();
        String::from_utf8(output.expect("xsel").stdout).expect("text")
    }

    /// Pastes as `xclip` does; `None` when it gets nothing.
    ///
    /// # Panics
    /// If xclip is missing.
    pub fn xclip_paste(&self, target: &str) -> Option<Vec<u8>> {
        let output = Command::new("xclip")
            .args(["-o", "-selection", "clipboard", "-t", target])
            .env("DISPLAY", &self.name)
            .stderr(Stdio::null())
            .output()
            .expect("xclip");
        output.status.success().then_some(output.stdout)
    }
}
