//! Numbers of a change feed that need not be told, kept as ranges.

use std::collections::BTreeMap;

/// Most ranges that are kept. What does not fit is told once more than needed.
const MOST: usize = 10_000;

/// Changes that came from the other device itself.
#[derive(Clone, Debug, Default)]
pub struct ChangeRanges {
    /// First and last number of each; they neither overlap nor touch.
    ranges: BTreeMap<u64, u64>,
}

impl ChangeRanges {
    /// Adds the change of this number.
    pub fn insert(&mut self, number: u64) {
        let (mut first, mut last) = (number, number);
        if let Some((&before, &upto)) = self.ranges.range(..=number).next_back() {
            if upto >= number {
                return;
            }
            if upto + 1 == number {
                first = before;
            }
        } else if self.ranges.len() >= MOST {
            return;
        }
        if let Some(upto) = self.ranges.remove(&(number.saturating_add(1))) {
            last = upto;
        }
        self.ranges.insert(first, last);
    }

    /// Whether the change of this number is among them.
    pub fn contains(&self, number: u64) -> bool {
        self.ranges.range(..=number).next_back().is_some_and(|(_, last)| *last >= number)
    }

    /// Passes over the changes that follow right after `read`, and forgets all up to there. Gives up to where nothing is to
    /// be read.
    pub fn pass_over(&mut self, read: u64) -> u64 {
        let mut read = read;
        while let Some(entry) = self.ranges.first_entry().filter(|entry| *entry.key() <= read.saturating_add(1)) {
            read = read.max(entry.remove());
        }
        read
    }

    /// The last number before the next range after `read`: up to there everything is to be read.
    pub fn next_gap_ends(&self, read: u64) -> u64 {
        self.ranges.range(read + 1..).next().map_or(u64::MAX, |(first, _)| first - 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    proptest! {
        #[test]
        fn they_hold_what_a_set_of_the_numbers_holds(
            numbers in prop::collection::vec(1u64..40, 0..40), read in 0u64..42,
        ) {
            let (mut ranges, set) = (ChangeRanges::default(), numbers.iter().copied().collect::<BTreeSet<_>>());
            numbers.iter().for_each(|number| ranges.insert(*number));
            for number in 0..42 {
                prop_assert_eq!(ranges.contains(number), set.contains(&number));
            }
            let mut passed = read;
            while set.contains(&(passed + 1)) {
                passed += 1;
            }
            prop_assert_eq!(ranges.pass_over(read), passed);
            let next = set.range(passed + 1..).next().map_or(u64::MAX, |next| next - 1);
            prop_assert_eq!(ranges.next_gap_ends(passed), next);
            prop_assert!(!ranges.contains(read));
        }
    }
}
