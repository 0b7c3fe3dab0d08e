//! The one line that stands for a clip in a list.

/// Longest preview, in characters.
pub const LONGEST: usize = 200;

/// The beginning of `text` as one line of at most `longest` characters: runs of white space become
/// one space, and nothing is left that could steer a terminal or reorder the line.
pub fn one_line(text: &str, longest: usize) -> String {
    let mut line = String::with_capacity(text.len().min(longest * 2));
    let mut chars = 0;
    let mut gap = false;
    for c in text.chars() {
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
    line
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

    proptest! {
        #[test]
        fn previews_fit_and_are_safe(text in "(?s).{0,80}", longest in 1usize..40) {
            let line = one_line(&text, longest);
            prop_assert!(line.chars().count() <= longest);
            prop_assert!(!line.chars().any(unsafe_to_print));
            prop_assert_eq!(line.trim(), &line);
        }
    }
}
