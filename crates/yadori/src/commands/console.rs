use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{ago, count, pad, safe};
use clap::{Args, Subcommand};
use yadori_api::{ConsoleLink, ConsoleSession};
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

    #[command(subcommand)]
    command: Option<Action>,
}

#[derive(Subcommand)]
enum Action {
    /// List the browsers that are let in
    Sessions,
    /// Shut browsers out
    Close {
        /// The session's id, as `yadori console sessions` shows it, or `all`
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
            Some(Action::Close { id }) => {
                let path = format!("/console-sessions/{}", in_path(&id));
                let closed: Vec<ConsoleSession> = service.delete_with(&path, &serde_json::json!({}))?;
                if context.json {
                    return print_json(&closed);
                }
                say(&format!("Shut out {}", count(closed.len() as u64, "browser", "browsers")))
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
