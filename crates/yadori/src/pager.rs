//! What is longer than the screen is read in a pager.

use crate::failure::Failure;
use crate::terminal;
use rustix::fs::{MemfdFlags, memfd_create};
use rustix::stdio::{dup2_stderr, dup2_stdout, stderr, stdout};
use std::fs::File;
use std::io::{IsTerminal, Read, Seek, Write};
use std::os::fd::OwnedFd;
use std::os::unix::process::CommandExt;
use std::process::Command;

/// The pager if `PAGER` does not name one.
const USUAL: &str = "less";

/// Holds back what is printed to the terminal, until all of it is there.
///
/// Then it is known whether it fits the screen; and as this process becomes the pager, there are never two that read the keys.
pub struct Pager {
    command: String,
    held: File,
    terminal: OwnedFd,
    /// Standard error, if that is the terminal as well.
    errors: Option<OwnedFd>,
}

impl Pager {
    /// Holds back from now on what is printed. `None` where it does not go to a terminal, or no pager is wanted.
    pub fn start() -> Option<Self> {
        let command = std::env::var("PAGER").unwrap_or_else(|_| USUAL.to_owned());
        let command = command.trim();
        if command.is_empty() || command == "cat" || !std::io::stdout().is_terminal() {
            return None;
        }
        terminal::keep_styles();
        let held = File::from(memfd_create("yadori", MemfdFlags::CLOEXEC).ok()?);
        let terminal = rustix::io::fcntl_dupfd_cloexec(stdout(), 3).ok()?;
        let errors = match std::io::stderr().is_terminal() {
            true => Some(rustix::io::fcntl_dupfd_cloexec(stderr(), 3).ok()?),
            false => None,
        };
        dup2_stdout(&held).ok()?;
        if errors.is_some() {
            dup2_stderr(&held).ok()?;
        }
        Some(Self { command: command.to_owned(), held, terminal, errors })
    }

    /// Shows what was held back. Comes back if that fits the screen, or `may_page` is false since there is more to be said.
    pub fn show(mut self, may_page: bool) -> Result<(), Failure> {
        std::io::stdout().flush()?;
        dup2_stdout(&self.terminal).map_err(std::io::Error::from)?;
        if let Some(errors) = &self.errors {
            dup2_stderr(errors).map_err(std::io::Error::from)?;
        }
        let mut text = Vec::new();
        self.held.rewind()?;
        self.held.read_to_end(&mut text)?;
        let rows = terminal_size::terminal_size().map_or(24, |(_, height)| usize::from(height.0));
        if may_page && text.iter().filter(|byte| **byte == b'\n').count() >= rows {
            self.held.rewind()?;
            let mut pager = Command::new("sh");
            pager.arg("-c").arg(&self.command).stdin(self.held.try_clone()?);
            if std::env::var_os("LESS").is_none() {
                // Colours as they are; nothing is wiped from the screen at the end.
                pager.env("LESS", "RX");
            }
            if is_there(&self.command) {
                return Err(pager.exec().into());
            }
        }
        let mut out = std::io::stdout().lock();
        out.write_all(&text)?;
        Ok(out.flush()?)
    }
}

/// Whether the first word of a command is a program.
fn is_there(command: &str) -> bool {
    let Some(program) = command.split_whitespace().next() else { return false };
    let path = std::env::var_os("PATH").unwrap_or_default();
    program.contains('/') || std::env::split_paths(&path).any(|folder| folder.join(program).is_file())
}
