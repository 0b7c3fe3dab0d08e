//! Pages of the history as JSON. Every window that shows the newest clips asks for the same again and again, and every letter of a
//! search finds some of those that the one before has found; so what each of them is in JSON is kept beside its record.

use super::contract::Contract;
use super::contract::clips::marks;
use serde::Serialize;
use std::ops::Range;
use std::sync::Arc;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_core::search::{self, Query};
use yadori_engine::history::find::Page;
use yadori_engine::history::listing::{self, Listed};
use yadori_store::ReadClip;

/// Bytes of a usual clip in JSON.
const USUAL: usize = 640;

/// A clip in JSON, and where in it stands what differs from page to page.
struct Written {
    /// The rules that say when it expires.
    rules: Arc<Checked>,
    json: Box<str>,
    /// Its place in the history.
    position: Range<usize>,
    /// What it is on one line, and on several.
    preview: Range<usize>,
    /// Whether it shows that line only, which is its text.
    is_line: bool,
    /// Where that meets a query.
    marks: Range<usize>,
}

impl Written {
    fn new(record: &Arc<ReadClip>, rules: &Arc<Checked>) -> Self {
        let clip = Listed { record: record.clone(), position: None }.contract(rules);
        let json = to_json(&clip);
        // No text can be taken for a name: in JSON the quotes in texts are escaped.
        let value = |from: usize, name: &str, value: &str| {
            let start = from + json[from..].find(name).expect("a clip in JSON has all its parts") + name.len();
            start..start + value.len()
        };
        let position = value(0, "\"position\":", "null");
        let preview = value(position.end, "\"preview\":", &to_json(&clip.preview));
        let excerpt = clip.excerpt.as_ref().map_or(0, |excerpt| ",\"excerpt\":".len() + to_json(excerpt).len());
        let preview = preview.start..preview.end + excerpt;
        let marks = value(preview.end, "\"marks\":", "[]");
        let is_line = record.sensitive.is_none() && clip.excerpt.is_none() && clip.preview == record.text;
        Self { rules: rules.clone(), json: json.into(), position, preview, is_line, marks }
    }

    fn append_to(&self, page: &mut String, Listed { record, position }: &Listed, query: Option<&Query>) {
        *page += &self.json[..self.position.start];
        match position {
            Some(position) => *page += &position.to_string(),
            None => *page += "null",
        }
        let Some(query) = query else {
            *page += &self.json[self.position.end..];
            return;
        };
        let met = if self.is_line {
            *page += &self.json[self.position.end..self.marks.start];
            search::marks(&record.text, query)
        } else {
            let (preview, met) = listing::preview(record, Some(query));
            *page += &self.json[self.position.end..self.preview.start];
            // Matches are marked in the one line: there are no others.
            *page += &to_json(&preview);
            *page += &self.json[self.preview.end..self.marks.start];
            met
        };
        *page += &to_json(&marks(met));
        *page += &self.json[self.marks.end..];
    }
}

fn to_json(value: &(impl Serialize + ?Sized)) -> String {
    serde_json::to_string(value).expect("an answer has no part that JSON cannot tell")
}

/// An [`api::ClipPage`] in JSON.
pub fn json(page: &Page, rules: &Arc<Checked>) -> String {
    let frame = to_json(&api::ClipPage { clips: Vec::new(), next: page.next.clone(), total: page.total });
    let (before, after) = frame.split_once("[]").expect("a page in JSON tells its clips");
    let mut json = String::with_capacity(frame.len() + page.clips.len() * USUAL);
    json += before;
    json.push('[');
    for (place, listed) in page.clips.iter().enumerate() {
        if place > 0 {
            json.push(',');
        }
        let known = listed.record.made(|_| Written::new(&listed.record, rules));
        match known.filter(|known| Arc::ptr_eq(&known.rules, rules)) {
            Some(known) => known.append_to(&mut json, listed, page.query.as_ref()),
            // The rules have changed since; the next write lets go of the record, and of this.
            None => Written::new(&listed.record, rules).append_to(&mut json, listed, page.query.as_ref()),
        }
    }
    json.push(']');
    json += after;
    json
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::http::contract::clips::clip;
    use yadori_core::clip::Life;
    use yadori_core::rules::Rules;
    use yadori_core::search::When;
    use yadori_core::{ClipId, Kind, MillisSinceEpoch, Stamp};
    use yadori_store::ClipRecord;

    fn listed(number: u64, text: &str, position: Option<usize>) -> Listed {
        let id = ClipId::of(Kind::Text, text.as_bytes());
        let record = ClipRecord {
            life: Life { copied: Stamp::at_start_of(MillisSinceEpoch(1_790_000_000_000)), ..Life::default() },
            extent: Some((1, text.len() as u64)),
            ..ClipRecord::copied_once(number, (id, Kind::Text), text.into(), "workshop".into())
        };
        Listed { record: record.into(), position }
    }

    fn rules(days: u64) -> Arc<Checked> {
        let mut rules = Rules::default();
        rules.retention.all.age_millis = Some(days * 86_400_000);
        Arc::new(Checked::new(rules).expect("rules that make sense"))
    }

    #[test]
    fn what_is_kept_is_what_would_be_written_anew() {
        let words = "a note on “position\":null and []";
        let mut page = Page {
            clips: vec![listed(1, "lamp seven", Some(1)), listed(2, words, None), listed(3, "cue", Some(2))],
            query: None,
            next: Some("h1-[]".into()),
            total: 3,
        };
        let anew = |page: &Page, rules: &Arc<Checked>| {
            let clips = page.clips.iter().map(|listed| clip(listed, page.query.as_ref(), rules)).collect();
            to_json(&api::ClipPage { clips, next: page.next.clone(), total: page.total })
        };
        let (month, year) = (rules(30), rules(365));
        assert_ne!(anew(&page, &month), anew(&page, &year));
        // Places change while the clips stay as they are.
        for (place, rules) in [(1, &month), (7, &month), (7, &year), (8, &month)] {
            page.clips[0].position = Some(place);
            assert_eq!(json(&page, rules), anew(&page, rules));
        }
        // Another record of the same clip.
        page.clips[0] = listed(1, "lamp eight", Some(1));
        assert_eq!(json(&page, &month), anew(&page, &month));
        // What meets a query is marked in it; with an earlier one it was another part of the text.
        let several = format!("gel 201\n{} circuit B\n“marks\":[] \"excerpt\":", "dimmer ".repeat(60));
        page.clips.push(listed(4, &several, Some(9)));
        for words in ["lamp", "circuit", "position", "marks", "nowhere"] {
            let when = When { now: MillisSinceEpoch(1_790_000_000_000), zone: jiff::tz::TimeZone::UTC };
            page.query = Some(Query::parse(words, &when).unwrap());
            assert_eq!(json(&page, &month), anew(&page, &month));
            page.query = None;
            assert_eq!(json(&page, &month), anew(&page, &month));
        }
        page.clips.clear();
        page.next = None;
        assert_eq!(json(&page, &month), anew(&page, &month));
    }
}
