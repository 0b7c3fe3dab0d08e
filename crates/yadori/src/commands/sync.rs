use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{count, moment, safe};
use clap::{Args, Subcommand, ValueEnum};
use yadori_api::{Extent, Kind, Pause, Policy, PolicyChange, Sync as State};

/// What is shared with your other devices, and how far it has come
#[derive(Args)]
pub struct Sync {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Show the status (also without any command)
    Status,
    /// Try at once to reach the devices that are away
    Now,
    /// Share nothing, for a time or until you resume
    Pause {
        /// For how long: 30s, 15m, 2h or 1d
        #[arg(long = "for", value_name = "TIME", value_parser = super::pause::seconds)]
        length: Option<u64>,
    },
    /// Share again
    Resume,
    /// Show or change what leaves this device, and what arrives
    ///
    /// Sensitive clips never leave. What is shared by now stays shared.
    Policy(Box<Change>),
}

#[derive(Args)]
struct Change {
    /// What leaves this device by itself
    #[arg(long, value_name = "WHAT")]
    leaves: Option<What>,
    /// Kinds that do not leave; `none` for all to leave
    #[arg(long, value_name = "KIND", num_args = 1.., value_delimiter = ',')]
    without_kinds: Option<Vec<KindOrNone>>,
    /// Applications whose copies do not leave; `none` for all to leave
    #[arg(long, value_name = "NAME", num_args = 1.., value_delimiter = ',')]
    without_apps: Option<Vec<String>>,
    /// The size above which clips do not leave, for example 5MB; `none` for no limit
    #[arg(long, value_name = "SIZE", value_parser = size_or_none)]
    up_to: Option<u64>,
    /// What arrives from the other devices
    #[arg(long, value_name = "WHAT")]
    arrives: Option<What>,
    /// The size above which content is fetched only when it is wanted, for example 1MB
    #[arg(long, value_name = "SIZE", value_parser = size)]
    fetch_above: Option<u64>,
    /// Put the newest copy of the other devices on this clipboard
    #[arg(long, overrides_with = "no_follow")]
    follow: bool,
    /// Leave this clipboard alone
    #[arg(long)]
    no_follow: bool,
    /// Let other devices put a clip on this clipboard, with: yadori send CLIP --to DEVICE --recall
    #[arg(long, overrides_with = "no_allow_recall")]
    allow_recall: bool,
    /// Do not let them
    #[arg(long)]
    no_allow_recall: bool,
}

#[derive(Clone, Copy, ValueEnum)]
enum What {
    /// Every clip
    Everything,
    /// Pinned clips and those in drawers
    KeptOnly,
    /// Only what is sent by hand
    ByHand,
}

#[derive(Clone, Copy, PartialEq, ValueEnum)]
enum KindOrNone {
    Text,
    Link,
    Image,
    Files,
    None,
}

fn extent(what: What) -> Extent {
    match what {
        What::Everything => Extent::Everything,
        What::KeptOnly => Extent::KeptOnly,
        What::ByHand => Extent::ByHand,
    }
}

fn size(text: &str) -> Result<u64, String> {
    yadori_core::amounts::bytes(text).ok_or_else(|| format!("“{text}” is not a size; try 500KB, 1MB or 20MB"))
}

fn size_or_none(text: &str) -> Result<u64, String> {
    if text == "none" { Ok(0) } else { size(text) }
}

/// On, off, or as it is.
fn switch(on: bool, off: bool) -> Option<bool> {
    (on || off).then_some(on)
}

impl Sync {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let none = serde_json::json!({});
        match self.command.unwrap_or(Command::Status) {
            Command::Status => show(context, &service.get("/sync")?),
            Command::Now => show(context, &service.post("/sync/now", &none)?),
            Command::Pause { length } => {
                let state: State = service.post("/sync/pause", &Pause { seconds: length })?;
                if context.json {
                    return print_json(&state);
                }
                say(&match state.paused_until {
                    Some(until) => {
                        format!("Sharing is paused until {}. Resume earlier with: yadori sync resume", moment(until))
                    }
                    None => "Sharing is paused. Resume with: yadori sync resume".into(),
                })
            }
            Command::Resume => {
                let state: State = service.post("/sync/resume", &none)?;
                if context.json { print_json(&state) } else { say("Sharing resumed.") }
            }
            Command::Policy(change) => {
                let change = change.asked();
                let policy: Policy = match change == PolicyChange::default() {
                    true => service.get("/sync/policy")?,
                    false => service.patch("/sync/policy", &change)?,
                };
                if context.json {
                    return print_json(&policy);
                }
                policy.sentences.iter().try_for_each(|sentence| say(&safe(sentence)))
            }
        }
    }
}

impl Change {
    fn asked(self) -> PolicyChange {
        let kinds = |kinds: Vec<KindOrNone>| {
            let kind = |kind| match kind {
                KindOrNone::Text => Some(Kind::Text),
                KindOrNone::Link => Some(Kind::Link),
                KindOrNone::Image => Some(Kind::Image),
                KindOrNone::Files => Some(Kind::Files),
                KindOrNone::None => None,
            };
            kinds.into_iter().filter_map(kind).collect()
        };
        let named = |names: Vec<String>| if names == ["none"] { Vec::new() } else { names };
        PolicyChange {
            leaves: self.leaves.map(extent),
            kinds_left_out: self.without_kinds.map(kinds),
            applications_left_out: self.without_apps.map(named),
            size_limit: self.up_to,
            arrives: self.arrives.map(extent),
            fetch_above: self.fetch_above,
            follow: switch(self.follow, self.no_follow),
            may_be_put_on_clipboard: switch(self.allow_recall, self.no_allow_recall),
        }
    }
}

fn show(context: &Context, state: &State) -> Result<(), Failure> {
    if context.json {
        return print_json(state);
    }
    super::device::print(&state.devices)?;
    match (state.paused, state.paused_until) {
        (true, Some(until)) => {
            say(&format!("Sharing is paused until {}. Resume earlier with: yadori sync resume", moment(until)))?;
        }
        (true, None) => say("Sharing is paused. Resume with: yadori sync resume")?,
        (false, _) => {}
    }
    if state.elsewhere > 0 {
        say(&format!(
            "Of {} some content is on another device only, and fetched when it is wanted",
            count(state.elsewhere, "clip", "clips")
        ))?;
    }
    match &state.relay {
        Some(relay) => super::relay::print(relay),
        None => Ok(()),
    }
}
