use super::select::Selection;
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
    #[command(flatten)]
    selection: Selection,

    /// Delete them for good: nothing is left to restore. Clips in the bin can be named too, by their ids
    #[arg(long)]
    for_good: bool,

    /// Do not ask
    #[arg(long, short)]
    yes: bool,
}

impl Delete {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let by_query = self.selection.is_query();
        let clips = self.selection.names(&service)?;
        let what = count(clips.len() as u64, "clip", "clips");
        let question = match (self.for_good, by_query) {
            (true, _) => Some(format!("This deletes {what} for good, with no way back. Continue?")),
            (false, true) => Some(format!("This deletes {what}. Continue?")),
            (false, false) => None,
        };
        if let Some(question) = question
            && !confirm(&question, self.yes)?
        {
            return say("Nothing was deleted.");
        }
        let deleted: Deleted = service.post("/delete", &Asked { clips, for_good: self.for_good })?;
        if context.json {
            return print_json(&deleted);
        }
        match deleted.step {
            Some(_) => say(&format!("Deleted {}. Undo with: yadori undo", named(&deleted.clips))),
            None => say(&format!("Deleted for good: {}", named(&deleted.clips))),
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

    /// Only what was copied in applications whose names contain this
    #[arg(long, value_name = "NAME", value_parser = not_empty)]
    app: Option<String>,

    /// Only what was copied on devices whose names contain this
    #[arg(long, value_name = "NAME", value_parser = not_empty)]
    device: Option<String>,

    /// Kept clips too
    #[arg(long)]
    kept_too: bool,

    /// Delete them for good: nothing is left to restore
    #[arg(long)]
    for_good: bool,

    /// Only say how many would go
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

/// A name to filter by: an empty one would stand for everything.
fn not_empty(text: &str) -> Result<String, String> {
    if text.trim().is_empty() { Err("give a name, or leave the option out".into()) } else { Ok(text.to_owned()) }
}

impl Clear {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let mut asked = ClearAsked {
            all: true,
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
        let what = format!("{} ({}){stay}", count(would.count, "clip", "clips"), size(would.bytes));
        if self.dry_run || would.count == 0 {
            if context.json {
                return print_json(&would);
            }
            return say(&if would.count == 0 {
                format!("Nothing to clear{stay}.")
            } else {
                format!("This would remove {what}.")
            });
        }
        let end =
            if self.for_good { " for good, with no way back" } else { "; undo it within 24 hours with: yadori undo" };
        if !confirm(&format!("This removes {what}{end}. Continue?"), self.yes)? {
            return say("Nothing was removed.");
        }
        asked.dry_run = false;
        // Whoever has seen the number clears just that many; a script clears what there is.
        asked.expected = (!self.yes).then_some(would.count);
        let cleared: Cleared = service.post("/clear", &asked)?;
        if context.json {
            return print_json(&cleared);
        }
        let done = count(cleared.count, "clip", "clips");
        say(&match cleared.step {
            Some(_) => format!("Cleared {done}{stay}. Undo with: yadori undo"),
            None => format!("Deleted for good: {done}{stay}"),
        })
    }
}
