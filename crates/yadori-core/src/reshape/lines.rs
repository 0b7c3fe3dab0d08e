//! Whole lines.

use crate::search::fold::fold;
use regex::Regex;
use std::collections::HashSet;
use std::sync::LazyLock;
use unicode_width::UnicodeWidthStr;

/// The lines of each paragraph as one; empty lines part paragraphs. A word parted by a hyphen stays so.
pub fn join(text: &str) -> String {
    let mut paragraphs: Vec<Vec<&str>> = vec![Vec::new()];
    for line in text.lines().map(str::trim) {
        match paragraphs.last_mut() {
            Some(paragraph) if !line.is_empty() => paragraph.push(line),
            Some(paragraph) if paragraph.is_empty() => {}
            _ => paragraphs.push(Vec::new()),
        }
    }
    let joined: Vec<String> =
        paragraphs.iter().filter(|lines| !lines.is_empty()).map(|lines| lines.join(" ")).collect();
    joined.join("\n\n")
}

/// The lines of a text; empty ones at its end are not counted.
fn lines(text: &str) -> std::str::Lines<'_> {
    text.trim_end_matches(['\n', '\r']).lines()
}

/// Lines as one text, which does not end in an empty one.
fn together<T: AsRef<str>>(lines: impl Iterator<Item = T>) -> String {
    let mut text = String::new();
    for (place, line) in lines.enumerate() {
        if place > 0 {
            text.push('\n');
        }
        text.push_str(line.as_ref());
    }
    text.truncate(text.trim_end_matches(['\n', '\r']).len());
    text
}

/// Lines of at most `width` columns, broken at white space; a word that is longer stands alone. How a line was
/// indented, so is what follows of it.
pub fn wrap(text: &str, width: usize) -> String {
    together(lines(text).map(|line| wrapped(line, width)))
}

fn wrapped(line: &str, width: usize) -> String {
    let indent = &line[..line.len() - line.trim_start().len()];
    // An indent that leaves no room for words would only make things worse.
    let indent = if indent.width() * 2 > width { "" } else { indent };
    let mut result = String::new();
    let mut columns = 0;
    for word in line.split_whitespace() {
        let wide = word.width();
        if columns > 0 && columns + 1 + wide > width {
            result.push('\n');
            columns = 0;
        }
        let gap = if columns == 0 { indent } else { " " };
        result.push_str(gap);
        result.push_str(word);
        columns += gap.width() + wide;
    }
    result
}

/// No lines of white space alone.
pub fn drop_blank(text: &str) -> String {
    together(lines(text).filter(|line| !line.trim().is_empty()))
}

/// `1. ` and so on before each line that is not empty.
pub fn number(text: &str) -> String {
    let mut count = 0;
    let numbered = lines(text).map(|line| {
        if line.trim().is_empty() {
            return line.to_owned();
        }
        count += 1;
        format!("{count}. {line}")
    });
    together(numbered)
}

/// Lines in alphabetical order: without regard to case and accents, numbers by their worth.
pub fn sort(text: &str) -> String {
    let mut lines: Vec<(Vec<Key>, &str)> = lines(text).map(|line| (key(line), line)).collect();
    lines.sort();
    together(lines.into_iter().map(|(_, line)| line))
}

#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Key {
    /// A number, without leading zeros: longer is more.
    Number(usize, String),
    Words(String),
}

fn key(line: &str) -> Vec<Key> {
    let folded = fold(line);
    let mut key = Vec::new();
    let mut rest = folded.as_str();
    while let Some(first) = rest.chars().next() {
        let digits = first.is_ascii_digit();
        let end = rest.find(|c: char| c.is_ascii_digit() != digits).unwrap_or(rest.len());
        let (piece, after) = rest.split_at(end);
        key.push(if digits {
            let worth = piece.trim_start_matches('0');
            Key::Number(worth.len(), worth.to_owned())
        } else {
            Key::Words(piece.to_owned())
        });
        rest = after;
    }
    key
}

/// Each line once, where it came first.
pub fn unique(text: &str) -> String {
    let mut seen = HashSet::new();
    together(lines(text).filter(|line| seen.insert(*line)))
}

/// Lines without the numbers, letters and bullets of lists. What is indented stays so.
pub fn unlist(text: &str) -> String {
    static MARK: LazyLock<Regex> = LazyLock::new(|| {
        Regex::new(
            r"^(\s*)(?:\(?(?:\d{1,4}|[a-zA-Z]|[ivxIVX]{1,5})[.)]|[-*+•‣◦▪▫●○–—·]|\[[ xX]\])(?:\s+(?:\[[ xX]\]\s+)?)",
        )
        .unwrap_or_else(|_| unreachable!("a constant pattern"))
    });
    let bare = |line: &str| match MARK.captures(line) {
        Some(found) => format!("{}{}", &found[1], &line[found[0].len()..]),
        None => line.to_owned(),
    };
    together(lines(text).map(bare))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn paragraphs_become_lines_and_lines_become_paragraphs() {
        assert_eq!(join("a\n b \n\n\nc\nd\n"), "a b\n\nc d");
        assert_eq!(wrap("  one two three", 9), "  one two\n  three");
        assert_eq!(wrap("舞台の照明 の 準備", 12), "舞台の照明\nの 準備");
        assert_eq!(wrap("unbreakable", 3), "unbreakable");
    }

    #[test]
    fn lines_are_put_in_order() {
        assert_eq!(sort("cue 10\nCue 9\nästhetik\nBar\n"), "ästhetik\nBar\nCue 9\ncue 10");
        assert_eq!(unique("a\nb\na\nB"), "a\nb\nB");
        assert_eq!(drop_blank("a\n \n\nb"), "a\nb");
        assert_eq!(number("a\n\nb"), "1. a\n\n2. b");
    }

    #[test]
    fn lists_lose_their_marks_and_nothing_else() {
        let list = "1. lamp\n 2) gel\n(c) rope\n• tape\n- [x] done\niv. four\n- \nA.D. 1900\n3.5 mm\n-5 °C\n*bold*";
        assert_eq!(unlist(list), "lamp\n gel\nrope\ntape\ndone\nfour\n\nA.D. 1900\n3.5 mm\n-5 °C\n*bold*");
    }

    proptest! {
        #[test]
        fn numbering_and_unlisting_undo_each_other(lines in prop::collection::vec("[a-zé]{3,9}( [a-z]{1,5}){0,3}", 1..8)) {
            let text = lines.join("\n");
            prop_assert_eq!(unlist(&number(&text)), text);
        }

        #[test]
        fn sorting_loses_no_line(text in "[a-c0-9\n]{0,40}") {
            let count = |text: &str| { let mut lines: Vec<String> = text.lines().filter(|line| !line.is_empty()).map(str::to_owned).collect(); lines.sort(); lines };
            prop_assert_eq!(count(&sort(&text)), count(&text));
        }

        #[test]
        fn wrapping_keeps_every_word_and_fits(text in "[a-z舞é ]{0,80}", width in 8usize..40) {
            let wrapped = wrap(&text, width);
            prop_assert_eq!(wrapped.split_whitespace().collect::<Vec<_>>(), text.split_whitespace().collect::<Vec<_>>());
            for line in wrapped.lines().filter(|line| line.trim().contains(' ')) {
                prop_assert!(line.width() <= width);
            }
        }
    }
}
