use super::{named, print_json, say};
use crate::Context;
use crate::ask::confirm;
use crate::failure::Failure;
use crate::terminal::{count, size};
use clap::{Args, ValueEnum};
use yadori_api::{Clear as ClearAsked, Cleared, Delete as Asked, Deleted, Kind};
use yadori_core::amounts;

/// Delete clips; they can be brought back for 24 hours
#[derive(Args)]
pub struct Delete {
    /// The clips: positions, p2, t1, :alias, or beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,

    /// Forget them for good: nothing is left to bring back. Clips in the bin can be named too, by their ids
    #[arg(long)]
    for_good: bool,

    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

impl Delete {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        if self.for_good {
            let what = count(self.clips.len() as u64, "clip", "clips");
            if !confirm(&format!("Forget {what} for good? That cannot be undone."), self.yes)? {
                return say("Nothing was deleted");
            }
        }
        let deleted: Deleted = service.post("/delete", &Asked { clips: self.clips, for_good: self.for_good })?;
        if context.json {
            return print_json(&deleted);
        }
        match deleted.step {
            Some(_) => say(&format!("Deleted {}. Bring back with: yadori undo", named(&deleted.clips))),
            None => say(&format!("Forgotten for good: {}", named(&deleted.clips))),
        }
    }
}

/// Clear the history, or a slice of it; kept clips stay
///
/// Says how many clips go and how many stay, and asks once. What was cleared can be brought back for 24
/// hours with: yadori undo. Pinned clips and those in drawers stay.
#[derive(Args)]
pub struct Clear {
    /// Only what was copied longer ago than this (90d, 12h, 2w)
    #[arg(long, value_name = "AGE", value_parser = age)]
    older: Option<u64>,

    /// Only what was copied within this time (30m, 12h)
    #[arg(long, value_name = "AGE", value_parser = age)]
    newer: Option<u64>,

    /// Only this kind
    #[arg(long)]
    kind: Option<KindWord>,

    /// Only what was copied in applications with this in their names
    #[arg(long, value_name = "NAME")]
    app: Option<String>,

    /// Only what was copied on devices with this in their names
    #[arg(long, value_name = "NAME")]
    device: Option<String>,

    /// Kept clips too
    #[arg(long)]
    kept_too: bool,

    /// Forget them for good: nothing is left to bring back
    #[arg(long)]
    for_good: bool,

    /// Only tell how many would go
    #[arg(long)]
    dry_run: bool,

    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

/// A kind of clip, as an argument.
#[derive(Clone, Copy, ValueEnum)]
pub enum KindWord {
    Text,
    Link,
    Image,
    Files,
}

impl From<KindWord> for Kind {
    fn from(word: KindWord) -> Self {
        match word {
            KindWord::Text => Self::Text,
            KindWord::Link => Self::Link,
            KindWord::Image => Self::Image,
            KindWord::Files => Self::Files,
        }
    }
}

/// Seconds in a length of time.
fn age(text: &str) -> Result<u64, String> {
    amounts::span(text).map(|millis| millis / 1000).ok_or_else(|| format!("give {}", amounts::SPANS))
}

impl Clear {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let mut asked = ClearAsked {
            older_than_seconds: self.older,
            newer_than_seconds: self.newer,
            kind: self.kind.map(Kind::from),
            application: self.app,
            device: self.device,
            kept_too: self.kept_too,
            for_good: self.for_good,
            dry_run: true,
            expected: None,
        };
        let would: Cleared = service.post("/clear", &asked)?;
        let stay = match (self.kept_too, would.kept) {
            (true, _) | (false, 0) => String::new(),
            (false, kept) => format!("; {}", count(kept, "kept clip stays", "kept clips stay")),
        };
        let what = format!("{} ({}){stay}", count(would.clips, "clip", "clips"), size(would.bytes));
        if self.dry_run || would.clips == 0 {
            if context.json {
                return print_json(&would);
            }
            return say(&if would.clips == 0 {
                format!("Nothing to clear{stay}")
            } else {
                format!("Would clear {what}")
            });
        }
        let end = if self.for_good { "This cannot be undone." } else { "It can be undone for 24 hours." };
        if !confirm(&format!("Clear {what}? {end}"), self.yes)? {
            return say("Nothing was cleared");
        }
        asked.dry_run = false;
        // Whoever has seen the number clears just that many; a script clears what there is.
        asked.expected = (!self.yes).then_some(would.clips);
        let cleared: Cleared = service.post("/clear", &asked)?;
        if context.json {
            return print_json(&cleared);
        }
        let done = count(cleared.clips, "clip", "clips");
        say(&match cleared.step {
            Some(_) => format!("Cleared {done}{stay}. Bring back with: yadori undo"),
            None => format!("Forgotten for good: {done}{stay}"),
        })
    }
}
