use super::delete::KindWord;
use super::{Found, clips, print_json, say};
use crate::failure::Failure;
use crate::terminal::{Style, is_quiet, safe};
use crate::{Context, table};
use clap::Args;
use std::io::Write;
use yadori_api::{Clip, Clips};

/// List the history, newest first
///
/// Each line shows the clip's position, its kind, how long ago it was copied, what it is, and the application it came from;
/// then, in brackets, its alias, pin, drawer and mark, and when it is deleted if that is within a day. A terminal gets
/// lines that fit and a heading for each day; a pipe gets whole lines alone.
#[derive(Args)]
pub struct List {
    /// List the pinned clips, in their order
    #[arg(long)]
    pinned: bool,

    #[command(flatten)]
    shown: Shown,
}

/// Characters of an id in a line for a menu: 60 bits, which no history has twice.
const MENU_ID: usize = 12;

/// Which clips of a list are shown, and how.
#[derive(Args)]
pub struct Shown {
    /// How many clips to list
    #[arg(short = 'n', long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..))]
    limit: u32,

    /// How many clips to skip first
    #[arg(long, value_name = "NUMBER", default_value_t = 0, hide_default_value = true)]
    offset: u32,

    /// Only clips of this kind
    #[arg(long)]
    kind: Option<KindWord>,

    /// Print only the ids, one per line
    #[arg(long, conflicts_with = "format")]
    ids: bool,

    /// Print lines for a menu program: the beginning of the id, a tab, and what it is; `yadori recall -` reads them back
    #[arg(long, conflicts_with_all = ["format", "ids"])]
    lines: bool,

    /// Print each clip by this template: {position}, {id}, {kind}, {title}, {preview}, {app}, {device}, {copied}, {size}
    #[arg(long, value_name = "TEMPLATE")]
    format: Option<String>,
}

impl Shown {
    /// The query, with what the options add to it.
    pub fn query(&self, query: Option<String>) -> Option<String> {
        let kind = self.kind.map(|kind| format!("kind:{}", yadori_api::Kind::from(kind).word()));
        let parts: Vec<String> = query.into_iter().chain(kind).collect();
        (!parts.is_empty()).then(|| parts.join(" "))
    }

    /// The clips that are asked for.
    pub fn clips(&self, context: &Context, query: Option<String>) -> Result<Found, Failure> {
        clips(&context.service()?, self.query(query), self.offset, self.limit)
    }

    /// Prints clips as is asked for, on a terminal with a heading for each day if `days`.
    pub fn print(&self, context: &Context, found: &Found, days: bool) -> Result<(), Failure> {
        if context.json {
            return print_json(&found.clips);
        }
        if self.ids {
            return found.clips.iter().try_for_each(|clip| say(&clip.id));
        }
        if self.lines {
            let mut out = std::io::stdout().lock();
            found.clips.iter().try_for_each(|clip| writeln!(out, "{}", menu_line(clip)))?;
            return Ok(out.flush()?);
        }
        if let Some(template) = &self.format {
            return found.clips.iter().try_for_each(|clip| say(&filled(template, clip)));
        }
        table::print(&found.clips, Style::of_stdout(), jiff::Timestamp::now(), days)?;
        if found.more && !is_quiet() {
            let next = self.offset + self.limit;
            tell!("There are more. Show the next ones with: --offset {next}");
        }
        Ok(())
    }
}

/// A clip as a menu program shows it: the beginning of its id, a tab, and what it is, on one line.
fn menu_line(clip: &Clip) -> String {
    let what = clip.title.as_deref().unwrap_or(&clip.preview);
    format!("{}\t{}", &clip.id[..clip.id.len().min(MENU_ID)], safe(&what.replace(['\n', '\t'], " ")))
}

fn filled(template: &str, clip: &Clip) -> String {
    let values = [
        ("{position}", clip.position.map(|position| position.to_string()).unwrap_or_default()),
        ("{id}", clip.id.clone()),
        ("{kind}", clip.kind.word().to_owned()),
        ("{title}", clip.title.clone().unwrap_or_default()),
        ("{preview}", clip.preview.clone()),
        ("{app}", clip.source.application.clone().unwrap_or_default()),
        ("{device}", clip.device.clone()),
        ("{copied}", clip.copied_at.to_string()),
        ("{size}", clip.size.to_string()),
    ];
    let mut line = String::new();
    let mut rest = template;
    while let Some(at) = rest.find('{') {
        line.push_str(&rest[..at]);
        rest = &rest[at..];
        match values.iter().find(|(name, _)| rest.starts_with(name)) {
            Some((name, value)) => {
                line.push_str(value);
                rest = &rest[name.len()..];
            }
            None => {
                line.push('{');
                rest = &rest[1..];
            }
        }
    }
    line.push_str(rest);
    safe(&line.replace("\\t", "\t").replace("\\n", "\n"))
}

impl List {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        if self.pinned {
            return self.pinned(context);
        }
        let found = self.shown.clips(context, None)?;
        if found.clips.is_empty() && !context.json {
            tell!(
                "{}",
                if found.total == 0 {
                    "Nothing has been copied yet. Copy something, or add it: yadori add \"some text\""
                } else {
                    "No more clips."
                }
            );
        }
        self.shown.print(context, &found, true)
    }

    fn pinned(self, context: &Context) -> Result<(), Failure> {
        let Clips { clips } = context.service()?.get("/pins")?;
        let all = clips.len();
        let kind = self.shown.kind.map(yadori_api::Kind::from);
        let clips = clips.into_iter().zip(1u32..).filter(|(clip, _)| kind.is_none_or(|kind| clip.kind == kind));
        let shown: Vec<(Clip, u32)> = clips.skip(self.shown.offset as usize).take(self.shown.limit as usize).collect();
        let labels: Vec<String> = shown.iter().map(|(_, place)| format!("p{place}")).collect();
        let clips: Vec<Clip> = shown.into_iter().map(|(clip, _)| clip).collect();
        if context.json || self.shown.ids || self.shown.lines || self.shown.format.is_some() {
            return self.shown.print(context, &Found { clips, total: all as u64, more: false }, false);
        }
        if all == 0 {
            tell!("Nothing is pinned yet. Pin a clip: yadori pin 3");
        }
        // That they are pinned goes without saying here.
        let clips: Vec<Clip> = clips.into_iter().map(|clip| Clip { pinned: false, ..clip }).collect();
        Ok(table::print_labelled(&clips, &labels, Style::of_stdout(), jiff::Timestamp::now())?)
    }
}
