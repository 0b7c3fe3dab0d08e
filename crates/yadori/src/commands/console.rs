use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{ago, count, moment, pad, safe};
use clap::{Args, Subcommand};
use yadori_api::{ConsoleDoor, ConsoleLink, ConsoleSession, OpenDoor};
use yadori_client::{in_path, places};

/// Open the console in a browser
///
/// Prints a link that lets in one browser, once, within two minutes; on a desktop, it also opens the browser.
/// A browser that was let in stays let in for 30 days: see `yadori console sessions`.
#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Console {
    /// Only print the link
    #[arg(long)]
    print: bool,

    /// Open a door for a phone on your own network, and show its link as a QR code
    #[arg(long, conflicts_with = "print")]
    phone: bool,

    /// How long that door stays open: 10m, 2h; at most a day
    #[arg(long = "for", value_name = "LENGTH", requires = "phone", default_value = "1h", value_parser = length)]
    length: u64,

    #[command(subcommand)]
    command: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// List the browsers that are let in
    Sessions,
    /// Shut browsers out
    Close {
        /// The session's id, as `yadori console sessions` shows it; `all`; or `phone`: the door for a phone
        #[arg(value_name = "ID")]
        id: String,
    },
}

impl Console {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command {
            Some(Action::Sessions) => {
                let sessions: Vec<ConsoleSession> = service.get("/console-sessions")?;
                if context.json { print_json(&sessions) } else { print(&sessions) }
            }
            Some(Action::Close { id }) if id == "phone" => {
                let closed: ConsoleDoor = service.delete_with("/console-door", &serde_json::json!({}))?;
                if context.json { print_json(&closed) } else { say("The door for a phone is closed") }
            }
            Some(Action::Close { id }) => {
                let path = format!("/console-sessions/{}", in_path(&id));
                let closed: Vec<ConsoleSession> = service.delete_with(&path, &serde_json::json!({}))?;
                if context.json {
                    return print_json(&closed);
                }
                say(&format!("Shut out {}", count(closed.len() as u64, "browser", "browsers")))
            }
            None if self.phone => {
                let door: ConsoleDoor = service.post("/console-door", &OpenDoor { seconds: Some(self.length) })?;
                if context.json { print_json(&door) } else { invite(&door) }
            }
            None => self.open(context, &service.post("/console-links", &())?),
        }
    }

    fn open(&self, context: &Context, link: &ConsoleLink) -> Result<(), Failure> {
        if context.json {
            return print_json(link);
        }
        say(&link.url)?;
        let desktop = ["DISPLAY", "WAYLAND_DISPLAY"].iter().any(|name| std::env::var_os(name).is_some());
        if self.print || !desktop {
            return Ok(());
        }
        let opened = yadori_files::way_in(&places(context.home.as_deref())?.run, &link.url)
            .and_then(|file| yadori_files::opener(file).spawn());
        if opened.is_err() {
            tell!("Couldn't open a browser (is xdg-open installed?). Open the link yourself within two minutes.");
        }
        Ok(())
    }
}

/// The length of time that is meant, in seconds.
fn length(text: &str) -> Result<u64, String> {
    yadori_core::amounts::span(text).map(|millis| millis / 1000).ok_or_else(|| "say how long: 10m, 2h".into())
}

/// What a person does with a phone to come in.
fn invite(door: &ConsoleDoor) -> Result<(), Failure> {
    let (Some(url), Some(fingerprint), Some(until)) = (&door.url, &door.fingerprint, door.expires_at) else {
        return Err(Failure::Here("the door is closed again already".into()));
    };
    say(&format!("Scan this with your phone, on the same network, before {}:\n", moment(until)))?;
    super::show::draw_qr(url)?;
    say(&format!(
        "\n  {url}\n\n\
         Your phone's browser will warn that it does not know this certificate: it is that of your own device. Look at the\n\
         certificate in the warning, and go on only if its SHA-256 fingerprint is this one:\n\n  {}\n\n\
         The link lets in one browser, to read, search, copy and add. Close the door with: yadori console close phone",
        fingerprint.as_bytes().chunks(48).map(String::from_utf8_lossy).collect::<Vec<_>>().join("\n  ")
    ))
}

fn print(sessions: &[ConsoleSession]) -> Result<(), Failure> {
    if sessions.is_empty() {
        return say("No browser is let in. Open the console with: yadori console");
    }
    let now = jiff::Timestamp::now();
    for session in sessions {
        let used = pad(&format!("last used {}", ago(session.used_at, now)), 24);
        say(&format!("{}  {used}  {}", session.id, safe(&session.browser)))?;
    }
    Ok(())
}
