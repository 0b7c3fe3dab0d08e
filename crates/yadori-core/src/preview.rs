//! The one line that stands for a clip in a list.

/// Longest preview, in characters.
pub const LONGEST: usize = 200;

/// The beginning of `text` as one line of at most `longest` characters: runs of white space become
/// one space, and nothing is left that could steer a terminal or reorder the line.
pub fn one_line(text: &str, longest: usize) -> String {
    let mut line = String::with_capacity(text.len().min(longest * 2));
    let mut chars = 0;
    let mut gap = false;
    let mut rest = text;
    loop {
        // Most texts are words of these, which are taken at once.
        let word = rest.bytes().take_while(u8::is_ascii_graphic).count();
        if word > 0 && chars + usize::from(gap) + word <= longest {
            if std::mem::take(&mut gap) {
                line.push(' ');
                chars += 1;
            }
            let (word, after) = rest.split_at(word);
            line.push_str(word);
            chars += word.len();
            rest = after;
        }
        let Some(c) = rest.chars().next() else { return line };
        rest = &rest[c.len_utf8()..];
        if c.is_whitespace() || c == '\0' {
            gap = !line.is_empty();
            continue;
        }
        if chars + usize::from(gap) + 1 > longest {
            while chars >= longest {
                line.pop();
                chars -= 1;
            }
            line.push('…');
            return line;
        }
        if std::mem::take(&mut gap) {
            line.push(' ');
            chars += 1;
        }
        line.push(if unsafe_to_print(c) { '\u{fffd}' } else { c });
        chars += 1;
    }
}

/// The first `most` lines of `text` that say something, each quiet as in [`one_line`] and all together of at most `longest`
/// characters; none if there are not several. Indentation stays, up to eight columns, as far as the first line has less.
pub fn first_lines(text: &str, most: usize, longest: usize) -> Option<String> {
    let mut lines = text.lines().filter(|line| !line.trim().is_empty()).take(most).peekable();
    let margin = indentation(lines.peek()?);
    let mut all = String::new();
    let mut left = longest;
    let mut count = 0;
    for line in lines {
        let indent = indentation(line).saturating_sub(margin).min(8);
        if left <= indent + 1 {
            break;
        }
        let quiet = one_line(line, left - indent);
        left = left.saturating_sub(indent + quiet.chars().count() + 1);
        if count > 0 {
            all.push('\n');
        }
        all.extend(std::iter::repeat_n(' ', indent));
        all.push_str(&quiet);
        count += 1;
    }
    (count > 1).then_some(all)
}

/// Columns before the first character that says something; a tab counts as four.
fn indentation(line: &str) -> usize {
    line.chars().take_while(|c| c.is_whitespace()).map(|c| if c == '\t' { 4 } else { 1 }).sum()
}

/// Whether a character can steer a terminal or turn around the text beside it: controls, and the
/// bidirectional embeddings, overrides and isolates of Unicode Annex 9.
pub fn unsafe_to_print(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{200e}' | '\u{200f}' | '\u{061c}')
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_preview_is_one_quiet_line() {
        assert_eq!(one_line("  Load-in\n\t14:30 ", 80), "Load-in 14:30");
        assert_eq!(one_line("\u{1b}[31mred\u{202e}", 80), "\u{fffd}[31mred\u{fffd}");
        assert_eq!(one_line("abcdef", 4), "abc…");
        assert_eq!(one_line("abcd", 4), "abcd");
        assert_eq!(one_line(" \n ", 4), "");
    }

    #[test]
    fn the_first_lines_keep_their_breaks_and_indentation() {
        assert_eq!(first_lines("one line\n\n", 3, 80), None);
        assert_eq!(
            first_lines("\n  if ready:\n\n      go()\n  stop()\n  never\n", 3, 80).unwrap(),
            "if ready:\n    go()\nstop()"
        );
        assert_eq!(first_lines("abcdef\nghijkl\nmn", 3, 9).unwrap(), "abcdef\ng…");
        assert_eq!(first_lines("\u{1b}[31mred\n\u{202e}x", 3, 80).unwrap(), "\u{fffd}[31mred\n\u{fffd}x");
    }

    proptest! {
        #[test]
        fn first_lines_fit_and_are_safe(text in "(?s)[a-z \n\t\u{202e}]{0,80}", most in 1usize..5, longest in 1usize..40) {
            if let Some(lines) = first_lines(&text, most, longest) {
                prop_assert!(lines.chars().count() <= longest);
                prop_assert!(lines.lines().count() <= most && lines.lines().all(|line| !line.trim().is_empty()));
                prop_assert!(!lines.chars().any(|c| c != '\n' && unsafe_to_print(c)));
            }
        }

        #[test]
        fn previews_fit_and_are_safe(text in "(?s).{0,80}", longest in 1usize..40) {
            let line = one_line(&text, longest);
            prop_assert!(line.chars().count() <= longest);
            prop_assert!(!line.chars().any(unsafe_to_print));
            prop_assert_eq!(line.trim(), &line);
        }
    }
}
