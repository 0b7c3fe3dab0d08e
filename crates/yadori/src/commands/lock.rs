//! The lock, and what opens the history.

use super::{print_json, say};
use crate::Context;
use crate::ask;
use crate::failure::Failure;
use crate::terminal::{Style, safe};
use clap::{Args, Subcommand, ValueEnum};
use std::time::Duration;
use yadori_api as api;
use yadori_client::Client;

/// Lock the history, and set up what opens it
///
/// Without a subcommand it locks at once: keys and clips leave the memory, the database ends, links with your other devices
/// rest. Unlock it again with: yadori unlock
#[derive(Args)]
pub struct Lock {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Show how the history is protected, and when it locks itself
    Status,
    /// Set a passphrase, or another one
    ///
    /// It is asked for at the terminal, or read from standard input: first the one that is set, if there is one, then the new
    /// one, each on a line. A key file is removed, since it would open the history without the passphrase.
    Passphrase,
    /// Make a recovery key, to be written down; one that was made before is of no use any more
    Recovery,
    /// Let something open the history at each start, or remove what does
    Protector {
        /// What it is
        kind: Kind,
        /// Remove it; the last one stays
        #[arg(long)]
        remove: bool,
    },
    /// Encrypt everything with a new key
    ///
    /// Run it after removing a protector that somebody may have a copy of. You can use the history meanwhile: only at the
    /// beginning and at the end it is away for a moment. If the service ends before it is done, it goes on at the next start.
    Rekey,
    /// Say when the history locks itself, and what happens then
    When(When),
}

#[derive(Clone, Copy, ValueEnum)]
enum Kind {
    /// A file that you alone can read
    KeyFile,
    /// The secret service of your desktop session
    SecretService,
    /// The passphrase (only with --remove)
    Passphrase,
    /// The recovery key (only with --remove)
    Recovery,
}

#[derive(Clone, Copy, ValueEnum)]
enum Switch {
    On,
    Off,
}

impl Switch {
    fn is_on(self) -> bool {
        matches!(self, Self::On)
    }
}

#[derive(Clone, Copy, ValueEnum)]
enum Copies {
    /// They are not kept
    Drop,
    /// They are sealed, and filed at the next unlock
    Seal,
}

/// When the history locks itself, and what happens then.
#[derive(Args)]
#[group(required = true, multiple = true)]
struct When {
    /// After so long without a copy or a command: 30s, 15m, 2h, or never
    #[arg(long, value_name = "TIME", value_parser = idle)]
    idle: Option<u64>,
    /// When the screen is locked
    #[arg(long, value_name = "on|off")]
    screen: Option<Switch>,
    /// When the computer goes to sleep
    #[arg(long, value_name = "on|off")]
    sleep: Option<Switch>,
    /// Whether the clipboard is emptied then
    #[arg(long, value_name = "on|off")]
    empty_clipboard: Option<Switch>,
    /// What becomes of copies while the history is locked
    #[arg(long, value_name = "drop|seal")]
    copies: Option<Copies>,
}

/// Unlock the history with the passphrase, or with the recovery key
///
/// It is asked for at the terminal, or read from standard input.
#[derive(Args)]
pub struct Unlock {}

/// How often to look how far it is.
const BETWEEN: Duration = Duration::from_millis(200);

impl Lock {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let lock = match self.command {
            None => service.post("/lock", &Nothing {})?,
            Some(Command::Status) => {
                let lock: api::Lock = service.get("/lock")?;
                return if context.json { print_json(&lock) } else { status(&lock) };
            }
            Some(Command::Passphrase) => {
                let current = current(&service)?;
                let passphrase = ask::new_secret("New passphrase")?;
                service.put("/lock/passphrase", &api::NewPassphrase { passphrase, current })?
            }
            Some(Command::Recovery) => {
                let asked = api::CurrentPassphrase { current: current(&service)? };
                let made: api::RecoveryKey = service.post("/lock/recovery", &asked)?;
                if context.json {
                    return print_json(&made);
                }
                say(&made.key)?;
                tell!(
                    "Write it down and keep it away from this computer. It opens the history, and is not shown again."
                );
                return Ok(());
            }
            Some(Command::Protector { kind, remove }) => {
                let kind = kind.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default();
                let asked = api::CurrentPassphrase { current: current(&service)? };
                let end = if remove { "/remove" } else { "" };
                service.post(&format!("/lock/protectors/{kind}{end}"), &asked)?
            }
            Some(Command::Rekey) => rekey(&service)?,
            Some(Command::When(when)) => service.patch("/lock", &when.change())?,
        };
        if context.json {
            return print_json(&lock);
        }
        if lock.state == api::LockState::Locked {
            return say("Locked. Unlock it with: yadori unlock");
        }
        status(&lock)
    }
}

impl When {
    fn change(&self) -> api::LockChange {
        api::LockChange {
            idle_seconds: self.idle,
            with_screen: self.screen.map(Switch::is_on),
            with_sleep: self.sleep.map(Switch::is_on),
            empty_clipboard: self.empty_clipboard.map(Switch::is_on),
            while_locked: self.copies.map(|copies| match copies {
                Copies::Drop => api::WhileLocked::Drop,
                Copies::Seal => api::WhileLocked::Seal,
            }),
        }
    }
}

impl Unlock {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let lock: api::Lock = service.get("/lock")?;
        let lock = match lock.state {
            api::LockState::Open => lock,
            _ => service.post("/lock/open", &api::Unlock { passphrase: ask::secret("Passphrase")? })?,
        };
        if context.json { print_json(&lock) } else { say("The history is open.") }
    }
}

/// An empty object.
#[derive(serde::Serialize)]
struct Nothing {}

fn idle(text: &str) -> Result<u64, String> {
    if text == "never" { Ok(0) } else { super::pause::seconds(text) }
}

/// The passphrase that is set, if one is.
fn current(service: &Client) -> Result<Option<String>, Failure> {
    let lock: api::Lock = service.get("/lock")?;
    if lock.protectors.contains(&api::Protector::Passphrase) { ask::secret("Passphrase").map(Some) } else { Ok(None) }
}

/// Has everything encrypted anew, and waits for it.
fn rekey(service: &Client) -> Result<api::Lock, Failure> {
    let mut lock: api::Lock = service.post("/lock/rekey", &Nothing {})?;
    let mut told = None;
    tell!("You can use the history meanwhile.");
    loop {
        match (lock.state, lock.encrypting, &lock.failure) {
            (api::LockState::Open, None, None) => return Ok(lock),
            (api::LockState::Open, None, Some(reason)) => {
                return Err(Failure::Here(format!("the history stays encrypted with the key that it has: {reason}")));
            }
            (api::LockState::Locked, ..) => {
                return Err(Failure::Here(
                    "the history was locked meanwhile; when it is unlocked, it goes on being encrypted with the new key".into(),
                ));
            }
            _ => {}
        }
        let done = lock.encrypting.map(percent);
        if let Some(percent) = done.filter(|_| done != told) {
            tell!("encrypting with a new key: {percent} %");
            told = done;
        }
        std::thread::sleep(BETWEEN);
        lock = service.get("/lock")?;
    }
}

fn percent(part: f32) -> u8 {
    (part * 100.0).round() as u8
}

fn status(lock: &api::Lock) -> Result<(), Failure> {
    let style = Style::of_stdout();
    let state = match (lock.state, lock.encrypting) {
        (api::LockState::Open, None) => "open".to_owned(),
        (api::LockState::Open, Some(part)) => format!("open; being encrypted with a new key, {} %", percent(part)),
        (api::LockState::Locked, _) => style.warning("locked; unlock it with: yadori unlock"),
        (api::LockState::Changing, Some(part)) => format!("being encrypted, {} %", percent(part)),
        (api::LockState::Changing, None) => "being opened or locked".into(),
    };
    let row = |name: &str, value: &str| say(&format!("{}  {value}", style.faint(&format!("{name:>9}"))));
    row("history", &state)?;
    row("encrypted", lock.plain_because.as_deref().map_or("yes", |why| why))?;
    for protector in &lock.protectors {
        row("by", protector.protects())?;
    }
    if let Some(reason) = &lock.failure {
        row("", &style.warning(&format!("the last attempt failed: {}", safe(reason))))?;
    }
    if lock.older_keys {
        row(
            "",
            &style.warning(
                "keys.json is an older one than the history has seen: a passphrase or key that you have changed",
            ),
        )?;
        row("", &style.warning("or removed since may open it again. Set the passphrase anew: yadori lock passphrase"))?;
    }
    if !lock.encrypted {
        return Ok(());
    }
    let mut when = Vec::new();
    if lock.idle_seconds > 0 {
        when.push(format!("after {} s without a copy or a command", lock.idle_seconds));
    }
    when.extend(lock.with_screen.then(|| "with the screen".to_owned()));
    when.extend(lock.with_sleep.then(|| "when the computer goes to sleep".to_owned()));
    let when = if when.is_empty() { "not by itself".to_owned() } else { when.join(", ") };
    row("locks", &when)?;
    let copies = match lock.while_locked {
        api::WhileLocked::Drop => "copies are not kept",
        api::WhileLocked::Seal => "copies are sealed, and filed at the next unlock",
    };
    row("meanwhile", &format!("{copies}{}", if lock.empty_clipboard { "; the clipboard is emptied" } else { "" }))
}
