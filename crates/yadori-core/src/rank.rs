//! Places in an order that a person arranges by hand.
//!
//! A place is a short word, and places are compared as words are. Between any two there is room for another,
//! so moving one thing changes the place of that thing only: two devices that each move another thing agree
//! without anything being renumbered (fractional indexing).

use std::fmt;

/// Letters of a place.
const LETTERS: u32 = 26;
/// The first letters of a place, by which things are lined up one after another.
const HEAD: usize = 4;

/// A place in an order. Never empty, and never ending in the first letter, which would leave no room before it.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Rank(Vec<u8>);

impl Rank {
    /// The place written as `bytes`, if it is one.
    pub fn from_slice(bytes: &[u8]) -> Option<Self> {
        let whole = bytes.iter().all(u8::is_ascii_lowercase) && bytes.last().is_some_and(|last| *last != b'a');
        whole.then(|| Self(bytes.to_vec()))
    }

    /// The place as it is stored.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// A place after `low` and before `high`; without them, one with much room on both sides. When `low` is not
    /// below `high`, a place after `low`.
    pub fn between(low: Option<&Self>, high: Option<&Self>) -> Self {
        match (low, high) {
            (None, None) => Self::headed(LETTERS.pow(HEAD as u32) / 2),
            (Some(low), None) => Self::stepped(low, 1).unwrap_or_else(|| Self(middle(&low.0, None))),
            (None, Some(high)) => Self::stepped(high, -1).unwrap_or_else(|| Self(middle(&[], Some(&high.0)))),
            (Some(low), Some(high)) if low < high => Self(middle(&low.0, Some(&high.0))),
            (Some(low), Some(_)) => Self::between(Some(low), None),
        }
    }

    /// The place at which something comes to stand at `index` of a list with these places in their order.
    pub fn at(places: &[Self], index: usize) -> Self {
        let index = index.min(places.len());
        let low = index.checked_sub(1).map(|before| &places[before]);
        // Two devices may have chosen the same place.
        let high = places[index..].iter().find(|place| low.is_none_or(|low| *place > low));
        Self::between(low, high)
    }

    fn headed(number: u32) -> Self {
        let mut letters: Vec<u8> =
            (0..HEAD as u32).rev().map(|digit| b'a' + (number / LETTERS.pow(digit) % LETTERS) as u8).collect();
        while letters.last() == Some(&b'a') {
            letters.pop();
        }
        Self(letters)
    }

    /// One step on or back at the head; `None` at the ends.
    fn stepped(from: &Self, step: i64) -> Option<Self> {
        let head = (0..HEAD).fold(0, |head, place| head * LETTERS + digit(&from.0, place));
        let next = u32::try_from(i64::from(head) + step).ok()?;
        (next > 0 && next < LETTERS.pow(HEAD as u32)).then(|| Self::headed(next))
    }
}

fn digit(letters: &[u8], place: usize) -> u32 {
    letters.get(place).map_or(0, |letter| u32::from(letter - b'a'))
}

/// A word between `low` (empty: the beginning) and `high` (`None`: the end), which must be above it.
fn middle(low: &[u8], high: Option<&[u8]>) -> Vec<u8> {
    if let Some(high) = high {
        let same = (0..high.len()).take_while(|place| digit(low, *place) == digit(high, *place)).count();
        if same > 0 {
            let mut word = high[..same].to_vec();
            word.extend(middle(&low[same.min(low.len())..], Some(&high[same..])));
            return word;
        }
    }
    let (from, to) = (digit(low, 0), high.map_or(LETTERS, |high| digit(high, 0)));
    if to - from > 1 {
        return vec![b'a' + ((from + to) / 2) as u8];
    }
    match high {
        Some(high) if high.len() > 1 => vec![high[0]],
        _ => {
            let mut word = vec![b'a' + from as u8];
            word.extend(middle(low.get(1..).unwrap_or_default(), None));
            word
        }
    }
}

impl fmt::Debug for Rank {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str(&String::from_utf8_lossy(&self.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lining_up_keeps_places_short() {
        let mut places = vec![Rank::between(None, None)];
        for _ in 0..5000 {
            places.push(Rank::at(&places, places.len()));
            places.insert(0, Rank::at(&places, 0));
        }
        assert!(places.is_sorted_by(|a, b| a < b));
        assert!(places.iter().all(|place| place.as_bytes().len() <= HEAD));
    }

    #[test]
    fn what_two_devices_put_at_the_same_place_can_still_be_followed() {
        let place = Rank::between(None, None);
        let twice = [place.clone(), place.clone()];
        assert!(Rank::at(&twice, 1) > place);
        assert!(Rank::at(&twice, 0) < place);
    }

    proptest! {
        #[test]
        fn there_is_room_everywhere(moves in prop::collection::vec(0usize..30, 1..120)) {
            let mut places: Vec<Rank> = Vec::new();
            for index in moves {
                let index = index.min(places.len());
                let place = Rank::at(&places, index);
                prop_assert_eq!(Rank::from_slice(place.as_bytes()), Some(place.clone()));
                places.insert(index, place);
            }
            prop_assert!(places.is_sorted_by(|a, b| a < b));
        }
    }
}
