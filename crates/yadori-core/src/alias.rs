//! Aliases: short names that stand for clips, such as `:sig`, by themselves and within a text.

use std::fmt;
use std::str::FromStr;
use thiserror::Error;
use unicode_normalization::UnicodeNormalization;

/// Most characters of an alias, without its colon.
pub const LONGEST: usize = 40;

/// A short name, without its colon and in lower case.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Alias(String);

/// Why something cannot be an alias.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("an alias has 1 to {LONGEST} letters, digits, - or _, and begins with a letter, like :sig")]
pub struct NotAnAlias;

impl Alias {
    /// The name without its colon.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Alias {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        write!(f, ":{}", self.0)
    }
}

impl FromStr for Alias {
    type Err = NotAnAlias;

    /// Reads an alias with or without its colon. Letter case does not matter.
    fn from_str(text: &str) -> Result<Self, NotAnAlias> {
        let name: String = text.strip_prefix(':').unwrap_or(text).nfc().flat_map(char::to_lowercase).collect();
        let fits = (1..=LONGEST).contains(&name.chars().count())
            && name.chars().next().is_some_and(char::is_alphabetic)
            && name.chars().all(is_part);
        if fits { Ok(Self(name)) } else { Err(NotAnAlias) }
    }
}

fn is_part(c: char) -> bool {
    c.is_alphanumeric() || c == '-' || c == '_'
}

/// A piece of a text that may hold aliases.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece<'a> {
    /// Text that stays as it is.
    Text(&'a str),
    /// What may be an alias, as it was written, with its colon.
    Alias(Alias, &'a str),
}

/// Cuts a text at its aliases: a colon and a name, at the beginning of a word. `::sig` is `:sig` as text, and
/// nothing within a word is an alias (`10:30`, `https://…`, `Tel.:x`).
pub fn pieces(text: &str) -> Vec<Piece<'_>> {
    let mut pieces = Vec::new();
    let (mut kept, mut at) = (0, 0);
    while let Some(found) = text[at..].find(':') {
        let colon = at + found;
        let begins =
            text[..colon].chars().next_back().is_none_or(|c| c.is_whitespace() || "([{<\"'“‘«>=,;".contains(c));
        if !begins {
            at = colon + 1;
            continue;
        }
        if text[colon + 1..].starts_with(':') {
            // The first of two colons goes, if a name follows them.
            let named = text[colon + 2..].chars().next().is_some_and(char::is_alphabetic);
            if named {
                pieces.push(Piece::Text(&text[kept..colon]));
                kept = colon + 1;
            }
            at = colon + 2;
            continue;
        }
        let rest = &text[colon + 1..];
        let length = rest.find(|c| !is_part(c)).unwrap_or(rest.len());
        // A dash at the end is punctuation.
        let name = rest[..length].trim_end_matches('-');
        let end = colon + 1 + name.len();
        match name.parse() {
            Ok(alias) if !text[end..].starts_with(':') => {
                pieces.push(Piece::Text(&text[kept..colon]));
                pieces.push(Piece::Alias(alias, &text[colon..end]));
                kept = end;
            }
            _ => {}
        }
        at = end.max(colon + 1);
    }
    pieces.push(Piece::Text(&text[kept..]));
    pieces.retain(|piece| *piece != Piece::Text(""));
    pieces
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn filled(text: &str) -> String {
        let fill = |piece| match piece {
            Piece::Text(text) => text.to_owned(),
            Piece::Alias(alias, _) => format!("<{}>", alias.as_str()),
        };
        pieces(text).into_iter().map(fill).collect()
    }

    #[test]
    fn names_are_letters_digits_and_dashes() {
        assert_eq!(":Sig".parse::<Alias>().unwrap().to_string(), ":sig");
        assert_eq!("grüße-2".parse::<Alias>().unwrap().as_str(), "grüße-2");
        for bad in ["", ":", "a b", "3", "::sig", "a:b", "a\u{202e}b", &"a".repeat(41)] {
            assert_eq!(bad.parse::<Alias>(), Err(NotAnAlias), "{bad}");
        }
    }

    #[test]
    fn aliases_are_found_at_the_beginning_of_words_only() {
        for (text, expected) in [
            ("Dear all, :sig", "Dear all, <sig>"),
            (":sig", "<sig>"),
            ("(:addr)\n:Sig.", "(<addr>)\n<sig>."),
            ("at 10:30 see https://example.org/a:b", "at 10:30 see https://example.org/a:b"),
            ("write ::sig to get :sig", "write :sig to get <sig>"),
            (":smile: a::b : :: :-)", ":smile: a::b : :: :-)"),
            (":sig- and :a-b", "<sig>- and <a-b>"),
        ] {
            assert_eq!(filled(text), expected, "{text}");
        }
    }

    proptest! {
        #[test]
        fn a_text_without_doubled_colons_loses_nothing(text in "[a-zč:;( \n0-9-]{0,40}".prop_filter("no ::", |text| !text.contains("::"))) {
            let whole: String = pieces(&text).into_iter().map(|piece| match piece {
                Piece::Text(text) | Piece::Alias(_, text) => text,
            }).collect();
            prop_assert_eq!(whole, text);
        }

        #[test]
        fn no_text_upsets_it(text in "\\PC{0,60}") {
            pieces(&text);
        }
    }
}
