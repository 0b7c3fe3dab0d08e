//! The lists as data: what a row shows, and what it is called.

use jiff::Timestamp;
use jiff::tz::TimeZone;
use std::collections::HashMap;
use yadori_api::{Clip, Kind, Tray};

/// A row of a list.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    /// The clip.
    pub clip: Clip,
    /// What stands before it: a digit that pastes it, its place in the tray or among the pins, or nothing.
    pub label: String,
    /// The heading above it, if it is the first below one.
    pub heading: Option<String>,
    /// Whether it is of the tray, and was dealt already.
    pub dealt: bool,
}

impl Entry {
    /// Whether a row of this entry looks as one of the other.
    fn looks_like(&self, other: &Self) -> bool {
        // A row does not show the position, which changes for all clips with every copy.
        let placed = |entry: &Self| Self { clip: Clip { position: None, ..entry.clip.clone() }, ..entry.clone() };
        self.clip.id == other.clip.id && placed(self) == placed(other)
    }
}

/// What becomes of a row, from the top of a list on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// The row that is there stays.
    Keep,
    /// The row that is there goes.
    Remove,
    /// A row is put in before the one that is there.
    Insert,
}

/// How rows that show some entries become rows that show others, with as many left alone as go in the same order.
pub fn steps(shown: &[Entry], wanted: &[Entry]) -> Vec<Step> {
    let mut coming: HashMap<&str, usize> = HashMap::new();
    for entry in wanted {
        *coming.entry(&entry.clip.id).or_default() += 1;
    }
    let mut steps = Vec::with_capacity(wanted.len());
    let mut rows = shown.iter().peekable();
    for entry in wanted {
        if let Some(count) = coming.get_mut(entry.clip.id.as_str()) {
            *count -= 1;
        }
        // A row goes unless it is wanted further down.
        let goes =
            |row: &&Entry| !row.looks_like(entry) && coming.get(row.clip.id.as_str()).is_none_or(|count| *count == 0);
        while rows.next_if(goes).is_some() {
            steps.push(Step::Remove);
        }
        steps.push(match rows.next_if(|row| row.looks_like(entry)) {
            Some(_) => Step::Keep,
            None => Step::Insert,
        });
    }
    steps.extend(rows.map(|_| Step::Remove));
    steps
}

/// The digits by which the first ten entries are pasted.
const DIGITS: [&str; 10] = ["1", "2", "3", "4", "5", "6", "7", "8", "9", "0"];

/// The entries of a history or of a search: the first ten have digits. The tray comes first, while it is open.
pub fn listed(clips: Vec<Clip>, before: usize, tray: Option<&Tray>) -> Vec<Entry> {
    let label = |index: usize| DIGITS.get(before + index).map(|digit| (*digit).to_owned()).unwrap_or_default();
    let mut entries: Vec<Entry> = Vec::new();
    if let Some(tray) = tray.filter(|_| before == 0) {
        let waiting = tray.items.iter().filter(|item| !item.dealt).count();
        let heading = format!("Tray · {}{waiting} waiting", if tray.open { "open, " } else { "" });
        entries.extend(tray.items.iter().enumerate().map(|(index, item)| Entry {
            clip: item.clip.clone(),
            label: format!("t{}", item.place),
            heading: (index == 0).then(|| heading.clone()),
            dealt: item.dealt,
        }));
    }
    let below_tray = !entries.is_empty();
    entries.extend(clips.into_iter().enumerate().map(|(index, clip)| Entry {
        clip,
        label: label(index),
        heading: (index == 0 && below_tray).then(|| "History".to_owned()),
        dealt: false,
    }));
    entries
}

/// The entries of what is kept: sections with their headings, the first ten of all with digits.
pub fn kept(sections: Vec<(String, Vec<Clip>)>) -> Vec<Entry> {
    let mut entries = Vec::new();
    for (heading, clips) in sections {
        for (index, clip) in clips.into_iter().enumerate() {
            let label = DIGITS.get(entries.len()).map(|digit| (*digit).to_owned()).unwrap_or_default();
            entries.push(Entry { clip, label, heading: (index == 0).then(|| heading.clone()), dealt: false });
        }
    }
    entries
}

/// When a clip was copied, in the few characters of the time column: the time of today, else the day.
pub fn time(at: Timestamp, now: Timestamp) -> String {
    let (at, now) = (at.to_zoned(TimeZone::system()), now.to_zoned(TimeZone::system()));
    let days = at.date().until(now.date()).map_or(i32::MAX, |span| span.get_days());
    match days {
        i32::MIN..=0 => at.strftime("%H:%M").to_string(),
        1..=6 => at.strftime("%a").to_string(),
        _ if at.year() == now.year() => at.strftime("%-d %b").to_string(),
        _ => at.strftime("%Y").to_string(),
    }
}

/// What else is known of a clip, in a line of its own; nothing when there is nothing to tell.
pub fn remarks(clip: &Clip) -> String {
    let mut remarks = Vec::new();
    if clip.pinned {
        remarks.push("pinned".to_owned());
    }
    remarks.extend(clip.alias.as_ref().map(|alias| format!(":{}", alias.trim_start_matches(':'))));
    remarks.extend(clip.drawer.as_ref().map(|drawer| format!("in {drawer}")));
    remarks.extend(clip.mark.map(|mark| format!("marked {}", mark.word())));
    if clip.sensitive.is_some() {
        remarks.push("may be a secret".to_owned());
    }
    if clip.elsewhere {
        remarks.push(format!("on {}", clip.device));
    }
    if clip.kind == Kind::Image {
        remarks.extend(clip.width.zip(clip.height).map(|(width, height)| format!("{width} × {height}")));
    }
    remarks.extend(clip.source.application.clone());
    remarks.join(" · ")
}

/// What a screen reader says of an entry.
pub fn spoken(entry: &Entry, now: Timestamp) -> String {
    let clip = &entry.clip;
    let what = match (&clip.title, &clip.caption) {
        (Some(title), _) => format!("{title}: {}", clip.preview),
        (None, Some(caption)) => format!("{caption}: {}", clip.preview),
        (None, None) => clip.preview.clone(),
    };
    let kind = match clip.kind {
        Kind::Text => "",
        Kind::Link => "link, ",
        Kind::Image => "picture, ",
        Kind::Files => "files, ",
    };
    let label = if entry.label.is_empty() { String::new() } else { format!("{}, ", entry.label) };
    let remarks = remarks(clip);
    let remarks = if remarks.is_empty() { remarks } else { format!(", {}", remarks.replace(" · ", ", ")) };
    format!("{label}{kind}{what}, {}{remarks}", time(clip.copied_at, now))
}

/// A preview in the markup of Pango, with the parts that meet the query marked.
pub fn marked_up(clip: &Clip, colours: (&str, &str)) -> String {
    let chars: Vec<char> = clip.preview.chars().collect();
    let escaped = |from: usize, to: usize| {
        let part: String = chars[from.min(chars.len())..to.min(chars.len())].iter().collect();
        gtk4::glib::markup_escape_text(&part).to_string()
    };
    let mut text = String::new();
    let mut at = 0;
    for mark in &clip.marks {
        let (start, end) = (mark.start as usize, mark.end as usize);
        if start < at || end <= start {
            continue;
        }
        text.push_str(&escaped(at, start));
        let (ground, ink) = colours;
        text.push_str(&format!("<span background=\"{ground}\" foreground=\"{ink}\">{}</span>", escaped(start, end)));
        at = end;
    }
    text.push_str(&escaped(at, chars.len()));
    // The host of a link comes first, and stands out.
    if clip.kind == Kind::Link
        && clip.marks.is_empty()
        && let Some((host, rest)) = clip.preview.split_once('/')
    {
        let of = |text: &str| gtk4::glib::markup_escape_text(text).to_string();
        return format!("<b>{}</b>/{}", of(host), of(rest));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clip(json: &str) -> Clip {
        let mut clip = serde_json::json!({
            "id": "k4wq", "position": 1, "kind": "text", "preview": "gel <201> & lamp", "title": null, "caption": null,
            "pinned": false, "mark": null, "fills": false, "drawer": null, "alias": null, "marks": [], "sensitive": null,
            "copied_at": "2026-11-27T10:42:00Z", "recalled_at": null, "expires_at": null, "copies": 1, "recalls": 0,
            "size": 5, "width": null, "height": null, "lines": 1, "characters": 5,
            "source": {"application": null, "window": null, "page": null}, "device": "van", "shared": false, "elsewhere": false
        });
        let changes: serde_json::Value = serde_json::from_str(json).unwrap();
        for (name, value) in changes.as_object().unwrap() {
            clip[name] = value.clone();
        }
        serde_json::from_value(clip).unwrap()
    }

    #[test]
    fn ten_entries_have_digits_and_the_tray_comes_before_them() {
        let clips: Vec<Clip> = (0..12).map(|_| clip("{}")).collect();
        let tray: Tray = serde_json::from_value(serde_json::json!({
            "open": true, "auto": false, "next": 2,
            "items": [{"place": 1, "dealt": true, "clip": clips[0]}, {"place": 2, "dealt": false, "clip": clips[1]}]
        }))
        .unwrap();
        let entries = listed(clips.clone(), 0, Some(&tray));
        let labels: Vec<&str> = entries.iter().map(|entry| entry.label.as_str()).collect();
        assert_eq!(labels, ["t1", "t2", "1", "2", "3", "4", "5", "6", "7", "8", "9", "0", "", ""]);
        assert_eq!(entries[0].heading.as_deref(), Some("Tray · open, 1 waiting"));
        assert_eq!(entries[2].heading.as_deref(), Some("History"));
        assert!(entries[0].dealt && !entries[1].dealt);
        assert_eq!(listed(clips, 12, Some(&tray)).len(), 12, "the tray is not there again on the next page");
    }

    #[test]
    fn rows_that_have_not_changed_are_left_alone() {
        // Which entries there are, as letters; a capital one looks another way.
        let list = |letters: &str| -> Vec<Entry> {
            let entry = |(place, letter): (u32, char)| {
                let mut clip = clip("{}");
                clip.id = letter.to_ascii_lowercase().to_string();
                clip.pinned = letter.is_ascii_uppercase();
                clip.position = Some(place);
                Entry { clip, label: String::new(), heading: None, dealt: false }
            };
            (1..).zip(letters.chars()).map(entry).collect()
        };
        let done = |shown: &str, wanted: &str| {
            let (mut rows, wanted) = (list(shown), list(wanted));
            let (mut at, mut kept) = (0, 0);
            for step in steps(&rows.clone(), &wanted) {
                match step {
                    Step::Remove => drop(rows.remove(at)),
                    Step::Insert => rows.insert(at, wanted[at].clone()),
                    Step::Keep => kept += 1,
                }
                at += usize::from(step != Step::Remove);
            }
            assert!(rows.len() == wanted.len() && rows.iter().zip(&wanted).all(|(row, entry)| row.looks_like(entry)));
            kept
        };
        assert_eq!(done("abcd", "xabcd"), 4, "a copy");
        assert_eq!(done("abcd", "cabd"), 3, "a copy of what is there");
        assert_eq!(done("abcd", "abd"), 3, "one deleted");
        assert_eq!(done("abcd", "aBcd"), 3, "one pinned");
        assert_eq!(done("abcd", "wxyz"), 0);
        assert_eq!((done("", "ab"), done("ab", ""), done("aab", "aba")), (0, 0, 2));
    }

    #[test]
    fn headings_of_what_is_kept_stand_above_the_first_clip_of_each_section() {
        let entries = kept(vec![
            ("Pinned".into(), vec![clip("{}"), clip("{}")]),
            ("Empty".into(), vec![]),
            ("Venues".into(), vec![clip("{}")]),
        ]);
        let shown: Vec<(&str, Option<&str>)> =
            entries.iter().map(|entry| (entry.label.as_str(), entry.heading.as_deref())).collect();
        assert_eq!(shown, [("1", Some("Pinned")), ("2", None), ("3", Some("Venues"))]);
    }

    #[test]
    fn matches_are_marked_and_markup_in_a_clip_is_text() {
        let found = clip(r#"{"marks": [{"start": 5, "end": 8}]}"#);
        assert_eq!(
            marked_up(&found, ("#fff", "#000")),
            "gel &lt;<span background=\"#fff\" foreground=\"#000\">201</span>&gt; &amp; lamp"
        );
        let odd = clip(r#"{"marks": [{"start": 90, "end": 99}, {"start": 3, "end": 2}]}"#);
        assert_eq!(
            marked_up(&odd, ("#fff", "#000")),
            "gel &lt;201&gt; &amp; lamp<span background=\"#fff\" foreground=\"#000\"></span>"
        );
        let link = clip(r#"{"kind": "link", "preview": "example.org/a?b=1&c"}"#);
        assert_eq!(marked_up(&link, ("#fff", "#000")), "<b>example.org</b>/a?b=1&amp;c");
    }

    #[test]
    fn a_screen_reader_says_what_is_seen() {
        let now: Timestamp = "2026-11-30T10:00:00Z".parse().unwrap();
        let clip = clip(
            r#"{"kind": "link", "caption": "Booking", "preview": "example.org/b", "pinned": true, "mark": "fern"}"#,
        );
        let entry = Entry { clip, label: "2".into(), heading: None, dealt: false };
        assert_eq!(spoken(&entry, now), "2, link, Booking: example.org/b, Fri, pinned, marked fern");
    }
}
