use super::private_drawer::{self, stands};
use super::{named, print_json, say};
use crate::Context;
use crate::ask::confirm;
use crate::failure::Failure;
use crate::table;
use crate::terminal::{Style, count, safe};
use clap::{Args, Subcommand, ValueEnum};
use yadori_api::{
    Clip, Clips, Drawer as Known, DrawerChange, DrawerContents, MoveItem, Named, NewHeading, Put, RemoveDrawer, Sort,
    SortBy,
};
use yadori_client::in_path;

/// Keep clips in named drawers, in an order of your own, with headings
///
/// A clip in a drawer is kept: nothing clears or sweeps it. One clip lies in one drawer at most.
/// Search in a drawer with: yadori find drawer:venues lamp
#[derive(Args)]
pub struct Drawer {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// List the drawers, or what lies in one (also without any command)
    List {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: Option<String>,
    },
    /// Make a drawer
    New {
        /// Its name
        name: String,
        /// With a passphrase of its own, which is asked for at the terminal, or read from standard input
        #[arg(long)]
        private: bool,
    },
    /// Open a private drawer for some minutes
    ///
    /// While it is open, its clips can be listed, found, pasted and changed like any others. It closes by itself, and when the history
    /// is locked or the service ends.
    Open {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// For how many minutes
        #[arg(long, default_value_t = 5, value_parser = clap::value_parser!(u32).range(1..=720))]
        minutes: u32,
    },
    /// Close a private drawer now
    Close {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
    },
    /// Give a drawer a passphrase, or another one
    ///
    /// The clips of a private drawer are encrypted under a key of their own. Closed, it shows its name and how many clips lie in it;
    /// nothing else lists, finds, previews or exports them. They stay on this device: linked devices that have them lose them when it
    /// is closed. Whoever loses the passphrase loses the clips; no recovery key opens a private drawer.
    Private {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// Take the passphrase from it: it is an ordinary drawer again. It must be open
        #[arg(long)]
        off: bool,
    },
    /// Give a drawer another name
    Rename {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// Its new name
        to: String,
    },
    /// Remove a drawer; its clips stay in the history, but are no longer kept
    Remove {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// Put its clips into this drawer instead
        #[arg(long, value_name = "DRAWER")]
        into: Option<String>,
        /// Remove a private drawer with all that lies in it, for good; its passphrase is not needed
        #[arg(long, conflicts_with = "into")]
        for_good: bool,
        /// Do not ask
        #[arg(long, short)]
        yes: bool,
    },
    /// Put clips into a drawer
    Put {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// The clips
        #[arg(required = true)]
        clips: Vec<String>,
        /// The place that the first of them comes to, from 1
        #[arg(long, value_name = "PLACE", value_parser = clap::value_parser!(u32).range(1..))]
        at: Option<u32>,
    },
    /// Take clips out of their drawers; they stay in the history
    Take {
        /// The clips
        #[arg(required = true)]
        clips: Vec<String>,
    },
    /// Move a clip or a heading within a drawer
    Move {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// The place it has now
        place: u32,
        /// The place it comes to
        to: u32,
    },
    /// Add a heading between the clips
    Heading {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// What it says
        words: Vec<String>,
        /// Its place, from 1 [default: the end]
        #[arg(long, value_name = "PLACE", value_parser = clap::value_parser!(u32).range(1..))]
        at: Option<u32>,
        /// Change the heading at this place; without words, remove it
        #[arg(long, value_name = "PLACE", conflicts_with = "at")]
        change: Option<u32>,
    },
    /// Sort the clips of a drawer; each stays under its heading
    Sort {
        /// The drawer
        #[arg(id = "drawer", value_name = "DRAWER")]
        name: String,
        /// By what
        #[arg(long, default_value = "name")]
        by: By,
    },
}

#[derive(Clone, Copy, ValueEnum)]
enum By {
    /// By title, or what it shows
    Name,
    /// Newest first
    Age,
    /// Most used first
    Use,
}

/// Where a drawer is, and something of it.
pub(super) fn path(name: &str, rest: &str) -> String {
    format!("/drawers/{}{rest}", in_path(name))
}

impl Drawer {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command.unwrap_or(Command::List { name: None }) {
            Command::List { name: None } => {
                let drawers: Vec<Known> = service.get("/drawers")?;
                if context.json {
                    return print_json(&drawers);
                }
                if drawers.is_empty() {
                    tell!("There are no drawers yet. Make one: yadori drawer new NAME");
                }
                let lines = drawers.iter().map(|drawer| {
                    let how = drawer.private.map(|private| format!("; {}", stands(private))).unwrap_or_default();
                    format!("{}  ({}{how})", safe(&drawer.name), count(drawer.count, "clip", "clips"))
                });
                lines.into_iter().try_for_each(|line| say(&line))
            }
            Command::List { name: Some(name) } => show(context, &service.get(&path(&name, ""))?),
            Command::New { name, private } => private_drawer::new(context, &service, name, private),
            Command::Open { name, minutes } => private_drawer::open(context, &service, &name, minutes),
            Command::Close { name } => private_drawer::close(context, &service, &name),
            Command::Private { name, off: true } => private_drawer::make_ordinary(context, &service, &name),
            Command::Private { name, off: false } => private_drawer::set_passphrase(context, &service, &name),
            Command::Rename { name, to } => {
                let renamed: Known = service.patch(&path(&name, ""), &DrawerChange { name: Some(to), at: None })?;
                if context.json { print_json(&renamed) } else { say(&format!("Renamed to {}", safe(&renamed.name))) }
            }
            Command::Remove { name, for_good: true, yes, .. } => private_drawer::erase(context, &service, &name, yes),
            Command::Remove { name, into, yes, .. } => {
                let drawer: DrawerContents = service.get(&path(&name, ""))?;
                let clips = drawer.items.iter().filter(|item| item.clip.is_some()).count() as u64;
                let question = format!(
                    "This removes the drawer {}. {} in it will no longer be kept, and age out. Continue?",
                    safe(&drawer.name),
                    count(clips, "clip", "clips")
                );
                // Nothing loses its protection where nothing lies, or all of it moves.
                if clips > 0 && into.is_none() && !confirm(&question, yes)? {
                    return say("Nothing was removed.");
                }
                let asked = RemoveDrawer { into: into.clone(), for_good: false };
                let removed: Known = service.delete_with(&path(&name, ""), &asked)?;
                if context.json {
                    return print_json(&removed);
                }
                let clips = count(removed.count, "clip", "clips");
                let verb = if removed.count == 1 { "is" } else { "are" };
                let now = match into {
                    Some(into) => format!("{clips} {verb} in {} now", safe(&into)),
                    None => format!("{clips} {verb} still in the history"),
                };
                say(&format!("Removed the drawer {}; {now}", safe(&removed.name)))
            }
            Command::Put { name, clips, at } => {
                let put: Clips = service.post(&path(&name, "/put"), &Put { clips, at })?;
                if context.json {
                    return print_json(&put.clips);
                }
                say(&format!("In the drawer {}: {}", safe(&name), named(&put.clips)))
            }
            Command::Take { clips } => {
                let taken: Clips = service.post("/drawers-take", &Named { clips })?;
                if context.json {
                    return print_json(&taken.clips);
                }
                say(&format!("Removed from the drawer; still in the history: {}", named(&taken.clips)))
            }
            Command::Move { name, place, to } => {
                show(context, &service.post(&path(&name, "/move"), &MoveItem { place, at: to })?)
            }
            Command::Heading { name, words, at, change } => {
                let heading = NewHeading { words: words.join(" "), at, instead_of: change };
                show(context, &service.post(&path(&name, "/headings"), &heading)?)
            }
            Command::Sort { name, by } => {
                let by = match by {
                    By::Name => SortBy::Name,
                    By::Age => SortBy::Age,
                    By::Use => SortBy::Use,
                };
                show(context, &service.post(&path(&name, "/sort"), &Sort { by })?)
            }
        }
    }
}

fn show(context: &Context, drawer: &DrawerContents) -> Result<(), Failure> {
    if context.json {
        return print_json(drawer);
    }
    if drawer.items.is_empty() {
        tell!("The drawer {} is empty. Put something in: yadori drawer put {0} 3", safe(&drawer.name));
    }
    let style = Style::of_stdout();
    let now = jiff::Timestamp::now();
    // Clips between headings are printed together, so that their columns line up.
    let mut run: Vec<(Clip, String)> = Vec::new();
    let print = |run: &mut Vec<(Clip, String)>| -> Result<(), Failure> {
        let (clips, labels): (Vec<Clip>, Vec<String>) = run.drain(..).unzip();
        Ok(table::print_labelled(&clips, &labels, style, now)?)
    };
    for item in &drawer.items {
        match (&item.heading, &item.clip) {
            (Some(heading), _) => {
                print(&mut run)?;
                say(&format!("{:>2}  {}", item.place, style.strong(&safe(heading))))?;
            }
            (None, Some(clip)) => run.push((Clip { drawer: None, ..clip.clone() }, item.place.to_string())),
            (None, None) => {}
        }
    }
    print(&mut run)
}
