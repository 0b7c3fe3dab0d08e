//! How a person names a clip: by its position in the history, or by the beginning of its id.

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
    /// Four or more characters that its id begins with, lower-case.
    IdPrefix(String),
}

/// Why something is not a clip's name.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum NameError {
    /// Zero, or more than a number can hold.
    #[error("positions count from 1, the newest clip")]
    NotAPosition,
    /// Too short for an id.
    #[error("an id needs at least {SHORTEST_PREFIX} of its characters")]
    TooShort,
    /// Neither digits nor the characters of ids.
    #[error("a clip is named by its position (3) or by the beginning of its id (k4wq)")]
    NotAName,
}

impl FromStr for ClipName {
    type Err = NameError;

    fn from_str(text: &str) -> Result<Self, NameError> {
        if !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit()) && text.len() < ID_CHARS {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_and_id_prefixes_name_clips() {
        assert_eq!("3".parse(), Ok(ClipName::Position(3)));
        assert_eq!("K4wq".parse(), Ok(ClipName::IdPrefix("k4wq".into())));
        assert_eq!("2345".parse(), Ok(ClipName::Position(2345)));
    }

    #[test]
    fn whatever_else_is_refused_with_its_reason() {
        assert_eq!("0".parse::<ClipName>(), Err(NameError::NotAPosition));
        assert_eq!("99999999999999999999999".parse::<ClipName>(), Err(NameError::NotAPosition));
        assert_eq!("k4w".parse::<ClipName>(), Err(NameError::TooShort));
        for text in ["", "k4w!", "-1", "k4w1k4w1", "舞台", &"a".repeat(27)] {
            assert_eq!(text.parse::<ClipName>(), Err(NameError::NotAName), "{text}");
        }
    }
}
