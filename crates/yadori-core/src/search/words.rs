//! The words of folded text.
//!
//! A word is a run of letters and digits. Scripts that are written without spaces, and symbols such
//! as emoji, have no such runs: there each character is a word.

/// The words of folded text, with the byte offset at which each begins.
pub fn words(folded: &str) -> impl Iterator<Item = (usize, &str)> {
    let mut rest = folded.char_indices().peekable();
    std::iter::from_fn(move || {
        loop {
            let (start, c) = rest.next()?;
            match class(c) {
                Class::Between => {}
                Class::Alone => return Some((start, &folded[start..start + c.len_utf8()])),
                Class::Joined => {
                    let mut end = start + c.len_utf8();
                    while let Some((at, next)) = rest.next_if(|(_, next)| class(*next) == Class::Joined) {
                        end = at + next.len_utf8();
                    }
                    return Some((start, &folded[start..end]));
                }
            }
        }
    })
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Class {
    Joined,
    Alone,
    Between,
}

fn class(c: char) -> Class {
    if c.is_ascii() {
        return if c.is_ascii_alphanumeric() { Class::Joined } else { Class::Between };
    }
    match c {
        // Kana, Han ideographs (with extensions), and the South-East Asian scripts without spaces.
        '\u{3041}'..='\u{30ff}' | '\u{3400}'..='\u{9fff}' | '\u{f900}'..='\u{faff}' | '\u{20000}'..='\u{3ffff}' => {
            Class::Alone
        }
        '\u{0e00}'..='\u{0eff}' | '\u{1000}'..='\u{109f}' | '\u{1780}'..='\u{17ff}' => Class::Alone,
        // Punctuation and spaces.
        '\u{80}'..='\u{bf}' | '\u{2000}'..='\u{206f}' | '\u{3000}'..='\u{303f}' => {
            if c.is_alphanumeric() {
                Class::Joined
            } else {
                Class::Between
            }
        }
        _ if c.is_alphanumeric() => Class::Joined,
        _ => Class::Alone,
    }
}

/// Whether a word could begin at byte `at` of `folded`: no letter or digit runs across that place.
pub fn is_boundary(folded: &str, at: usize) -> bool {
    let before = folded[..at].chars().next_back().map(class);
    let after = folded[at..].chars().next().map(class);
    before != Some(Class::Joined) || after != Some(Class::Joined)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cut(text: &str) -> Vec<&str> {
        words(text).map(|(_, word)| word).collect()
    }

    #[test]
    fn words_are_runs_of_letters_and_digits() {
        assert_eq!(cut("load-in 14:30, desk@example.org"), ["load", "in", "14", "30", "desk", "example", "org"]);
        assert_eq!(cut("привет, мир"), ["привет", "мир"]);
        assert_eq!(cut(" -- "), Vec::<&str>::new());
    }

    #[test]
    fn scripts_without_spaces_and_symbols_are_cut_at_each_character() {
        assert_eq!(cut("舞台a1さん🎭🎪"), ["舞", "台", "a1", "さ", "ん", "🎭", "🎪"]);
    }

    #[test]
    fn boundaries_lie_where_words_begin_and_end() {
        let places: Vec<usize> = (0..=6).filter(|at| is_boundary("ab cd!", *at)).collect();
        assert_eq!(places, [0, 2, 3, 5, 6]);
    }
}
