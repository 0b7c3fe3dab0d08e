//! A set of slots, one bit each.

/// A set of numbers below a fixed bound.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Bits(Vec<u64>);

impl Bits {
    /// The empty set, with room for numbers below `bound`.
    pub fn none(bound: usize) -> Self {
        Self(vec![0; bound.div_ceil(64)])
    }

    /// Adds a number below the bound.
    pub fn insert(&mut self, n: u32) {
        self.0[n as usize / 64] |= 1 << (n % 64);
    }

    /// Adds a number, and raises the bound above it.
    pub fn push(&mut self, n: u32) {
        let words = n as usize / 64 + 1;
        if words > self.0.len() {
            self.0.resize(words, 0);
        }
        self.insert(n);
    }

    /// Gives back memory that growing has taken in advance.
    pub fn shrink(&mut self) {
        self.0.shrink_to_fit();
    }

    /// One bit for each number from 0 on, 64 in a word.
    pub fn words(&self) -> &[u64] {
        &self.0
    }

    /// The set that such words tell of.
    pub fn of_words(words: Vec<u64>) -> Self {
        Self(words)
    }

    /// Whether the number is in the set.
    pub fn contains(&self, n: u32) -> bool {
        self.0.get(n as usize / 64).is_some_and(|word| word >> (n % 64) & 1 == 1)
    }

    /// How many numbers are in the set.
    pub fn count(&self) -> usize {
        self.0.iter().map(|word| word.count_ones() as usize).sum()
    }

    /// Keeps only what is in `other` too.
    pub fn intersect(&mut self, other: &Self) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine &= theirs);
    }

    /// Adds what is in `other`.
    pub fn unite(&mut self, other: &Self) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine |= theirs);
    }

    /// Takes out what is in `other`.
    pub fn subtract(&mut self, other: &Self) {
        self.0.iter_mut().zip(&other.0).for_each(|(mine, theirs)| *mine &= !theirs);
    }

    /// The numbers, rising.
    pub fn iter(&self) -> impl Iterator<Item = u32> {
        self.0.iter().enumerate().flat_map(|(place, word)| {
            let mut rest = *word;
            std::iter::from_fn(move || {
                let bit = (rest != 0).then(|| rest.trailing_zeros())?;
                rest &= rest - 1;
                Some(place as u32 * 64 + bit)
            })
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn bits(of: &BTreeSet<u32>) -> Bits {
        let mut bits = Bits::none(200);
        of.iter().for_each(|n| bits.insert(*n));
        bits
    }

    proptest! {
        #[test]
        fn bits_behave_as_a_set(a in prop::collection::btree_set(0u32..200, 0..60), b in prop::collection::btree_set(0u32..200, 0..60)) {
            let combined = |combine: fn(&mut Bits, &Bits)| {
                let mut set = bits(&a);
                combine(&mut set, &bits(&b));
                set.iter().collect::<Vec<_>>()
            };
            prop_assert_eq!(bits(&a).count(), a.len());
            prop_assert_eq!(combined(Bits::intersect), a.intersection(&b).copied().collect::<Vec<_>>());
            prop_assert_eq!(combined(Bits::unite), a.union(&b).copied().collect::<Vec<_>>());
            prop_assert_eq!(combined(Bits::subtract), a.difference(&b).copied().collect::<Vec<_>>());
            prop_assert!((0..200).all(|n| bits(&a).contains(n) == a.contains(&n)));
        }
    }
}
