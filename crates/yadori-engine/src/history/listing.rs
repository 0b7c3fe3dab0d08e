//! How a clip is shown in a list: one line, and where it meets the query.

use crate::clock::timestamp;
use yadori_api as api;
use yadori_core::preview::{self, one_line};
use yadori_core::retention::{self, Candidate};
use yadori_core::rules::Checked;
use yadori_core::search::fold::fold;
use yadori_core::search::{Query, marks};
use yadori_core::{Kind, Mark, MillisSinceEpoch, Stamp, files, link};
use yadori_store::ClipRecord;

/// Characters of context before the first match, when the preview begins in the middle of a text.
const CONTEXT: usize = 30;

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

/// The clip as lists show it, under these rules.
pub fn clip(record: &ClipRecord, position: Option<usize>, query: Option<&Query>, rules: &Checked) -> api::Clip {
    let (preview, marks) = shown(record, query);
    let (width, height) = record.pixels.unzip();
    let (lines, characters) = record.extent.unzip();
    api::Clip {
        id: record.id.to_string(),
        position: position.map(|position| position as u32),
        kind: kind(record.kind),
        preview,
        title: record.title.clone(),
        caption: record.caption.clone(),
        pinned: record.pin.is_some(),
        mark: record.mark.map(colour),
        fills: record.fills,
        drawer: record.drawer.as_ref().map(|drawer| drawer.name.clone()),
        alias: record.alias.clone(),
        marks,
        sensitive: record.sensitive.map(|secret| secret.label().replace(' ', "-")),
        copied_at: timestamp(record.life.copied.at()),
        recalled_at: record.recalled_at.map(timestamp),
        expires_at: expiry(record, rules).map(timestamp),
        copies: record.copies,
        recalls: record.recalls,
        size: record.size,
        width,
        height,
        lines,
        characters,
        source: api::Source {
            application: record.source.application.clone(),
            window: record.source.window.clone(),
            page: record.source.page.clone(),
            selected: record.source.selected,
        },
        device: record.device.clone(),
        shared: record.shared,
        elsewhere: record.elsewhere,
    }
}

fn colour(mark: Mark) -> api::Colour {
    match mark {
        Mark::Amber => api::Colour::Amber,
        Mark::Brick => api::Colour::Brick,
        Mark::Fern => api::Colour::Fern,
        Mark::Lagoon => api::Colour::Lagoon,
        Mark::Plum => api::Colour::Plum,
        Mark::Slate => api::Colour::Slate,
    }
}

/// A kind as the interface has it.
pub fn kind_of(kind: api::Kind) -> Kind {
    match kind {
        api::Kind::Text => Kind::Text,
        api::Kind::Link => Kind::Link,
        api::Kind::Image => Kind::Image,
        api::Kind::Files => Kind::Files,
    }
}

/// A kind for the interface.
pub fn kind(kind: Kind) -> api::Kind {
    match kind {
        Kind::Text => api::Kind::Text,
        Kind::Link => api::Kind::Link,
        Kind::Image => api::Kind::Image,
        Kind::Files => api::Kind::Files,
    }
}

fn shown(record: &ClipRecord, query: Option<&Query>) -> (String, Vec<api::Mark>) {
    if let Some(secret) = record.sensitive {
        return (format!("hidden: looks like a {}", secret.label()), Vec::new());
    }
    let whole = match record.kind {
        Kind::Text => record.text.clone(),
        Kind::Link => link::host_first(record.text.trim()),
        Kind::Files => record.text.lines().map(files::name).collect::<Vec<_>>().join(", "),
        Kind::Image => record.caption.clone().unwrap_or_else(|| "picture".into()),
    };
    let Some(query) = query else { return (one_line(&whole, preview::LONGEST), Vec::new()) };
    let beginning = one_line(&whole, preview::LONGEST);
    let found = marks(&beginning, query);
    if !found.is_empty() || whole.len() <= beginning.len() {
        return (beginning, found.into_iter().map(mark).collect());
    }
    // The match lies further on: show what is around it.
    let Some(first) = marks(&whole, query).into_iter().next() else { return (beginning, Vec::new()) };
    let around: String = whole.chars().skip(first.start.saturating_sub(CONTEXT)).collect();
    let part = format!("… {}", one_line(&around, preview::LONGEST - 2));
    let found = marks(&part, query);
    (part, found.into_iter().map(mark).collect())
}

fn mark(range: std::ops::Range<usize>) -> api::Mark {
    api::Mark { start: range.start as u32, end: range.end as u32 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_core::clip::Life;
    use yadori_core::search::When;
    use yadori_core::sensitive::{Secret, Sensitive};
    use yadori_core::{ClipId, MillisSinceEpoch, Source};

    fn record(kind: Kind, text: &str) -> ClipRecord {
        ClipRecord {
            number: 1,
            id: ClipId::of(kind, text.as_bytes()),
            change: 1,
            kind,
            sensitive: None,
            life: Life::default(),
            shredded: false,
            recalled_at: None,
            copies: 1,
            recalls: 0,
            size: text.len() as u64,
            pixels: None,
            extent: None,
            text: text.into(),
            title: None,
            caption: None,
            source: Source::default(),
            device: "workshop".into(),
            pin: None,
            drawer: None,
            mark: None,
            alias: None,
            fills: false,
            shared: false,
            elsewhere: false,
        }
    }

    #[test]
    fn each_kind_has_its_line() {
        let line = |kind, text| clip(&record(kind, text), None, None, &Checked::default()).preview;
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
        let shown = clip(&hidden, Some(3), None, &Checked::default());
        assert_eq!(
            (shown.preview.as_str(), shown.sensitive.as_deref()),
            ("hidden: looks like a card number", Some("card-number"))
        );
    }

    #[test]
    fn a_match_far_on_is_shown_with_what_is_around_it() {
        let query = Query::parse("lamp", &When { now: MillisSinceEpoch(0), zone: jiff::tz::TimeZone::UTC }).unwrap();
        let shown = clip(
            &record(Kind::Text, &format!("{} the lamp is blown", "word ".repeat(100))),
            None,
            Some(&query),
            &Checked::default(),
        );
        let mark = shown.marks[0];
        let marked: String =
            shown.preview.chars().skip(mark.start as usize).take((mark.end - mark.start) as usize).collect();
        assert!(shown.preview.starts_with("… "), "{}", shown.preview);
        assert_eq!(marked, "lamp");
    }
}
