//! What the terminal can show, and what it must not be given.

use crate::zone;
use jiff::Timestamp;
use std::io::IsTerminal;
use std::sync::OnceLock;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};
pub use yadori_core::amounts::{about_bytes as size, counted as count};
use yadori_core::preview::unsafe_to_print;

/// Prints a line to standard error for a person to read, broken between words where the terminal is narrow.
macro_rules! tell {
    ($($part:tt)*) => {
        eprintln!("{}", $crate::terminal::Style::of_stderr().broken(&format!($($part)*), 2))
    };
}

/// When to use colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum When {
    /// On a terminal that has colours, unless NO_COLOR is set
    #[default]
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

static SETTLED: OnceLock<(bool, When)> = OnceLock::new();

/// Settles how to print, once.
pub fn settle(quiet: bool, color: When) {
    let _ = SETTLED.set((quiet, color));
}

/// Standard output and standard error as they were before a pager took their place.
static KEPT: OnceLock<(Style, Style)> = OnceLock::new();

/// Prints from now on as it would to what standard output and standard error are now.
pub fn keep_styles() {
    let _ = KEPT.set((Style::of_stdout(), Style::of_stderr()));
}

/// Whether to print nothing but errors and what was asked for.
pub fn is_quiet() -> bool {
    SETTLED.get().is_some_and(|(quiet, _)| *quiet)
}

/// Escapes characters in JSON that could steer a terminal or reverse the direction of text.
pub fn escape_json(text: &mut String) {
    if text.chars().any(|c| c != '\n' && unsafe_to_print(c)) {
        let mut escaped = String::with_capacity(text.len() + 32);
        for c in text.chars() {
            if c == '\n' || !unsafe_to_print(c) {
                escaped.push(c);
            } else {
                c.encode_utf16(&mut [0; 2]).iter().for_each(|unit| escaped.push_str(&format!("\\u{unit:04x}")));
            }
        }
        *text = escaped;
    }
}

/// How to print to standard output.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    /// Columns to fit into; none when the output is not a terminal.
    pub width: Option<usize>,
    /// Whether to use colour and weight.
    pub colour: bool,
}

impl Style {
    /// As standard output is.
    pub fn of_stdout() -> Self {
        KEPT.get().map_or_else(|| Self::of(std::io::stdout().is_terminal()), |(out, _)| *out)
    }

    /// As standard error is.
    pub fn of_stderr() -> Self {
        KEPT.get().map_or_else(|| Self::of(std::io::stderr().is_terminal()), |(_, errors)| *errors)
    }

    fn of(is_terminal: bool) -> Self {
        let dumb = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty())
            || std::env::var_os("TERM").is_some_and(|term| term == "dumb");
        let width = is_terminal.then(|| terminal_size::terminal_size().map_or(80, |(width, _)| usize::from(width.0)));
        let colour = match SETTLED.get().map_or(When::Auto, |(_, color)| *color) {
            When::Auto => is_terminal && !dumb,
            When::Always => true,
            When::Never => false,
        };
        Self { width, colour }
    }

    fn wrap(self, code: &str, text: &str) -> String {
        if self.colour && !text.is_empty() { format!("\u{1b}[{code}m{text}\u{1b}[0m") } else { text.to_owned() }
    }

    /// Text broken between words where the terminal is too narrow for it; what follows is indented by `hang` columns. A word
    /// that is too long for a line, such as an address, is left to the terminal.
    pub fn broken(self, text: &str, hang: usize) -> String {
        match self.width.filter(|width| *width > hang) {
            Some(width) => text.split('\n').map(|line| broken(line, width, hang)).collect::<Vec<_>>().join("\n"),
            None => text.to_owned(),
        }
    }

    /// What matters less.
    pub fn faint(self, text: &str) -> String {
        self.wrap("2", text)
    }

    /// What matters more.
    pub fn strong(self, text: &str) -> String {
        self.wrap("1", text)
    }

    /// What matches the query.
    pub fn marked(self, text: &str) -> String {
        self.wrap("1;4", text)
    }

    /// What needs attention.
    pub fn warning(self, text: &str) -> String {
        self.wrap("33", text)
    }
}

/// Text with nothing in it that could steer a terminal; line ends and tabs stay.
pub fn safe(text: &str) -> String {
    text.chars().map(|c| if c != '\n' && c != '\t' && unsafe_to_print(c) { '\u{fffd}' } else { c }).collect()
}

fn broken(line: &str, width: usize, hang: usize) -> String {
    let mut text = String::with_capacity(line.len() + 8);
    let mut used = 0;
    for piece in line.split_inclusive(' ') {
        let word = piece.trim_end_matches(' ');
        let taken = columns(&without_colour(word));
        if used + taken > width && used > hang && taken > 0 {
            text.truncate(text.trim_end_matches(' ').len());
            text.push('\n');
            text.push_str(&" ".repeat(hang));
            used = hang;
        }
        text.push_str(piece);
        used += taken + piece.len() - word.len();
    }
    text
}

/// Text without what [`Style`] puts around it.
fn without_colour(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("\u{1b}[") {
        plain.push_str(&rest[..at]);
        rest = rest[at..].split_once('m').map_or("", |(_, after)| after);
    }
    plain + rest
}

/// Columns that a text takes.
pub fn columns(text: &str) -> usize {
    text.width()
}

/// The longest beginning of `text` that fits into `width` columns, with `…` when something is left out.
pub fn fit(text: &str, width: usize) -> String {
    if columns(text) <= width {
        return text.to_owned();
    }
    let mut fitted = String::new();
    let mut used = 0;
    for c in text.chars() {
        let wide = c.width().unwrap_or(0);
        if used + wide + 1 > width {
            break;
        }
        used += wide;
        fitted.push(c);
    }
    if width > 0 {
        fitted.push('…');
    }
    fitted
}

/// `text` filled up with spaces to `width` columns.
pub fn pad(text: &str, width: usize) -> String {
    format!("{text}{}", " ".repeat(width.saturating_sub(columns(text))))
}

/// How long ago, in at most seven columns: the day and the month within a year, the year and the month before that.
pub fn age(at: Timestamp, now: Timestamp) -> String {
    let seconds = now.as_second().saturating_sub(at.as_second());
    match seconds {
        ..10 => "now".into(),
        10..60 => format!("{seconds}s"),
        60..3_600 => format!("{}m", seconds / 60),
        3_600..86_400 => format!("{}h", seconds / 3_600),
        86_400..2_592_000 => format!("{}d", seconds / 86_400),
        2_592_000..26_000_000 => at.to_zoned(zone::here()).strftime("%-d %b").to_string(),
        _ => at.to_zoned(zone::here()).strftime("%Y-%m").to_string(),
    }
}

/// How long ago something was, within a sentence.
pub fn ago(at: Timestamp, now: Timestamp) -> String {
    match now.as_second().saturating_sub(at.as_second()) {
        ..10 => "just now".into(),
        10..2_592_000 => format!("{} ago", age(at, now)),
        _ => at.to_zoned(zone::here()).strftime("on %Y-%m-%d").to_string(),
    }
}

/// A moment as people here write it.
pub fn moment(at: Timestamp) -> String {
    at.to_zoned(zone::here()).strftime("%Y-%m-%d %H:%M:%S").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_break_between_words() {
        let style = Style { width: Some(12), colour: true };
        assert_eq!(style.broken("  storage  30 of 2,000 clips", 4), "  storage\n    30 of\n    2,000\n    clips");
        let faint = style.faint("room");
        assert_eq!(style.broken(&format!("{faint}  a word"), 6), format!("{faint}  a word"));
        assert_eq!(style.broken("see https://example.org/long now", 0), "see\nhttps://example.org/long\nnow");
        assert_eq!(style.broken("a\n\nb  c", 0), "a\n\nb  c");
        assert_eq!(Style { width: None, colour: false }.broken(&"word ".repeat(50), 0), "word ".repeat(50));
    }

    #[test]
    fn texts_are_fitted_by_columns_not_characters() {
        assert_eq!(fit("舞台の照明", 7), "舞台の…");
        assert_eq!(fit("舞台の照明", 6), "舞台…");
        assert_eq!(fit("舞台", 4), "舞台");
        assert_eq!(fit("abc", 0), "");
        assert_eq!(columns(&pad("舞", 5)), 5);
    }

    #[test]
    fn nothing_steers_the_terminal() {
        assert_eq!(safe("a\u{1b}[2J\u{202e}b\n\tc\u{7}"), "a\u{fffd}[2J\u{fffd}b\n\tc\u{fffd}");
    }

    #[test]
    fn json_has_nothing_that_steers_the_terminal() {
        let mut text = "{\n  \"a\": \"x\u{9b}y\u{202e}z\u{7}\"\n}".to_owned();
        escape_json(&mut text);
        assert_eq!(text, "{\n  \"a\": \"x\\u009by\\u202ez\\u0007\"\n}");
    }

    #[test]
    fn ages_and_sizes_are_short() {
        let now = Timestamp::from_second(1_795_424_400).unwrap();
        let ago = |seconds: i64| age(Timestamp::from_second(1_795_424_400 - seconds).unwrap(), now);
        assert_eq!(
            [ago(-5), ago(3), ago(59), ago(3_599), ago(86_399), ago(86_400 * 29)],
            ["now", "now", "59s", "59m", "23h", "29d"]
        );
        assert_eq!((ago(86_400 * 90).as_str(), ago(86_400 * 500).as_str()), ("25 Aug", "2025-07"));
        let ago = |seconds: i64| super::ago(Timestamp::from_second(1_795_424_400 - seconds).unwrap(), now);
        assert_eq!([ago(3), ago(59), ago(86_400 * 29)], ["just now", "59s ago", "29d ago"]);
        assert!(ago(86_400 * 90).starts_with("on 2026-08-2"));
        assert_eq!(
            [size(999), size(1_000), size(999_960), size(5_000_000_000)],
            ["999 B", "1.0 kB", "1.0 MB", "5.0 GB"]
        );
    }
}
