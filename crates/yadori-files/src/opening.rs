//! Addresses are opened by the person's own programs.

use std::ffi::OsStr;
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// What opens an address, or a file, with the program that the person has for it. Below a unit of systemd, the program must not
/// be confined as the service is, and is made a unit of its own.
pub fn opener(address: impl AsRef<OsStr>) -> Command {
    // Set for everything that is started by systemd (systemd.exec(5)).
    let mut command = if std::env::var_os("INVOCATION_ID").is_some() {
        let mut command = Command::new("systemd-run");
        command.args(["--user", "--quiet", "--collect", "xdg-open"]);
        command
    } else {
        Command::new("xdg-open")
    };
    command.arg(address).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    command
}

/// A file that leads to the link, which only this user can read: other users of the machine can read the arguments of a
/// browser that is started. Those of earlier links go.
///
/// # Errors
/// When it cannot be written.
pub fn way_in(folder: &Path, url: &str) -> io::Result<PathBuf> {
    const NAME: (&str, &str) = ("console-", ".html");
    for entry in fs::read_dir(folder)?.filter_map(Result::ok) {
        let name = entry.file_name();
        if name.to_str().is_some_and(|name| name.starts_with(NAME.0) && name.ends_with(NAME.1)) {
            let _ = fs::remove_file(entry.path());
        }
    }
    let path = folder.join(format!("{}{}{}", NAME.0, std::process::id(), NAME.1));
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
    write!(
        file,
        "<!doctype html><meta charset=\"utf-8\"><meta name=\"referrer\" content=\"no-referrer\">\
         <meta http-equiv=\"refresh\" content=\"0; url={url}\"><title>Yadori</title>"
    )?;
    Ok(path)
}
