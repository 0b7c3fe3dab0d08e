use super::{print_json, say};
use crate::Context;
use crate::ask::{self, confirm};
use crate::failure::Failure;
use crate::terminal::{count, moment, safe, size};
use clap::{Args, Subcommand};
use serde_json::json;
use yadori_api::{Mailbox, Relay as State, RelayLeft, SetRelay};
use yadori_core::amounts::bytes_in_words;

/// A relay for devices that cannot reach each other, or are never on at the same time
///
/// What they tell each other waits at the relay until the others fetch it, sealed: the relay can read none of it. You need a token of
/// whoever runs it, or run one yourself: yadori-relay. Set it on one device; the others are told when they next meet that one.
#[derive(Args)]
pub struct Relay {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Show how it stands with the relay (also without any command)
    Status,
    /// Use a relay
    Set {
        /// What the relay's owner gave you: its address, #, and a token. Without it, it is asked for
        invitation: Option<String>,
    },
    /// Leave the relay, for all devices; what lies there is erased
    Remove {
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
}

impl Relay {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command.unwrap_or(Command::Status) {
            Command::Status => show(context, &service.get("/sync/relay")?),
            Command::Set { invitation } => {
                let invitation = match invitation {
                    Some(invitation) => invitation,
                    None => ask::secret("What the relay's owner gave you")?,
                };
                let relay: State = service.put("/sync/relay", &SetRelay { invitation })?;
                if context.json {
                    return print_json(&relay);
                }
                say(&format!(
                    "The relay {} is set; your other devices hear of it when they are connected",
                    safe(&relay.address)
                ))?;
                relay.mailbox.map_or(Ok(()), |mailbox| print_mailbox(&mailbox))
            }
            Command::Remove { yes } => {
                let question = "This leaves the relay for all of your devices. Those that cannot reach each other hear nothing \
                                of each other then. Continue?";
                if !confirm(question, yes)? {
                    return say("Nothing was changed.");
                }
                let left: RelayLeft = service.delete_with("/sync/relay", &json!({}))?;
                if context.json {
                    return print_json(&left);
                }
                say(match left.erased {
                    true => "Left the relay; what lay there is erased.",
                    false => "Left the relay. It did not answer; what lies there goes when it is too old.",
                })
            }
        }
    }
}

fn show(context: &Context, relay: &State) -> Result<(), Failure> {
    if context.json { print_json(relay) } else { print(relay) }
}

/// Whether the relay answers.
pub fn in_a_line(relay: &State) -> String {
    let address = safe(&relay.address);
    match (&relay.error, relay.answers) {
        (Some(error), _) => format!("The relay {address} cannot be used: {}", safe(&error.message)),
        (None, true) => format!("The relay {address} answers"),
        (None, false) => format!("The relay {address} is being asked"),
    }
}

/// How it stands with the relay, in lines.
pub fn print(relay: &State) -> Result<(), Failure> {
    say(&in_a_line(relay))?;
    if let Some(at) = relay.posted_at {
        let waiting = count(relay.waiting, "envelope waits", "envelopes wait");
        say(&format!("This device last left something there {}; {waiting}", moment(at)))?;
    }
    if relay.behind > 0 {
        say(&format!("{} still to be left there", count(relay.behind, "change is", "changes are")))?;
    }
    if let Some(at) = relay.fetched_at {
        say(&format!("It last found something there {}", moment(at)))?;
    }
    if let Some(mailbox) = &relay.mailbox {
        print_mailbox(mailbox)?;
    }
    if let Some(warning) = &relay.warning {
        let times = count(relay.warnings.into(), "time", "times");
        say(&format!("Something was wrong with what it gave ({times}), and was not taken in: {}", safe(warning)))?;
    }
    Ok(())
}

fn print_mailbox(mailbox: &Mailbox) -> Result<(), Failure> {
    let (used, quota) = (size(mailbox.bytes), bytes_in_words(mailbox.quota_bytes));
    say(&format!("The mailbox holds {used} of {quota}, for {} days", mailbox.days))
}
