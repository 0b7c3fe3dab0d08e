//! Colour marks: a few, each with a name, since colour alone tells nothing to many.

/// A colour mark.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Mark {
    /// A warm yellow.
    Amber,
    /// A dull red.
    Brick,
    /// A leaf green.
    Fern,
    /// A blue green.
    Lagoon,
    /// A reddish purple.
    Plum,
    /// A bluish grey.
    Slate,
}

impl Mark {
    /// All of them, in the order in which they are offered.
    pub const ALL: [Self; 6] = [Self::Amber, Self::Brick, Self::Fern, Self::Lagoon, Self::Plum, Self::Slate];

    /// Its name.
    pub fn word(self) -> &'static str {
        match self {
            Self::Amber => "amber",
            Self::Brick => "brick",
            Self::Fern => "fern",
            Self::Lagoon => "lagoon",
            Self::Plum => "plum",
            Self::Slate => "slate",
        }
    }

    /// The mark of this name.
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|mark| mark.word() == word)
    }

    /// Its number in the records.
    pub fn code(self) -> u8 {
        self as u8 + 1
    }

    /// The mark of this number.
    pub fn from_code(code: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|mark| mark.code() == code)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_mark_survives_its_word_and_its_code() {
        for mark in Mark::ALL {
            assert_eq!(Mark::from_word(mark.word()), Some(mark));
            assert_eq!(Mark::from_code(mark.code()), Some(mark));
        }
        assert_eq!((Mark::from_word("red"), Mark::from_code(0)), (None, None));
    }
}
