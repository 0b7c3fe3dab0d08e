//! An X server of its own for each test.

use crate::process::Process;
use std::io::{BufRead, BufReader, Write};
use std::os::fd::{AsRawFd, OwnedFd};
use std::process::{Command, Stdio};

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
        let (reader, writer) = std::io::pipe().expect("a pipe");
        let writer = OwnedFd::from(writer);
        let mut command = Command::new("Xvfb");
        // Inherited as it is numbered here.
        rustix::io::fcntl_setfd(&writer, rustix::io::FdFlags::empty()).expect("an inheritable pipe");
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
