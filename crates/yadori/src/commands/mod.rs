//! The commands, one file each, and what several of them print.

pub mod add;
pub mod api;
pub mod attributes;
pub mod bin;
pub mod completions;
pub mod console;
pub mod delete;
pub mod device;
pub mod doctor;
pub mod drawer;
pub mod edit;
pub mod expand;
pub mod export;
pub mod find;
pub mod keys;
pub mod list;
pub mod lock;
pub mod man;
pub mod open;
mod osc52;
pub mod pause;
pub mod pick;
pub mod pin;
pub mod pipes;
mod private_drawer;
pub mod recall;
pub mod relay;
pub mod resume;
pub mod rules;
pub mod select;
pub mod send;
pub mod service;
pub mod show;
pub mod stats;
pub mod status;
pub mod sync;
pub mod tray;
pub mod undo;
pub mod watch;
pub mod widget;

use crate::failure::Failure;
use crate::terminal::{Style, count, escape_json, fit, safe};
use crate::zone;
use clap::Args;
use serde::Serialize;
use std::io::Write;
use yadori_api::{Clip, ClipPage, ListQuery, MOST_ON_A_PAGE, Recalled};
use yadori_client::Client;
use yadori_core::join;

/// Prints a value as JSON.
fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    print_escaped(serde_json::to_string_pretty(value))
}

/// Prints a value as JSON, on one line.
fn print_json_line(value: &impl Serialize) -> Result<(), Failure> {
    print_escaped(serde_json::to_string(value))
}

fn print_escaped(json: serde_json::Result<String>) -> Result<(), Failure> {
    let mut text = json.map_err(std::io::Error::from)?;
    escape_json(&mut text);
    let mut out = std::io::stdout().lock();
    writeln!(out, "{text}")?;
    Ok(out.flush()?)
}

/// Prints a line that was asked for. Fails when nobody reads any more.
fn say(line: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    let indent = line.len() - line.trim_start_matches(' ').len();
    writeln!(out, "{}", Style::of_stdout().broken(line, indent))?;
    Ok(out.flush()?)
}

/// Clips of the history, or of a search.
pub struct Found {
    clips: Vec<Clip>,
    /// How many the history has.
    total: u64,
    /// There are more than these.
    more: bool,
}

/// Up to `most` clips after the first `offset`, page by page.
fn clips(service: &Client, query: Option<String>, offset: u32, most: u32) -> Result<Found, Failure> {
    let mut asked = ListQuery { q: query, cursor: None, limit: None, zone: zone::name() };
    let wanted = offset.saturating_add(most);
    let mut clips: Vec<Clip> = Vec::new();
    loop {
        asked.limit = Some((wanted - clips.len() as u32).min(MOST_ON_A_PAGE));
        let page: ClipPage = service.get_with("/clips", &asked)?;
        clips.extend(page.clips);
        if page.next.is_none() || clips.len() as u32 >= wanted {
            let clips = clips.split_off((offset as usize).min(clips.len()));
            return Ok(Found { clips, total: page.total, more: page.next.is_some() });
        }
        asked.cursor = page.next;
    }
}

/// Clips in a sentence: the one by its preview, several by their number.
fn named(clips: &[Clip]) -> String {
    match clips {
        [clip] => {
            let what = clip.title.as_deref().unwrap_or(&clip.preview);
            format!("{} “{}”", clip.kind.word(), fit(&safe(what).replace('\n', " "), 50))
        }
        clips => count(clips.len() as u64, "clip", "clips"),
    }
}

/// How several clips become one.
#[derive(Args)]
pub struct Joining {
    /// What to put between several clips: newline, tab, comma, space, paragraph, nothing, or a text of your own,
    /// in which \\n and \\t stand for a line end and a tab [default: newline]
    #[arg(long, value_name = "SEP", allow_hyphen_values = true)]
    join: Option<String>,

    /// Leave out the clips that cannot be joined with the others
    #[arg(long)]
    skip_others: bool,
}

impl Joining {
    /// The separator, if one was given.
    fn separator(&self) -> Option<String> {
        self.join.as_deref().map(|word| unescaped(join::separator(word)))
    }
}

/// Tells which clips were left out of those to be joined.
fn left_out(recalled: &Recalled) {
    if !recalled.left_out.is_empty() {
        tell!("yadori: left out, since it cannot be joined with the others: {}", named(&recalled.left_out));
    }
}

/// `\n`, `\t` and `\\` as what they stand for.
fn unescaped(text: &str) -> String {
    let mut result = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (c, chars.as_str().chars().next()) {
            ('\\', Some('n')) => result.push('\n'),
            ('\\', Some('t')) => result.push('\t'),
            ('\\', Some('\\')) => result.push('\\'),
            _ => {
                result.push(c);
                continue;
            }
        }
        chars.next();
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn separators_may_be_written_with_backslashes_and_words() {
        assert_eq!(unescaped(r"\n-\t\\n\x\"), "\n-\t\\n\\x\\");
        let joining = Joining { join: Some("tab".into()), skip_others: false };
        assert_eq!(joining.separator().as_deref(), Some("\t"));
    }
}
