//! The commands, one file each, and what several of them print.

pub mod add;
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
pub mod list;
pub mod particulars;
pub mod pause;
pub mod pin;
pub mod recall;
pub mod resume;
pub mod rules;
pub mod send;
pub mod show;
pub mod stats;
pub mod status;
pub mod sync;
pub mod tray;
pub mod undo;

use crate::failure::Failure;
use crate::reach::Service;
use crate::terminal::{count, fit, safe};
use clap::Args;
use serde::Serialize;
use std::io::Write;
use yadori_api::{Clip, ClipPage, ListQuery, MOST_ON_A_PAGE, Recalled};
use yadori_core::join;

/// Prints a value as JSON.
fn print_json(value: &impl Serialize) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    serde_json::to_writer_pretty(&mut out, value).map_err(std::io::Error::from)?;
    writeln!(out)?;
    Ok(out.flush()?)
}

/// Prints a line. Fails when nobody reads any more.
fn say(line: &str) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    writeln!(out, "{line}")?;
    Ok(out.flush()?)
}

/// Up to `most` clips, page by page, and how many the history has.
fn clips(service: &Service, query: Option<String>, most: u32) -> Result<(Vec<Clip>, u64), Failure> {
    let zone = jiff::tz::TimeZone::system().iana_name().map(str::to_owned);
    let mut asked = ListQuery { q: query, cursor: None, limit: None, zone };
    let mut clips: Vec<Clip> = Vec::new();
    loop {
        asked.limit = Some((most - clips.len() as u32).min(MOST_ON_A_PAGE));
        let page: ClipPage = service.get_with("/clips", &asked)?;
        clips.extend(page.clips);
        if page.next.is_none() || clips.len() as u32 >= most {
            return Ok((clips, page.total));
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
        eprintln!("yadori: left out, since it cannot be joined with the others: {}", named(&recalled.left_out));
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
