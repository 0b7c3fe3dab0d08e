use super::{named, print_json, say};
use crate::Context;
use crate::ask::confirm;
use crate::failure::Failure;
use crate::table;
use crate::terminal::{Style, count, size};
use clap::{Args, Subcommand};
use yadori_api::{Bin as Asked, BinQuery, Binned, Clip, Clips, Forgotten, Named};

/// See what was deleted, cleared and swept, and bring it back
#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Bin {
    /// How many clips to list
    #[arg(short = 'n', long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=200))]
    limit: u32,

    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// List what waits in the bin, latest first (also without any command)
    List {
        /// How many clips to list
        #[arg(short = 'n', long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=200))]
        limit: u32,
    },
    /// Bring clips back to their places in the history
    Restore {
        /// The clips: their numbers in the list of the bin, or beginnings of ids
        #[arg(required = true)]
        clips: Vec<String>,
    },
    /// Delete everything in the bin for good
    Empty {
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
}

impl Bin {
    /// Whether it only lists.
    pub fn is_listing(&self) -> bool {
        matches!(self.command, None | Some(Command::List { .. }))
    }

    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command.unwrap_or(Command::List { limit: self.limit }) {
            Command::List { limit } => {
                let bin: Asked = service.get_with("/bin", &BinQuery { skip: None, limit: Some(limit) })?;
                if context.json {
                    return print_json(&bin);
                }
                if bin.clips.is_empty() {
                    tell!("The bin is empty.");
                    return Ok(());
                }
                let labels: Vec<String> = (1..=bin.clips.len()).map(|number| number.to_string()).collect();
                // What matters here is when it came to the bin, and how.
                let shown = |binned: &Binned| {
                    let title = binned.clip.title.clone();
                    Clip {
                        copied_at: binned.since,
                        title: Some(title.map_or(binned.how.clone(), |title| format!("{}, {title}", binned.how))),
                        ..binned.clip.clone()
                    }
                };
                let clips: Vec<Clip> = bin.clips.iter().map(shown).collect();
                table::print_labelled(&clips, &labels, Style::of_stdout(), jiff::Timestamp::now())?;
                if bin.total > bin.clips.len() as u64 {
                    tell!("{} in all, {}", count(bin.total, "clip", "clips"), size(bin.bytes));
                }
                Ok(())
            }
            Command::Restore { clips } => {
                let restored: Clips = service.post("/bin/restore", &Named { clips })?;
                if context.json {
                    return print_json(&restored.clips);
                }
                say(&format!("Restored: {}", named(&restored.clips)))
            }
            Command::Empty { yes } => {
                let bin: Asked = service.get_with("/bin", &BinQuery { skip: None, limit: Some(1) })?;
                let what = count(bin.total, "clip", "clips");
                if bin.total == 0 {
                    return say("The bin is empty.");
                }
                if !confirm(&format!("This deletes the {what} in the bin for good, with no way back. Continue?"), yes)?
                {
                    return say("Nothing was deleted.");
                }
                let forgotten: Forgotten = service.post("/bin/empty", &serde_json::json!({}))?;
                if context.json {
                    return print_json(&forgotten);
                }
                say(&format!("Deleted for good: {}", count(forgotten.count, "clip", "clips")))
            }
        }
    }
}
