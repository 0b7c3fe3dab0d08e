//! Pages of the history as JSON. Every window that shows the newest clips asks for the same again and again, so what each of them
//! is in JSON is kept beside its record.

use super::contract::Contract;
use std::sync::Arc;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_engine::history::find::Page;
use yadori_engine::history::listing::Listed;
use yadori_store::ReadClip;

/// The place of a clip that has none, as it is written.
const NO_PLACE: &str = "\"position\":null";

/// Bytes of a usual clip in JSON.
const USUAL: usize = 640;

/// A clip in JSON, in two parts with its place between them.
struct Written {
    /// The rules that say when it expires.
    rules: Arc<Checked>,
    before: Box<str>,
    after: Box<str>,
}

impl Written {
    fn new(record: &Arc<ReadClip>, rules: &Arc<Checked>) -> Self {
        let clip = Listed { record: record.clone(), position: None }.contract(rules);
        let json = serde_json::to_string(&clip).expect("a clip has no part that JSON cannot tell");
        let (before, after) = json.split_once(NO_PLACE).expect("a clip in JSON tells its place");
        Self { rules: rules.clone(), before: before.into(), after: after.into() }
    }

    fn append_to(&self, json: &mut String, position: Option<usize>) {
        *json += &self.before;
        match position {
            Some(position) => *json += &format!("\"position\":{position}"),
            None => *json += NO_PLACE,
        }
        *json += &self.after;
    }
}

/// An [`api::ClipPage`] in JSON, of clips for which there was no query.
pub fn json(page: &Page, rules: &Arc<Checked>) -> String {
    let frame = api::ClipPage { clips: Vec::new(), next: page.next.clone(), total: page.total };
    let frame = serde_json::to_string(&frame).expect("a page has no part that JSON cannot tell");
    let (before, after) = frame.split_once("[]").expect("a page in JSON tells its clips");
    let mut json = String::with_capacity(frame.len() + page.clips.len() * USUAL);
    json += before;
    json.push('[');
    for (place, Listed { record, position }) in page.clips.iter().enumerate() {
        if place > 0 {
            json.push(',');
        }
        match record.made(|_| Written::new(record, rules)).filter(|known| Arc::ptr_eq(&known.rules, rules)) {
            Some(known) => known.append_to(&mut json, *position),
            // The rules have changed since; the next write lets go of the record, and of this.
            None => Written::new(record, rules).append_to(&mut json, *position),
        }
    }
    json.push(']');
    json += after;
    json
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_core::clip::Life;
    use yadori_core::rules::Rules;
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
        let anew = |page: &Page, rules: &Arc<Checked>| serde_json::to_string(&page.clone().contract(rules)).unwrap();
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
        page.clips.clear();
        page.next = None;
        assert_eq!(json(&page, &month), anew(&page, &month));
    }
}
