//! Filling a hash table with much at once.
//!
//! Put in as it comes, each entry would touch another part of a large table, and wait for memory. In the order of their places
//! they touch one part after the other, each small enough for the caches of the processor.

/// Into how many parts the places are divided.
const PARTS: usize = 1 << 8;

/// Calls `visit` with each number below `count` and its hash: those whose places in a table of so many lie near each other, one
/// after the other. (Such a table takes the lowest bits of a hash for the place.)
pub(super) fn each_by_place(count: u32, hash: impl Fn(u32) -> u64, mut visit: impl FnMut(u64, u32)) {
    // A table is filled to seven eighths at most.
    let places = (u64::from(count) * 8 / 7).next_power_of_two();
    let size_of_part = (places / PARTS as u64).max(1);
    let part = |hash: u64| (hash % places / size_of_part) as usize;
    let mut ends = [0; PARTS];
    (0..count).for_each(|number| ends[part(hash(number))] += 1);
    let mut before = 0;
    for end in &mut ends {
        before += std::mem::replace(end, before);
    }
    // From here on each is the place of the next of its part: its end, when all have come.
    let mut sorted = vec![(0, 0); count as usize];
    for number in 0..count {
        let hash = hash(number);
        let place = &mut ends[part(hash)];
        sorted[*place] = (hash, number);
        *place += 1;
    }
    sorted.into_iter().for_each(|(hash, number)| visit(hash, number));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn each_comes_once_and_neighbours_come_together(hashes in prop::collection::vec(any::<u64>(), 0..2_000)) {
            let mut come = Vec::new();
            each_by_place(hashes.len() as u32, |number| hashes[number as usize], |hash, number| come.push((hash, number)));
            prop_assert!(come.iter().all(|(hash, number)| hashes[*number as usize] == *hash));
            let places = (hashes.len() * 8 / 7).next_power_of_two() as u64;
            let parts: Vec<u64> = come.iter().map(|(hash, _)| hash % places / (places / PARTS as u64).max(1)).collect();
            prop_assert!(parts.is_sorted());
            let mut numbers: Vec<u32> = come.into_iter().map(|(_, number)| number).collect();
            numbers.sort_unstable();
            prop_assert!(numbers.into_iter().eq(0..hashes.len() as u32));
        }
    }
}
