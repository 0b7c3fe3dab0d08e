use super::print_json;
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{Style, safe};
use clap::Args;
use serde::Serialize;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use yadori_api::{CaptureState, ClipboardKind, Feedback, Relay, Rules, Status, Sync};
use yadori_client::places;
use yadori_core::feedback::PLAYERS;

/// Find out what's wrong, and what to do about it
///
/// Exits with 1 when something is wrong, and with 3 when the service cannot be reached.
#[derive(Args)]
pub struct Doctor {}

/// One thing that was looked at.
#[derive(Serialize)]
struct Finding {
    what: &'static str,
    fine: bool,
    found: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    remedy: Option<String>,
}

fn fine(what: &'static str, found: impl Into<String>) -> Finding {
    Finding { what, fine: true, found: found.into(), remedy: None }
}

fn wrong(what: &'static str, found: impl Into<String>, remedy: impl Into<String>) -> Finding {
    Finding { what, fine: false, found: found.into(), remedy: Some(remedy.into()) }
}

impl Doctor {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let places = places(context.home.as_deref())?;
        let mut findings = vec![folder(&places.data)];
        let service = context.service();
        let rules = service.as_ref().ok().and_then(|service| service.get::<Rules>("/rules").ok());
        let sync = service.as_ref().ok().and_then(|service| service.get::<Sync>("/sync").ok());
        let status = service.and_then(|service| Ok(service.get::<Status>("/status")?));
        let code = match &status {
            Ok(status) => {
                findings.extend(of_service(status));
                findings.extend(rules.and_then(|rules| of_sound(&rules)));
                findings.extend(sync.and_then(|sync| sync.relay).map(|relay| of_relay(&relay)));
                1
            }
            Err(failure) => {
                findings.push(match failure {
                    Failure::Unreachable { start, .. } => {
                        wrong("service", "it is not running, so nothing is being kept", format!("start it: {start}"))
                    }
                    Failure::Problem(problem) => {
                        wrong("service", problem.detail.clone(), crate::hints::hint(problem.kind).unwrap_or_default())
                    }
                    Failure::Here(message) => wrong("service", message.clone(), "start it anew: yadorid"),
                    _ => wrong("service", "it cannot be asked", "start it anew: yadorid"),
                });
                findings.extend(of_machine());
                3
            }
        };
        if context.json {
            print_json(&findings)?;
        } else {
            print(&findings)?;
        }
        if findings.iter().all(|finding| finding.fine) { Ok(()) } else { Err(Failure::Silent(code)) }
    }
}

fn of_service(status: &Status) -> Vec<Finding> {
    let own = env!("CARGO_PKG_VERSION");
    let capture = &status.capture;
    let why_off = capture.reason.as_ref().map_or("there is no clipboard", |reason| &reason.message);
    let mut findings = vec![
        if status.version == own {
            fine("service", format!("yadorid {own} runs as process {}", status.pid))
        } else {
            wrong(
                "service",
                format!("yadorid is {}, but this is yadori {own}", status.version),
                "update the older of the two, and start the service anew",
            )
        },
        match capture.state {
            CaptureState::On => fine("clipboard", format!("copies are kept from {}", capture.clipboard.word())),
            CaptureState::Paused => wrong("clipboard", "capture is paused", "resume: yadori resume"),
            CaptureState::Off => wrong(
                "clipboard",
                format!("copies aren't kept: {why_off}"),
                if capture.clipboard == ClipboardKind::None {
                    NO_CLIPBOARD
                } else {
                    "turn the history on: yadori rules set history on"
                },
            ),
        },
        match (status.database.answers, status.database.restarts) {
            (true, 0) => fine("database", "it answers"),
            (true, restarts) => {
                fine("database", format!("it answers; it ended {restarts} times by itself and was started again"))
            }
            (false, _) => match (&status.database.failure, status.database.private) {
                (Some(failure), _) => {
                    wrong("database", failure.clone(), "Yadori tries again by itself; copies wait meanwhile")
                }
                (None, true) => {
                    wrong("database", "it does not answer", "wait a moment: Yadori starts it again by itself")
                }
                (None, false) => wrong(
                    "database",
                    "the server of database_url does not answer",
                    "start that server, or see why it cannot be reached; copies wait meanwhile",
                ),
            },
        },
        if capture.waiting == 0 {
            fine("storing", "no copy is waiting to be stored")
        } else {
            wrong(
                "storing",
                format!("{} copies wait to be stored", capture.waiting),
                "make room on the disk; they are stored as soon as the database takes them",
            )
        },
        if status.console {
            fine("console", "it is built in; open it with: yadori console")
        } else {
            wrong(
                "console",
                "this service was built without it",
                "in the source folder: script/setup --console && cargo build",
            )
        },
    ];
    findings.push(protection(status));
    findings.push(match status.due.held {
        0 => fine("rules", "nothing is held back"),
        held => wrong(
            "rules",
            format!(
                "they would delete {held} clips, so they wait for you: {}",
                status.due.held_because.as_deref().unwrap_or_default()
            ),
            "see which: yadori rules preview; delete them: yadori rules sweep; or check the computer's clock",
        ),
    });
    findings.extend(status.starts_at_log_in.map(|starts| {
        fine(
            "log-in",
            if starts {
                "the service is started when you log in"
            } else {
                "the service is not started when you log in; to have that, run: yadori service install"
            },
        )
    }));
    let remedy =
        "nothing is wrong with Yadori; what is captured otherwise, and yadori add and the console, work as ever";
    findings.extend(capture.notes.iter().map(|note| wrong("desktop", note.message.clone(), remedy)));
    findings
}

/// How it stands with the relay, if there is one.
fn of_relay(relay: &Relay) -> Finding {
    let address = safe(&relay.address);
    match (&relay.warning, &relay.error) {
        (Some(warning), _) => wrong(
            "relay",
            format!("something was wrong with what {address} gave: {}", safe(warning)),
            "nothing of it was taken in; ask whoever runs it, or leave it: yadori relay remove",
        ),
        (None, Some(error)) => wrong(
            "relay",
            format!("{address} cannot be used: {}", safe(&error.message)),
            "Yadori tries again by itself; what is to be told waits meanwhile. See yadori relay",
        ),
        (None, None) => fine("relay", format!("{address} is in use")),
    }
}

/// Whether the data folder belongs to this user, and to nobody else.
fn folder(path: &Path) -> Finding {
    let shown = path.display();
    let Ok(found) = std::fs::metadata(path) else {
        return fine("folder", format!("{shown}, which is made at the first start"));
    };
    let (mode, owner) = (found.permissions().mode() & 0o777, found.uid());
    if owner != rustix::process::geteuid().as_raw() {
        return wrong(
            "folder",
            format!("{shown} belongs to another user (number {owner})"),
            format!("chown it: chown -R \"$USER\" {shown}"),
        );
    }
    if mode & 0o077 != 0 {
        return wrong(
            "folder",
            format!("{shown} can be entered by others (its mode is {mode:o})"),
            format!("make it yours alone: chmod 700 {shown}"),
        );
    }
    fine("folder", format!("{shown}, which nobody else can enter"))
}

/// What is protected by what opens the history, in plain words.
fn protection(status: &Status) -> Finding {
    if !status.encrypted {
        return fine("encrypted", "no: whoever gets the disk reads the history; see why: yadori lock status");
    }
    if status.older_keys {
        return wrong(
            "encrypted",
            "yes, but keys.json is an older one than the history has seen: a passphrase or key that you have changed or removed since may open it again",
            "bring the latest keys.json back from a copy and restart the service, or set the passphrase anew: yadori lock passphrase",
        );
    }
    let by: Vec<&str> = status.protectors.iter().map(|protector| protector.protects()).collect();
    fine("encrypted", format!("yes, by {}", by.join("; and by ")))
}

/// Whether the sound that the rules want can be heard.
fn of_sound(rules: &Rules) -> Option<Finding> {
    if !rules.feedback.contains(&Feedback::Sound) {
        return None;
    }
    Some(match PLAYERS.iter().find_map(|player| program(player)) {
        Some(player) => fine("sound", format!("played by {}", player.display())),
        None => wrong(
            "sound",
            format!("nothing plays the sound that the rules want: there is no {}", PLAYERS.join(", and no ")),
            "on Debian: apt install pipewire-bin, or without it: yadori rules set feedback notification",
        ),
    })
}

/// A program on the `PATH`, or beside this one.
fn program(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let beside = std::env::current_exe().ok().and_then(|exe| exe.parent().map(PathBuf::from));
    let folders = std::env::split_paths(&path).chain(["/usr/sbin".into()]).chain(beside);
    folders.map(|folder| folder.join(name)).find(|path| path.is_file())
}

/// What helps where no copies can be captured.
const NO_CLIPBOARD: &str = "start the service within a desktop session: WAYLAND_DISPLAY is set and the compositor gives \
    access to its clipboard, or DISPLAY is set (XWayland will do, for the programs on it); until then yadori add and the \
    console work";

/// What a service would need that is to be started.
fn of_machine() -> Vec<Finding> {
    vec![
        match program("yadorid") {
            Some(path) => fine("program", path.display().to_string()),
            None => wrong("program", "there is no yadorid on the PATH", "install it beside yadori"),
        },
        match program("mariadbd") {
            Some(path) => fine("database", path.display().to_string()),
            None => wrong("database", "MariaDB is not installed", "on Debian: apt install mariadb-server"),
        },
        {
            let set = |name: &str| Some((name.to_owned(), std::env::var(name).ok().filter(|value| !value.is_empty())?));
            match ["WAYLAND_DISPLAY", "DISPLAY"].into_iter().find_map(set) {
                Some((name, value)) => fine("desktop", format!("{name} is {value}")),
                None => wrong(
                    "desktop",
                    "neither WAYLAND_DISPLAY nor DISPLAY is set",
                    "start the service within your desktop session",
                ),
            }
        },
    ]
}

fn print(findings: &[Finding]) -> Result<(), Failure> {
    let style = Style::of_stdout();
    let mut out = std::io::stdout().lock();
    for finding in findings {
        let sign = if finding.fine { "ok   ".to_owned() } else { style.warning("wrong") };
        let row = format!("{sign}  {}  {}", style.faint(&format!("{:<9}", finding.what)), safe(&finding.found));
        writeln!(out, "{}", style.broken(&row, 18))?;
        if let Some(remedy) = &finding.remedy {
            writeln!(out, "{}", style.broken(&format!("       {:<9}  → {}", "", safe(remedy)), 20))?;
        }
    }
    Ok(out.flush()?)
}
