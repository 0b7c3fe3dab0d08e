//! A session bus of its own for a test.

use crate::process::Process;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};

/// A running message bus.
pub struct Bus {
    address: String,
    _daemon: Process,
}

impl Bus {
    /// Starts one; what it starts in turn has this home and display.
    ///
    /// # Panics
    /// If dbus-daemon is missing or does not start.
    pub fn start(home: &Path, display: &str) -> Self {
        let mut command = Command::new("dbus-daemon");
        command.args(["--session", "--nofork", "--print-address"]);
        command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", home).env("DISPLAY", display);
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut daemon = Process::spawn(command);
        let mut lines = BufReader::new(daemon.child().stdout.take().expect("its output")).lines();
        let address = lines.next().expect("its address").expect("its address");
        Self { address, _daemon: daemon }
    }

    /// Where it is, for `DBUS_SESSION_BUS_ADDRESS`.
    pub fn address(&self) -> &str {
        &self.address
    }
}
