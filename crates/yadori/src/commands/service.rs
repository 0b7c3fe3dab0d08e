//! The service is started at log-in, or is not.

use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::{Args, Subcommand};
use serde::Serialize;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command as Process, Stdio};

/// The unit as it is packaged; its program's path is put in.
const UNIT: &str = include_str!("../../../../packaging/yadori.service");

/// The program as the packaged unit has it.
const PACKAGED: &str = "ExecStart=/usr/bin/yadorid";

/// Start the service at log-in: install, remove, status
///
/// Uses systemd where it runs for this user, and the desktop's autostart folder elsewhere.
#[derive(Args)]
pub struct Service {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand, Clone, Copy, PartialEq, Eq)]
enum Command {
    /// Start it at log-in, and now; again after an upgrade, or when the programs have moved
    Install {
        /// Start it at the next log-in only
        #[arg(long)]
        later: bool,
    },
    /// Don't start it at log-in any more; nothing that is kept is removed
    Remove,
    /// Tell whether it is started at log-in, and by what
    Status,
}

/// How the service is started.
#[derive(Serialize)]
struct Standing {
    /// `systemd`, `autostart`, or none.
    by: Option<&'static str>,
    /// The file that says so.
    file: Option<PathBuf>,
    /// Whether it runs.
    running: bool,
}

/// Where things are, and by what the service is started here.
struct Places {
    unit: PathBuf,
    entry: PathBuf,
    systemd: bool,
}

impl Places {
    fn find() -> Result<Self, Failure> {
        let absolute = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
        let config = absolute("XDG_CONFIG_HOME").or_else(|| Some(absolute("HOME")?.join(".config")));
        let config = config.ok_or_else(|| Failure::Here("there is no home folder (HOME is not set)".into()))?;
        // The socket of the user's own manager (systemd.special(7)).
        let systemd = absolute("XDG_RUNTIME_DIR").is_some_and(|run| run.join("systemd/private").exists());
        let unit = config.join("systemd/user/yadori.service");
        Ok(Self { unit, entry: config.join("autostart/yadori.desktop"), systemd })
    }
}

impl Service {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let places = Places::find()?;
        match self.command {
            Command::Install { later } => install(context, &places, later)?,
            Command::Remove => remove(context, &places)?,
            Command::Status => {}
        }
        let standing = Standing {
            by: if places.unit.exists() { Some("systemd") } else { places.entry.exists().then_some("autostart") },
            file: [&places.unit, &places.entry].into_iter().find(|path| path.exists()).cloned(),
            running: context.service().is_ok(),
        };
        if context.json {
            return print_json(&standing);
        }
        match (&standing.file, standing.by) {
            (Some(file), Some(by)) => say(&format!("The service is started at log-in by {by}: {}", file.display()))?,
            _ => say("The service is not started at log-in. Have it started with: yadori service install")?,
        }
        say(if standing.running { "It runs." } else { "It doesn't run now. Start it with: yadorid" })
    }
}

fn cannot(path: &Path) -> impl Fn(io::Error) -> Failure {
    let path = path.display().to_string();
    move |error| Failure::Here(format!("{path} cannot be written: {error}"))
}

/// Writes a file, unless it says so already. Tells whether it did.
fn write(path: &Path, text: &str) -> Result<bool, Failure> {
    if fs::read_to_string(path).is_ok_and(|before| before == text) {
        return Ok(false);
    }
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(cannot(folder))?;
    }
    fs::write(path, text).map_err(cannot(path))?;
    Ok(true)
}

/// The command that starts the service, for a file in which words are quoted by double quotes.
fn command(home: Option<&Path>, program: &Path) -> String {
    let quoted = |path: &Path| format!("\"{}\"", path.display().to_string().replace('\\', "\\\\").replace('"', "\\\""));
    match home {
        Some(home) => format!("{} --home {}", quoted(program), quoted(home)),
        None => quoted(program),
    }
}

fn install(context: &Context, places: &Places, later: bool) -> Result<(), Failure> {
    let own = std::env::current_exe()?;
    let program = own.with_file_name("yadorid");
    if !program.exists() {
        let why = format!("{} is not there; install yadorid beside yadori", program.display());
        return Err(Failure::Here(why));
    }
    let home = context.home.as_ref().map(std::path::absolute).transpose()?;
    let starts = command(home.as_deref(), &program);
    if places.systemd {
        // In units, a percent sign is written twice.
        let unit = UNIT.replace(PACKAGED, &format!("ExecStart={}", starts.replace('%', "%%")));
        let changed = write(&places.unit, &unit)?;
        let _ = fs::remove_file(&places.entry);
        systemctl(&["daemon-reload"])?;
        if later {
            return systemctl(&["enable", "yadori.service"]);
        }
        systemctl(&["enable", "--now", "yadori.service"])?;
        if changed {
            systemctl(&["try-restart", "yadori.service"])?;
        }
        return Ok(());
    }
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Yadori\nComment=Keeps a history of what you copy\nExec={starts} --session\n\
         Icon=yadori\nNoDisplay=true\nX-GNOME-Autostart-enabled=true\n",
        starts = starts.replace('%', "%%")
    );
    write(&places.entry, &entry)?;
    if later || context.service().is_ok() {
        return Ok(());
    }
    let mut service = Process::new(&program);
    if let Some(home) = &home {
        service.arg("--home").arg(home);
    }
    service.arg("--session");
    std::os::unix::process::CommandExt::process_group(&mut service, 0);
    let mut service = service.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null()).spawn()?;
    // It says `ready`, or ends.
    let mut ready = String::new();
    if let Some(output) = service.stdout.take() {
        io::BufRead::read_line(&mut io::BufReader::new(output), &mut ready)?;
    }
    if ready.starts_with("ready") {
        return Ok(());
    }
    Err(Failure::Here("the service will be started at log-in, but doesn't start now; see why with: yadorid".into()))
}

fn remove(_context: &Context, places: &Places) -> Result<(), Failure> {
    if places.unit.exists() {
        if places.systemd {
            systemctl(&["disable", "yadori.service"])?;
        }
        fs::remove_file(&places.unit).map_err(cannot(&places.unit))?;
        if places.systemd {
            systemctl(&["daemon-reload"])?;
        }
    }
    if places.entry.exists() {
        fs::remove_file(&places.entry).map_err(cannot(&places.entry))?;
    }
    Ok(())
}

fn systemctl(arguments: &[&str]) -> Result<(), Failure> {
    let output = Process::new("systemctl").arg("--user").args(arguments).output();
    let output = output.map_err(|error| Failure::Here(format!("systemctl cannot be run: {error}")))?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(Failure::Here(format!("systemctl --user {}: {}", arguments.join(" "), said.trim())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_program_and_its_home_are_quoted_wherever_they_lie() {
        let home = Path::new("/home/mira/my \"own\" things");
        assert_eq!(
            command(Some(home), Path::new("/opt/a b/yadorid")),
            r#""/opt/a b/yadorid" --home "/home/mira/my \"own\" things""#
        );
        assert_eq!(UNIT.matches(PACKAGED).count(), 1, "the unit has a program to be put in");
    }
}
