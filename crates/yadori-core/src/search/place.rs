//! Places in what a search has found, from which the next page goes on.

use crate::{ClipId, Stamp};
use std::fmt;
use std::str::FromStr;

/// How well a clip meets a query: as well as the worst met of its terms.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Tier {
    /// Whole words.
    Exact,
    /// Beginnings of words.
    Prefix,
    /// Parts of words.
    Inside,
    /// Misspelled.
    Fuzzy,
}

impl Tier {
    /// All, from the best on.
    pub const ALL: [Self; 4] = [Self::Exact, Self::Prefix, Self::Inside, Self::Fuzzy];
}

/// When a clip was copied last, and its id: its place in the history.
pub type Key = (Stamp, ClipId);

/// After which clip to go on. It stays right when other clips come and go: what has been shown is not shown again, and nothing
/// is left out, but for clips whose own place changes meanwhile (they are copied again, recalled, deleted or brought back).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Place {
    /// How well it meets the query.
    pub(super) tier: Tier,
    /// The last of the clips of the tier that are ranked by their worth; all are if there is none.
    pub(super) ranked_down_to: Option<Key>,
    /// The worth of the clip, if it is one of those.
    pub(super) worth: Option<u64>,
    /// The clip.
    pub(super) key: Key,
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let key =
            |key: Option<Key>| key.map_or_else(|| "-.-".to_owned(), |(at, id)| format!("{:x}.{id}", at.to_bits()));
        let worth = self.worth.map_or_else(|| "-".to_owned(), |worth| format!("{worth:x}"));
        write!(f, "{}.{worth}.{}.{}", self.tier as u8, key(Some(self.key)), key(self.ranked_down_to))
    }
}

/// It is no place of a search.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NoPlace;

impl FromStr for Place {
    type Err = NoPlace;

    fn from_str(text: &str) -> Result<Self, NoPlace> {
        let parts: Vec<&str> = text.split('.').collect();
        let [tier, worth, at, id, from, from_id] = parts[..] else { return Err(NoPlace) };
        let number = |text: &str| u64::from_str_radix(text, 16).map_err(|_| NoPlace);
        let key = |at: &str, id: &str| Ok((Stamp::from_bits(number(at)?), ClipId::parse(id).ok_or(NoPlace)?));
        let tier = Tier::ALL.into_iter().find(|known| (*known as u8).to_string() == tier).ok_or(NoPlace)?;
        Ok(Self {
            tier,
            worth: if worth == "-" { None } else { Some(number(worth)?) },
            key: key(at, id)?,
            ranked_down_to: if (from, from_id) == ("-", "-") { None } else { Some(key(from, from_id)?) },
        })
    }
}
