//! How long the picker in the terminal takes until it is there, in a terminal that answers at once.

use super::Report;
use super::quantile;
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use yadori_e2e::process::built;
use yadori_e2e::service::Service;

/// How often each is measured.
const TIMES: usize = 40;

/// What a program asks to learn where the cursor is, and the answer.
const WHERE: &[u8] = b"\x1b[6n";
const THERE: &[u8] = b"\x1b[1;1R";

/// A program in a terminal of its own.
struct Session {
    terminal: File,
    program: Child,
    shown: Vec<u8>,
    answered: usize,
}

impl Session {
    fn run(service: &Service, arguments: &[&str]) -> Self {
        let terminal = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).expect("a terminal");
        grantpt(&terminal).expect("a terminal of one's own");
        unlockpt(&terminal).expect("a terminal that is open");
        tcsetwinsize(&terminal, Winsize { ws_row: 24, ws_col: 90, ws_xpixel: 0, ws_ypixel: 0 }).expect("a size");
        let name = ptsname(&terminal, Vec::new()).expect("its name").into_string().expect("a path");
        let inner = OpenOptions::new().read(true).write(true).open(name).expect("its other end");
        let mut command = Command::new("setsid");
        // It becomes the terminal that the program is in.
        command.arg("--ctty").arg(built("yadori")).args(arguments);
        command.env("YADORI_HOME", service.home()).env("TERM", "xterm-256color").env("LC_ALL", "C.UTF-8");
        command.stdin(inner.try_clone().expect("a descriptor")).stderr(Stdio::null()).stdout(inner);
        let program = command.spawn().expect("setsid of util-linux");
        Self { terminal: terminal.into(), program, shown: Vec::new(), answered: 0 }
    }

    /// Reads on, and answers; false if the program has let go of the terminal.
    fn read(&mut self) -> bool {
        let mut bytes = [0; 16384];
        // The end of a terminal is an error.
        let count = self.terminal.read(&mut bytes).unwrap_or(0);
        self.shown.extend_from_slice(&bytes[..count]);
        let asked = self.shown.windows(WHERE.len()).filter(|window| *window == WHERE).count();
        for _ in self.answered..asked {
            self.terminal.write_all(THERE).expect("an answer");
        }
        self.answered = asked;
        count > 0
    }

    fn until(&mut self, words: &str) {
        while !self.shown.windows(words.len()).any(|window| window == words.as_bytes()) {
            assert!(self.read(), "it ended:\n{}", String::from_utf8_lossy(&self.shown));
        }
    }

    fn end(mut self) {
        while self.read() {}
        self.program.wait().expect("it ends");
    }
}

/// The limit beside it is a program of the same size that only starts and prints.
pub fn pick(report: &mut Report, service: &Service) {
    let mut opened = Vec::with_capacity(TIMES);
    for _ in 0..TIMES {
        let before = Instant::now();
        let mut session = Session::run(service, &["pick"]);
        session.until("Esc leave");
        opened.push(before.elapsed());
        session.terminal.write_all(b"\x1b").expect("a key");
        session.end();
    }
    let mut started: Vec<Duration> = (0..TIMES)
        .map(|_| {
            let before = Instant::now();
            let mut session = Session::run(service, &["--version"]);
            session.until("yadori ");
            let time = before.elapsed();
            session.end();
            time
        })
        .collect();
    for (share, budget) in [(0.5, Some(50.0)), (0.99, None)] {
        let limit = ("starting the program in a terminal", quantile(&mut started, share));
        let what = format!("yadori pick to its list on the terminal, 100,000 clips, p{}", share * 100.0);
        report.add(what, quantile(&mut opened, share), "ms", Some(limit), budget, false);
    }
}
