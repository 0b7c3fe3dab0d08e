//! Folding: what makes `Čáslav`, `CASLAV` and `ｃａｓｌａｖ` the same to a search.
//!
//! Compatibility decomposition (Unicode Annex 15, NFKD) without the combining marks of the European
//! scripts and the vowel marks of Arabic and Hebrew, in lower case, with the letters that Unicode does not decompose spelled out, and every run
//! of white space as one space. Marks that make other letters (the voicing of kana) stay.

use unicode_normalization::UnicodeNormalization;
use unicode_normalization::char::{canonical_combining_class, decompose_compatible};

/// The folded form of `text`.
pub fn fold(text: &str) -> String {
    let mut folded = String::with_capacity(text.len());
    fold_each(text, |_, piece| folded.push_str(piece));
    folded
}

/// Folds `text` piece by piece: calls `emit` with the byte range of each piece in `text` and its
/// folded form, which may be empty.
pub fn fold_each(text: &str, mut emit: impl FnMut(std::ops::Range<usize>, &str)) {
    let mut buffer = String::new();
    let mut after_space = false;
    let mut chars = text.char_indices().peekable();
    while let Some((start, c)) = chars.next() {
        if c.is_whitespace() || c.is_control() {
            emit(start..start + c.len_utf8(), if after_space { "" } else { " " });
            after_space = true;
            continue;
        }
        let mut end = start + c.len_utf8();
        while let Some((at, mark)) = chars.next_if(|(_, next)| joins_the_one_before(*next)) {
            end = at + mark.len_utf8();
        }
        if c.is_ascii() && end == start + 1 {
            after_space = false;
            let lower = [c.to_ascii_lowercase() as u8];
            emit(start..end, std::str::from_utf8(&lower).unwrap_or_default());
        } else {
            buffer.clear();
            // What falls away does so before the rest is composed, or it would keep marks apart.
            let lower = text[start..end].nfkd().filter(|c| !falls_away(*c)).nfc().flat_map(char::to_lowercase);
            for c in lower {
                match spelled_out(c) {
                    Some(letters) => buffer.push_str(letters),
                    None if falls_away(c) => {}
                    None => buffer.push(c),
                }
            }
            after_space &= buffer.is_empty();
            emit(start..end, &buffer);
        }
    }
}

/// What combines with the letter before it once it is decomposed and rid of what falls away: marks,
/// their half-width and stand-alone forms, and the vowels and finals of Hangul.
fn joins_the_one_before(c: char) -> bool {
    if c.is_ascii() || c.is_whitespace() {
        return false;
    }
    let mut first = None;
    decompose_compatible(c, |piece| {
        if first.is_none() && !falls_away(piece) {
            first = Some(piece);
        }
    });
    first.is_none_or(|first| canonical_combining_class(first) != 0 || matches!(first, '\u{1160}'..='\u{11ff}'))
}

fn falls_away(c: char) -> bool {
    is_accent(c) || is_vowel_mark(c) || is_invisible(c) || c.is_whitespace()
}

/// The blocks of combining marks that are accents: diacritical marks, their extensions and
/// supplement, marks for symbols, and half marks.
fn is_accent(c: char) -> bool {
    matches!(c, '\u{300}'..='\u{36f}' | '\u{1ab0}'..='\u{1aff}' | '\u{1dc0}'..='\u{1dff}' | '\u{20d0}'..='\u{20ff}' | '\u{fe20}'..='\u{fe2f}')
}

/// Marks that most people leave out when they write: the vowels of Arabic (with the hamza that sits on a letter, the signs of
/// the Koran and the stroke that only lengthens a word) and the points of Hebrew.
fn is_vowel_mark(c: char) -> bool {
    matches!(c, '\u{610}'..='\u{61a}' | '\u{640}' | '\u{64b}'..='\u{65f}' | '\u{670}' | '\u{6d6}'..='\u{6dc}'
        | '\u{6df}'..='\u{6e4}' | '\u{6e7}' | '\u{6e8}' | '\u{6ea}'..='\u{6ed}'
        | '\u{591}'..='\u{5bd}' | '\u{5bf}' | '\u{5c1}' | '\u{5c2}' | '\u{5c4}' | '\u{5c5}' | '\u{5c7}')
}

/// Characters without a shape of their own: soft hyphen, joiners, direction marks, variation
/// selectors and the byte-order mark.
fn is_invisible(c: char) -> bool {
    matches!(c, '\u{ad}' | '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}')
}

fn spelled_out(c: char) -> Option<&'static str> {
    Some(match c {
        'ß' => "ss",
        'æ' => "ae",
        'œ' => "oe",
        'ø' => "o",
        'đ' | 'ð' => "d",
        'ł' => "l",
        'ħ' => "h",
        'ı' => "i",
        'þ' => "th",
        'ς' => "σ",
        '’' | '‘' | 'ʼ' => "'",
        '“' | '”' | '„' => "\"",
        '‐' | '‑' | '–' | '—' => "-",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn case_accents_and_width_do_not_matter() {
        for (text, folded) in [
            ("Čáslav CASLAV", "caslav caslav"),
            ("Straße İstanbul Łódź", "strasse istanbul lodz"),
            ("ｃｕｅ　７", "cue 7"),
            ("Ёлка ЙОД", "елка иод"),
            ("ﾊﾟﾝ パン ハン", "パン パン ハン"),
            ("한국", "한국"),
            ("\u{1112}\u{1161}\u{11ab}국", "한국"),
            ("か\u{200d}\u{3099}", "が"),
            ("a \u{301} b", "a b"),
            ("\u{1939}ﹲ", "\u{1939}"),
            ("كِتَابٌ أَوَّل", "كتاب اول"),
            ("كتـــاب آخر", "كتاب اخر"),
            ("שָׁלוֹם", "שלום"),
            ("e\u{301}te\u{301}", "ete"),
            ("a \t\n b", "a b"),
            ("🎭", "🎭"),
        ] {
            assert_eq!(fold(text), folded, "{text}");
        }
    }

    proptest! {
        #[test]
        fn folding_twice_changes_nothing(text in "\\PC{0,40}") {
            let once = fold(&text);
            prop_assert_eq!(fold(&once), once);
        }

        #[test]
        fn folding_twice_changes_nothing_where_marks_crowd(
            text in "[aÅıΣか\u{1112}\u{1161}\u{11ab} \u{a0}\u{34f}\u{301}\u{327}\u{64c}\u{1939}\u{3099}\u{200d}\u{20dd}ﹲ´ﾞ\u{feff}\u{9be}\u{9c7}]{0,8}",
        ) {
            let once = fold(&text);
            prop_assert_eq!(fold(&once), once);
        }

        #[test]
        fn the_pieces_cover_the_text_in_order(text in "(?s).{0,40}") {
            let mut at = 0;
            fold_each(&text, |range, _| {
                assert_eq!(range.start, at);
                at = range.end;
            });
            prop_assert_eq!(at, text.len());
        }
    }
}
