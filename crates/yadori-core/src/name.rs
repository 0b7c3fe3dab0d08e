//! How a person names a clip: by its place in a list, by its alias, or by the beginning of its id.

use crate::alias::Alias;
use crate::identity::ID_CHARS;
use std::str::FromStr;
use thiserror::Error;

/// Fewest characters of an id that name a clip.
pub const SHORTEST_PREFIX: usize = 4;

/// A clip as a person names it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ClipName {
    /// Its place in the history, 1 = newest.
    Position(usize),
    /// Its place among the pinned ones, from 1: `p2`.
    Pin(usize),
    /// Its place in the tray, from 1: `t1`.
    Tray(usize),
    /// `:sig`
    Alias(Alias),
    /// Four or more characters that its id begins with, lower-case.
    IdPrefix(String),
}

/// Why something is not a clip's name.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NameError {
    /// Zero, or more than a number can hold.
    #[error("positions count from 1")]
    NotAPosition,
    /// Too short for an id.
    #[error("an id needs at least {SHORTEST_PREFIX} of its characters")]
    TooShort,
    /// Neither digits nor the characters of ids.
    #[error(
        "a clip is named by its position (3), its place among the pins (p2) or in the tray (t1), its alias (:sig) or the beginning of its id (k4wq)"
    )]
    NotAName,
    /// Behind a colon, but no alias.
    #[error(transparent)]
    NotAnAlias(#[from] crate::alias::NotAnAlias),
}

impl FromStr for ClipName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        if text.starts_with(':') {
            return Ok(Self::Alias(text.parse()?));
        }
        for (letter, name) in [('p', Self::Pin as fn(usize) -> Self), ('t', Self::Tray)] {
            if let Some(number) = text.strip_prefix(letter).filter(|number| is_number(number)) {
                // Letters and digits may also be the beginning of an id, if they are no place.
                match number.parse() {
                    Ok(0) => return Err(NameError::NotAPosition),
                    Ok(place) if number.len() < 5 => return Ok(name(place)),
                    _ => {}
                }
            }
        }
        if is_number(text) && text.len() < ID_CHARS {
            return match text.parse() {
                Ok(position) if position > 0 => Ok(Self::Position(position)),
                _ => Err(NameError::NotAPosition),
            };
        }
        let id = text.to_ascii_lowercase();
        if id.is_empty() || id.len() > ID_CHARS || !id.bytes().all(|byte| matches!(byte, b'a'..=b'z' | b'2'..=b'7')) {
            return Err(NameError::NotAName);
        }
        if id.len() < SHORTEST_PREFIX { Err(NameError::TooShort) } else { Ok(Self::IdPrefix(id)) }
    }
}

fn is_number(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}

/// Whether this is `.` or `..`. In a path, these lead elsewhere (RFC 3986, section 5.2.4): what is called so could not be reached.
pub fn is_path(name: &str) -> bool {
    name == "." || name == ".."
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_and_id_prefixes_name_clips() {
        assert_eq!("3".parse(), Ok(ClipName::Position(3)));
        assert_eq!("K4wq".parse(), Ok(ClipName::IdPrefix("k4wq".into())));
        assert_eq!("2345".parse(), Ok(ClipName::Position(2345)));
        assert_eq!("p2".parse(), Ok(ClipName::Pin(2)));
        assert_eq!("t10".parse(), Ok(ClipName::Tray(10)));
        assert_eq!(":Sig".parse(), Ok(ClipName::Alias("sig".parse().unwrap())));
        assert_eq!("p2x4".parse::<ClipName>(), Ok(ClipName::IdPrefix("p2x4".into())));
    }

    #[test]
    fn whatever_else_is_refused_with_its_reason() {
        assert_eq!("0".parse::<ClipName>(), Err(NameError::NotAPosition));
        assert_eq!("99999999999999999999999".parse::<ClipName>(), Err(NameError::NotAPosition));
        assert_eq!("p0".parse::<ClipName>(), Err(NameError::NotAPosition));
        assert!(matches!(":a b".parse::<ClipName>(), Err(NameError::NotAnAlias(_))));
        assert_eq!("k4w".parse::<ClipName>(), Err(NameError::TooShort));
        for text in ["", "k4w!", "-1", "k4w1k4w1", "舞台", &"a".repeat(27)] {
            assert_eq!(text.parse::<ClipName>(), Err(NameError::NotAName), "{text}");
        }
    }
}
