//! The commands, one file each, and what several of them print.

pub mod add;
pub mod completions;
pub mod console;
pub mod delete;
pub mod doctor;
pub mod find;
pub mod list;
pub mod pause;
pub mod recall;
pub mod resume;
pub mod rules;
pub mod show;
pub mod status;
pub mod undo;

use crate::failure::Failure;
use crate::reach::Service;
use crate::terminal::{count, fit, safe};
use serde::Serialize;
use std::io::Write;
use yadori_api::{Clip, ClipPage, ListQuery, MOST_ON_A_PAGE};

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
