//! What a clip is.

use serde::{Deserialize, Serialize};

/// What a clip is, decided once, at capture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Words, plain or with formatting.
    Text,
    /// One URL and nothing else.
    Link,
    /// A picture.
    Image,
    /// A list of files.
    Files,
}

impl Kind {
    /// Every kind, in the order in which they are stored as numbers.
    pub const ALL: [Self; 4] = [Self::Text, Self::Link, Self::Image, Self::Files];

    /// The word for it: `text`, `link`, `image` or `files`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Link => "link",
            Self::Image => "image",
            Self::Files => "files",
        }
    }

    /// The kind in the plural, as in a sentence.
    pub fn plural(self) -> &'static str {
        match self {
            Self::Text => "texts",
            Self::Link => "links",
            Self::Image => "images",
            Self::Files => "lists of files",
        }
    }

    /// The kind that `word` names, if any; letter case does not matter.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word().eq_ignore_ascii_case(word))
    }

    /// The number it is stored as.
    pub fn code(self) -> u8 {
        self as u8
    }

    /// The kind stored as `code`, if any.
    pub fn from_code(code: u8) -> Option<Self> {
        Self::ALL.get(usize::from(code)).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_kind_survives_its_word_and_its_code() {
        for kind in Kind::ALL {
            assert_eq!(Kind::from_word(&kind.word().to_uppercase()), Some(kind));
            assert_eq!(Kind::from_code(kind.code()), Some(kind));
        }
        assert_eq!(Kind::from_word("movie"), None);
        assert_eq!(Kind::from_code(4), None);
    }
}
