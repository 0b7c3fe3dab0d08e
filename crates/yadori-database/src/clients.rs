//! MariaDB's own clients, with which a whole database is read and written.

use super::process::find;
use super::{PrivateServer, ServerState};
use rustix::fs::{MemfdFlags, memfd_create};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::process::{Child, Command, Stdio};

/// A table that is there for a moment, when something that was forgotten is written over. It is not copied.
pub(super) const FILLING: &str = "filling";

/// How a client reaches a server.
#[derive(Clone)]
pub(super) struct Reached {
    socket: String,
    password: String,
}

impl Reached {
    pub fn of(server: &PrivateServer) -> Result<Self, String> {
        let ServerState::Running { url, .. } = server.state().borrow().clone() else {
            return Err("a server ended".into());
        };
        let url = url::Url::parse(&url).map_err(|error| error.to_string())?;
        let socket = url.query_pairs().find(|(name, _)| name == "socket").map(|(_, socket)| socket.into_owned());
        let password = url.password().unwrap_or_default().to_owned();
        Ok(Self { socket: socket.ok_or("no socket")?, password })
    }

    /// A client of the server. Its password is in no argument and no file; the file in memory lasts as long as it is held.
    pub fn client(&self, program: &str) -> Result<(Command, File), String> {
        let said = |error: io::Error| error.to_string();
        let program =
            find(program).ok_or_else(|| format!("{program} is missing (on Debian: apt install mariadb-client)"))?;
        // Inherited by what is started: the flag is set in this process only for a moment, and the file holds no content.
        let options = File::from(memfd_create("yadori", MemfdFlags::empty()).map_err(|error| said(error.into()))?);
        // The clients ignore options that others could write.
        options.set_permissions(fs::Permissions::from_mode(0o600)).map_err(said)?;
        let text = format!("[client]\nuser=yadori\npassword={}\nsocket={}\n", self.password, self.socket);
        options.write_all_at(text.as_bytes(), 0).map_err(said)?;
        let mut command = Command::new(program);
        command.arg(format!("--defaults-file=/proc/self/fd/{}", options.as_raw_fd()));
        command.stdin(Stdio::null()).stderr(Stdio::piped());
        Ok((command, options))
    }

    /// A client that takes statements of any size.
    pub fn statements(&self) -> Result<(Command, File), String> {
        let (mut command, options) = self.client("mariadb")?;
        command.args(["--default-character-set=utf8mb4", "--max-allowed-packet=64M", "--batch", "--skip-column-names"]);
        command.arg("yadori");
        Ok((command, options))
    }

    /// What the server answers, a line for each row.
    pub fn ask(&self, statement: &str) -> Result<String, String> {
        let (mut command, _options) = self.statements()?;
        let done = command.args(["-e", statement]).output().map_err(|error| error.to_string())?;
        if !done.status.success() {
            return Err(String::from_utf8_lossy(&done.stderr).trim().to_owned());
        }
        Ok(String::from_utf8_lossy(&done.stdout).into_owned())
    }

    /// The tables of the database, to be named in a statement, but for [`FILLING`]; none if it is empty.
    pub fn tables(&self) -> Result<Option<String>, String> {
        let tables = self.ask(&format!(
            "SELECT GROUP_CONCAT(CONCAT('`', table_name, '`') ORDER BY table_name) FROM information_schema.tables \
             WHERE table_schema = 'yadori' AND table_name <> '{FILLING}'"
        ))?;
        Ok(Some(tables.trim()).filter(|tables| *tables != "NULL").map(str::to_owned))
    }
}

/// What one client writes goes to the other, and through `seen` on its way.
///
/// # Errors
/// When one of them fails: with its last words.
pub(super) fn pipe(
    (from_name, mut from): (&str, Command),
    (to_name, mut to): (&str, Command),
    mut seen: impl FnMut(&[u8]),
) -> Result<(), String> {
    let said = |error: io::Error| error.to_string();
    let mut from = from.stdout(Stdio::piped()).spawn().map_err(said)?;
    let mut to = to.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().map_err(said)?;
    let mut through = || -> io::Result<()> {
        let (Some(mut from), Some(mut to)) = (from.stdout.take(), to.stdin.take()) else { return Ok(()) };
        let mut buffer = vec![0; 1 << 20];
        loop {
            let count = from.read(&mut buffer)?;
            if count == 0 {
                return Ok(());
            }
            to.write_all(&buffer[..count])?;
            seen(&buffer[..count]);
        }
    };
    let piped = through();
    [(from_name, from), (to_name, to)]
        .map(|(name, child)| ended(name, child))
        .into_iter()
        .collect::<Result<(), _>>()?;
    piped.map_err(said)
}

fn ended(name: &str, child: Child) -> Result<(), String> {
    let output = child.wait_with_output().map_err(|error| error.to_string())?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(format!("{name}: {}", said.lines().last().map_or_else(|| output.status.to_string(), str::to_owned)))
}

/// A session that keeps everybody from writing, until it is dropped or the server ends.
pub(super) struct Held {
    session: Child,
    _options: File,
}

impl Held {
    /// Has everybody wait who wants to write. Gives what `question` then is answered.
    pub fn take(server: &Reached, question: &str) -> Result<(Self, String), String> {
        let said = |error: io::Error| error.to_string();
        let (mut command, options) = server.statements()?;
        let session = command.arg("--unbuffered").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(said)?;
        let mut held = Self { session, _options: options };
        let mut answer = String::new();
        if let (Some(to), Some(from)) = (&mut held.session.stdin, &mut held.session.stdout) {
            // Whoever holds a table for longer than this is not waited for: nobody could write meanwhile.
            writeln!(to, "SET lock_wait_timeout = 5; FLUSH TABLES WITH READ LOCK; {question};").map_err(said)?;
            to.flush().map_err(said)?;
            BufReader::new(from).read_line(&mut answer).map_err(said)?;
        }
        if answer.is_empty() { Err("nobody could be kept from writing".into()) } else { Ok((held, answer)) }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        drop(self.session.stdin.take());
        let _ = self.session.kill();
        let _ = self.session.wait();
    }
}
