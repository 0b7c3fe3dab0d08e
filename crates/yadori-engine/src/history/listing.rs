//! How a clip is shown in a list: one line, and where it meets the query.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::Arc;
use yadori_core::preview::{LONGEST, first_lines, one_line};
use yadori_core::retention::{self, Candidate};
use yadori_core::rules::Checked;
use yadori_core::search::fold::fold;
use yadori_core::search::{Query, marks};
use yadori_core::{Kind, MillisSinceEpoch, Stamp, files, link};
use yadori_store::{ClipRecord, ReadClip};

/// Characters of context before the first match, when the preview begins in the middle of a text.
const CONTEXT: usize = 30;

/// A clip, as lists show it.
#[derive(Clone, Debug)]
pub struct Listed {
    /// The clip.
    pub record: Arc<ReadClip>,
    /// Its place in the history, from 1; none if it is not in the history.
    pub position: Option<usize>,
}

/// What a clip's age is counted from: the last time that anybody did anything with it.
pub fn touched(record: &ClipRecord) -> Stamp {
    record.life.touched().max(record.recalled_at.map_or(Stamp::NEVER, Stamp::at_start_of))
}

/// When a clip goes by its age, under these rules.
pub fn expiry(record: &ClipRecord, rules: &Checked) -> Option<MillisSinceEpoch> {
    let application = record.source.application.as_deref().map(fold).unwrap_or_default();
    let candidate = Candidate {
        number: record.number,
        touched: touched(record),
        kind: record.kind,
        application: &application,
        size: record.size,
        sensitive: record.sensitive.is_some_and(|found| found.certain),
        kept: record.is_kept(),
    };
    retention::expiry(&candidate, &rules.rules().retention).map(|(at, _)| at)
}

/// What a clip is, on one line, and where that meets the query: in characters. What is sensitive is never shown.
pub fn preview(record: &ClipRecord, query: Option<&Query>) -> (String, Vec<Range<usize>>) {
    if let Some(secret) = record.sensitive {
        return (format!("hidden: looks like a {}", secret.label()), Vec::new());
    }
    let whole: Cow<'_, str> = match record.kind {
        Kind::Text => record.text.as_str().into(),
        Kind::Link => link::host_first(record.text.trim()).into(),
        Kind::Files => record.text.lines().map(files::name).collect::<Vec<_>>().join(", ").into(),
        Kind::Image => record.caption.as_deref().unwrap_or("picture").into(),
    };
    let Some(query) = query else { return (one_line(&whole, LONGEST), Vec::new()) };
    let beginning = one_line(&whole, LONGEST);
    let found = marks(&beginning, query);
    if !found.is_empty() || whole.len() <= beginning.len() {
        return (beginning, found);
    }
    // The match lies further on: show what is around it.
    let Some(first) = marks(&whole, query).into_iter().next() else { return (beginning, Vec::new()) };
    let around: String = whole.chars().skip(first.start.saturating_sub(CONTEXT)).collect();
    let part = format!("… {}", one_line(&around, LONGEST - 2));
    let found = marks(&part, query);
    (part, found)
}

/// Lines of a text that a list shows at most.
const LINES: usize = 3;

/// The first lines of a text that has several; none of what is sensitive.
pub fn excerpt(record: &ClipRecord) -> Option<String> {
    (record.kind == Kind::Text && record.sensitive.is_none())
        .then(|| first_lines(&record.text, LINES, LONGEST))
        .flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_core::search::When;
    use yadori_core::sensitive::{Secret, Sensitive};
    use yadori_core::{ClipId, MillisSinceEpoch};

    fn record(kind: Kind, text: &str) -> ClipRecord {
        let id = ClipId::of(kind, text.as_bytes());
        ClipRecord::copied_once(1, (id, kind), text.into(), "workshop".into())
    }

    #[test]
    fn each_kind_has_its_line() {
        let line = |kind, text| preview(&record(kind, text), None).0;
        assert_eq!(excerpt(&record(Kind::Text, "Load-in\n14:30")).unwrap(), "Load-in\n14:30");
        assert_eq!(excerpt(&record(Kind::Files, "/srv/a b.ods\n/srv/posters/")), None);
        assert_eq!(line(Kind::Text, " Load-in\n14:30"), "Load-in 14:30");
        assert_eq!(line(Kind::Link, "https://www.example.org/stalls\n"), "example.org/stalls");
        assert_eq!(line(Kind::Files, "/srv/a b.ods\n/srv/posters/"), "a b.ods, posters");
        assert_eq!(line(Kind::Image, ""), "picture");
    }

    #[test]
    fn what_is_sensitive_is_never_shown() {
        let hidden = ClipRecord {
            sensitive: Some(Sensitive { secret: Secret::CardNumber, certain: true }),
            ..record(Kind::Text, "4000 0012")
        };
        assert_eq!(preview(&hidden, None).0, "hidden: looks like a card number");
        assert_eq!(excerpt(&ClipRecord { text: "4000\n0012".into(), ..hidden }), None);
    }

    #[test]
    fn a_match_far_on_is_shown_with_what_is_around_it() {
        let query = Query::parse("lamp", &When { now: MillisSinceEpoch(0), zone: jiff::tz::TimeZone::UTC }).unwrap();
        let (shown, marks) =
            preview(&record(Kind::Text, &format!("{} the lamp is blown", "word ".repeat(100))), Some(&query));
        let marked: String = shown.chars().skip(marks[0].start).take(marks[0].len()).collect();
        assert!(shown.starts_with("… "), "{shown}");
        assert_eq!(marked, "lamp");
    }
}
