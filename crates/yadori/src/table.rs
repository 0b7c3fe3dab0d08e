//! A list of clips for reading in a terminal.

use crate::terminal::{Style, age, columns, fit, pad, safe};
use crate::zone;
use jiff::Timestamp;
use std::io::Write;
use yadori_api::{Clip, Kind};

/// Columns kept for the application's name, where there is room for it.
const SOURCE_WIDTH: usize = 16;

/// Narrowest line on which the application is shown.
const SOURCE_FROM: usize = 72;

/// Prints the clips, one on a line: position, kind, age, what it is, and where from. With `days`, a terminal also shows
/// a heading before the first clip of each day.
pub fn print(clips: &[Clip], style: Style, now: Timestamp, days: bool) -> std::io::Result<()> {
    let position = |clip: &Clip| clip.position.map_or_else(|| "-".into(), |position| position.to_string());
    let labels: Vec<String> = clips.iter().map(position).collect();
    write(clips, &labels, style, now, days && style.width.is_some())
}

/// The same, with labels of one's own in place of the positions.
pub fn print_labelled(clips: &[Clip], labels: &[String], style: Style, now: Timestamp) -> std::io::Result<()> {
    write(clips, labels, style, now, false)
}

/// The day of a moment as a heading.
fn day(at: Timestamp, now: Timestamp) -> String {
    let (at, now) = (at.to_zoned(zone::here()), now.to_zoned(zone::here()));
    if at.date() == now.date() {
        "Today".into()
    } else if now.date().yesterday().is_ok_and(|yesterday| at.date() == yesterday) {
        "Yesterday".into()
    } else if at.year() == now.year() {
        at.strftime("%A %-d %B").to_string()
    } else {
        at.strftime("%A %-d %B %Y").to_string()
    }
}

fn write(clips: &[Clip], labels: &[String], style: Style, now: Timestamp, days: bool) -> std::io::Result<()> {
    let mut out = std::io::stdout().lock();
    let width = labels.iter().map(|label| columns(label)).max().unwrap_or(0).max(2);
    let mut shown = None;
    for (clip, label) in clips.iter().zip(labels) {
        let day = day(clip.copied_at, now);
        if days && shown.as_ref() != Some(&day) {
            writeln!(out, "{}", style.strong(&day))?;
            shown = Some(day);
        }
        writeln!(out, "{}", line(clip, label, style, now, width))?;
    }
    out.flush()
}

/// A clip that goes so soon says so.
const SOON: i64 = 86_400;

/// What a person gave a clip, and when it goes, if that is soon: shown behind it.
fn tags(clip: &Clip, now: Timestamp) -> String {
    let mut tags = Vec::new();
    tags.extend(clip.alias.as_deref().map(|alias| format!(":{}", safe(alias))));
    if clip.pinned {
        tags.push("pinned".to_owned());
    }
    tags.extend(clip.drawer.as_deref().map(|drawer| format!("in {}", fit(&safe(drawer), 20))));
    tags.extend(clip.mark.and_then(|mark| serde_json::to_value(mark).ok()?.as_str().map(str::to_owned)));
    if clip.elsewhere {
        tags.push("elsewhere".to_owned());
    }
    if let Some(at) = clip.expires_at.filter(|at| at.as_second() - now.as_second() < SOON) {
        let left = (at.as_second() - now.as_second()).max(0);
        let left = if left < 3600 { format!("{} min", left / 60 + 1) } else { format!("{} h", left / 3600) };
        tags.push(format!("deleted in {left}"));
    }
    if tags.is_empty() { String::new() } else { format!("  ({})", tags.join(", ")) }
}

fn line(clip: &Clip, label: &str, style: Style, now: Timestamp, digits: usize) -> String {
    let label = format!("{}{}", " ".repeat(digits.saturating_sub(columns(label))), safe(label));
    let head = format!("{label}  {:<5}  {:>7}  ", clip.kind.word(), age(clip.copied_at, now));
    let source = safe(clip.source.application.as_deref().unwrap_or_default());
    let source = if clip.source.selected { format!("selected {source}").trim_end().to_owned() } else { source };
    let with_source = style.width.is_none_or(|width| width >= SOURCE_FROM) && !source.is_empty();
    let what = What::of(clip);
    let Some(width) = style.width else {
        let tail = if with_source { format!("  [{source}]") } else { String::new() };
        return format!("{head}{}{}{tail}", what.plain(), tags(clip, now));
    };
    let room = width.saturating_sub(columns(&head) + if width >= SOURCE_FROM { SOURCE_WIDTH + 2 } else { 0 });
    // What was given to a clip matters more than the end of a long text, but never takes more than half.
    let tags = fit(&tags(clip, now), room / 2);
    let mut shown = what.fitted(room.saturating_sub(columns(&tags)), style);
    shown.columns += columns(&tags);
    shown.text.push_str(&style.faint(&tags));
    let head = format!("{}{}", style.strong(&label), style.faint(&head[label.len()..]));
    if with_source {
        let filling = " ".repeat(room.saturating_sub(shown.columns) + 2);
        format!(
            "{head}{}{filling}{}",
            shown.text,
            style.faint(&pad(&fit(&source, SOURCE_WIDTH), SOURCE_WIDTH)).trim_end()
        )
    } else {
        format!("{head}{}", shown.text)
    }
}

/// What stands for a clip: its title, then its preview.
struct What {
    title: String,
    preview: String,
    /// Ranges of characters of the preview.
    marks: Vec<(usize, usize)>,
}

struct Shown {
    text: String,
    columns: usize,
}

impl What {
    fn of(clip: &Clip) -> Self {
        let preview = match (clip.kind, clip.width, clip.height) {
            (Kind::Image, Some(width), Some(height)) => {
                let caption = if clip.preview == "picture" { String::new() } else { format!("  {}", clip.preview) };
                format!("{width} × {height} pixels{caption}")
            }
            _ => clip.preview.clone(),
        };
        let caption = clip.caption.as_deref().filter(|_| clip.kind == Kind::Link);
        let preview = caption.map_or(preview.clone(), |caption| format!("{preview}  {caption}"));
        let marks = if clip.kind == Kind::Image {
            Vec::new()
        } else {
            clip.marks.iter().map(|mark| (mark.start as usize, mark.end as usize)).collect()
        };
        Self {
            title: safe(clip.title.as_deref().unwrap_or_default()).replace(['\n', '\t'], " "),
            preview: safe(&preview),
            marks,
        }
    }

    fn plain(&self) -> String {
        if self.title.is_empty() { self.preview.clone() } else { format!("{}: {}", self.title, self.preview) }
    }

    fn fitted(&self, room: usize, style: Style) -> Shown {
        let title = fit(&self.title, room);
        let gap = if self.title.is_empty() { "" } else { "  " };
        let left = room.saturating_sub(columns(&title) + gap.len());
        let preview = fit(&self.preview, left);
        let columns = columns(&title) + if preview.is_empty() { 0 } else { gap.len() } + columns(&preview);
        let mut text = style.strong(&title);
        if !preview.is_empty() {
            text.push_str(gap);
        }
        // The last character may stand for what was left out.
        let whole = preview.chars().count() == self.preview.chars().count();
        let end = preview.chars().count() - usize::from(!whole && !preview.is_empty());
        let chars: Vec<char> = preview.chars().collect();
        let mut at = 0;
        for (from, to) in &self.marks {
            let (from, to) = ((*from).min(end), (*to).min(end));
            text.extend(&chars[at..from]);
            text.push_str(&style.marked(&chars[from..to].iter().collect::<String>()));
            at = to;
        }
        text.extend(&chars[at..]);
        Shown { text, columns }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yadori_api::{Mark, Source};

    fn clip(kind: Kind, preview: &str) -> Clip {
        let at = Timestamp::from_second(1_795_424_400).unwrap();
        Clip {
            id: "k4wq".into(),
            position: Some(3),
            kind,
            preview: preview.into(),
            excerpt: None,
            title: None,
            caption: None,
            pinned: false,
            mark: None,
            fills: false,
            drawer: None,
            alias: None,
            marks: Vec::new(),
            sensitive: None,
            copied_at: at,
            recalled_at: None,
            expires_at: None,
            copies: 1,
            recalls: 0,
            size: 1,
            width: None,
            height: None,
            lines: None,
            characters: None,
            source: Source { application: Some("Writer".into()), ..Source::default() },
            device: "workshop".into(),
            shared: false,
            elsewhere: false,
        }
    }

    fn shown(clip: &Clip, width: Option<usize>, colour: bool) -> String {
        line(clip, "3", Style { width, colour }, Timestamp::from_second(1_795_424_460).unwrap(), 2)
    }

    #[test]
    fn days_are_named_as_people_name_them() {
        let now: Timestamp = jiff::civil::date(2026, 11, 26).at(9, 0, 0, 0).to_zoned(zone::here()).unwrap().timestamp();
        let before = |days: i64| day(now - jiff::SignedDuration::from_hours(24 * days), now);
        assert_eq!((before(0), before(1)), ("Today".into(), "Yesterday".into()));
        assert_eq!((before(2), before(365)), ("Tuesday 24 November".into(), "Wednesday 26 November 2025".into()));
    }

    #[test]
    fn a_line_fits_its_terminal() {
        let long = clip(Kind::Text, &"舞台の照明 ".repeat(40));
        for width in [30, 60, 80, 133] {
            assert!(columns(&shown(&long, Some(width), false)) <= width, "{width}");
        }
        assert_eq!(
            shown(&clip(Kind::Text, "Load-in 14:30"), Some(80), false),
            format!(" 3  text        1m  Load-in 14:30{}Writer", " ".repeat(31))
        );
    }

    #[test]
    fn what_was_given_to_a_clip_is_shown_behind_it() {
        let kept = Clip {
            pinned: true,
            alias: Some("sig".into()),
            mark: Some(yadori_api::Colour::Fern),
            expires_at: Some(Timestamp::from_second(1_795_424_460 + 7_300).unwrap()),
            ..clip(Kind::Text, &"word ".repeat(40))
        };
        for width in [40, 60, 100] {
            assert!(columns(&shown(&kept, Some(width), false)) <= width);
        }
        assert!(shown(&kept, Some(120), false).contains("…  (:sig, pinned, fern, deleted in 2 h)  Writer"));
    }

    #[test]
    fn piped_output_is_whole_and_plain() {
        let long = clip(Kind::Text, &"word ".repeat(40));
        assert_eq!(shown(&long, None, false), format!(" 3  text        1m  {}  [Writer]", "word ".repeat(40)));
    }

    #[test]
    fn pictures_show_their_size_and_links_their_caption() {
        let picture =
            Clip { width: Some(640), height: Some(400), title: Some("Poster".into()), ..clip(Kind::Image, "picture") };
        assert!(shown(&picture, None, false).contains("Poster: 640 × 400 pixels"));
        let link = Clip { caption: Some("Stalls plan".into()), ..clip(Kind::Link, "example.org/stalls") };
        assert!(shown(&link, Some(100), false).contains("example.org/stalls  Stalls plan"));
    }

    #[test]
    fn matches_are_marked_and_cut_marks_do_not_run_over() {
        let marked = Clip {
            marks: vec![Mark { start: 4, end: 8 }, Mark { start: 20, end: 24 }],
            ..clip(Kind::Text, "the lamp of the old lamp post")
        };
        assert!(
            shown(&marked, Some(120), true)
                .contains("the \u{1b}[1;4mlamp\u{1b}[0m of the old \u{1b}[1;4mlamp\u{1b}[0m post")
        );
        assert!(shown(&marked, Some(42), true).contains("the \u{1b}[1;4mlamp\u{1b}[0m of the"));
        let hostile = clip(Kind::Text, "a\u{1b}]0;x\u{7}b");
        assert!(!shown(&hostile, Some(80), false).contains('\u{1b}'));
    }
}
