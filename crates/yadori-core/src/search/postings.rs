//! In which slots a word stands.
//!
//! Most words stand in one clip or two, some in nearly all. So there are three forms, each taken when it is the smallest: a few
//! bytes in place, bytes elsewhere, and one bit for each slot. The bytes are the distances of the slots to the one before (of the
//! first, to 0), in seven bits a byte, the lowest first.

use super::bits::Bits;
use super::snapshot::{in_seven_bits, nonsense, number, read_bytes_into, read_u32};
use std::io::{self, Read, Write};

/// Bytes that need no place of their own.
const IN_PLACE: usize = 14;

/// Below this slot no word is worth a bit for each: the bytes would have to be written anew soon.
const DENSE_FROM: u32 = 4096;

/// Slots, rising.
#[derive(Clone)]
pub(super) struct Postings(Form);

#[derive(Clone)]
enum Form {
    InPlace { length: u8, bytes: [u8; IN_PLACE] },
    Listed(Box<Listed>),
    Dense(Box<Bits>),
}

#[derive(Clone, Default)]
struct Listed {
    last: u32,
    bytes: Vec<u8>,
}

impl Default for Postings {
    fn default() -> Self {
        Self(Form::InPlace { length: 0, bytes: [0; IN_PLACE] })
    }
}

impl FromIterator<u32> for Postings {
    /// Of rising slots.
    fn from_iter<T: IntoIterator<Item = u32>>(slots: T) -> Self {
        let mut postings = Self::default();
        slots.into_iter().for_each(|slot| postings.push(slot));
        postings
    }
}

impl Postings {
    /// Adds a slot that is not below those that are there.
    pub fn push(&mut self, slot: u32) {
        match &mut self.0 {
            Form::InPlace { length, bytes } => {
                let last = last_of(&bytes[..usize::from(*length)]);
                if last == Some(slot) {
                    return;
                }
                let (gap, more) = in_seven_bits(slot - last.unwrap_or(0));
                let (before, after) = (usize::from(*length), usize::from(*length) + more);
                if after <= IN_PLACE {
                    bytes[before..after].copy_from_slice(&gap[..more]);
                    *length = after as u8;
                } else {
                    let mut elsewhere = Vec::with_capacity(after.next_power_of_two());
                    elsewhere.extend_from_slice(&bytes[..before]);
                    elsewhere.extend_from_slice(&gap[..more]);
                    self.0 = Form::Listed(Box::new(Listed { last: slot, bytes: elsewhere }));
                }
            }
            Form::Listed(listed) => {
                if listed.last == slot {
                    return;
                }
                let (gap, more) = in_seven_bits(slot - listed.last);
                listed.bytes.extend_from_slice(&gap[..more]);
                listed.last = slot;
                if slot >= DENSE_FROM && listed.bytes.len() > slot as usize / 8 {
                    let mut dense = Bits::none(slot as usize + 1);
                    each(&listed.bytes, |slot| dense.insert(slot));
                    self.0 = Form::Dense(Box::new(dense));
                }
            }
            Form::Dense(dense) => dense.push(slot),
        }
    }

    /// Adds the slots to a set.
    pub fn insert_into(&self, found: &mut Bits) {
        match &self.0 {
            Form::InPlace { length, bytes } => each(&bytes[..usize::from(*length)], |slot| found.insert(slot)),
            Form::Listed(listed) => each(&listed.bytes, |slot| found.insert(slot)),
            Form::Dense(dense) => found.unite(dense),
        }
    }

    /// Passes on each slot, rising.
    pub fn each(&self, visit: impl FnMut(u32)) {
        match &self.0 {
            Form::InPlace { length, bytes } => each(&bytes[..usize::from(*length)], visit),
            Form::Listed(listed) => each(&listed.bytes, visit),
            Form::Dense(dense) => dense.iter().for_each(visit),
        }
    }

    /// Gives back memory that growing has taken in advance.
    pub fn shrink(&mut self) {
        match &mut self.0 {
            Form::InPlace { .. } => {}
            Form::Listed(listed) => listed.bytes.shrink_to_fit(),
            Form::Dense(dense) => dense.shrink(),
        }
    }

    /// Writes them for [`Postings::read`].
    pub fn write(&self, out: &mut impl Write) -> io::Result<()> {
        let mut listed = |bytes: &[u8]| match u8::try_from(bytes.len()) {
            Ok(length @ ..=IN_PLACE_AT_MOST) => out.write_all(&[length]).and_then(|()| out.write_all(bytes)),
            _ => {
                out.write_all(&[LISTED])?;
                number(out, bytes.len() as u64)?;
                out.write_all(bytes)
            }
        };
        match &self.0 {
            Form::InPlace { length, bytes } => listed(&bytes[..usize::from(*length)]),
            Form::Listed(elsewhere) => listed(&elsewhere.bytes),
            Form::Dense(dense) => {
                out.write_all(&[DENSE])?;
                number(out, dense.words().len() as u64)?;
                dense.words().iter().try_for_each(|word| out.write_all(&word.to_le_bytes()))
            }
        }
    }

    /// Reads what [`Postings::write`] wrote: at least one slot, and all of them below `bound`.
    pub fn read(from: &mut impl Read, bound: u32) -> io::Result<Self> {
        let mut form = [0];
        from.read_exact(&mut form)?;
        let postings = match form[0] {
            length @ 1..=IN_PLACE_AT_MOST => {
                let mut bytes = [0; IN_PLACE];
                from.read_exact(&mut bytes[..usize::from(length)])?;
                check(&bytes[..usize::from(length)], bound)?;
                Form::InPlace { length, bytes }
            }
            LISTED => {
                let length = read_u32(from)? as usize;
                // One for each slot, of which the greatest has five.
                if length <= IN_PLACE || length > (bound as usize).saturating_mul(5) {
                    return Err(nonsense());
                }
                let mut bytes = Vec::new();
                read_bytes_into(&mut bytes, from, length)?;
                Form::Listed(Box::new(Listed { last: check(&bytes, bound)?, bytes }))
            }
            DENSE => {
                let length = read_u32(from)? as usize;
                if length == 0 || length > (bound as usize).div_ceil(64) {
                    return Err(nonsense());
                }
                let mut bytes = Vec::new();
                read_bytes_into(&mut bytes, from, length * 8)?;
                let words = bytes.chunks_exact(8).map(|word| word.try_into().map_or(0, u64::from_le_bytes));
                let words: Vec<u64> = words.collect();
                // The greatest slot is in the last word.
                let last = words.last().filter(|word| **word != 0).map(|word| (length as u32 - 1) * 64 + word.ilog2());
                if last.is_none_or(|last| last >= bound) {
                    return Err(nonsense());
                }
                let dense = Bits::of_words(words);
                Form::Dense(Box::new(dense))
            }
            _ => return Err(nonsense()),
        };
        Ok(Self(postings))
    }
}

/// In a snapshot: so many bytes follow, or one of these.
const IN_PLACE_AT_MOST: u8 = IN_PLACE as u8;
const LISTED: u8 = 0xfe;
const DENSE: u8 = 0xff;

/// Passes on the slots that these bytes tell of.
fn each(bytes: &[u8], mut visit: impl FnMut(u32)) {
    let mut slot = 0u32;
    let mut bytes = bytes.iter();
    while let Some(byte) = bytes.next() {
        let mut gap = u32::from(*byte & 0x7f);
        if *byte >= 0x80 {
            let mut shift = 7;
            for byte in bytes.by_ref() {
                gap |= u32::from(*byte & 0x7f) << shift;
                shift += 7;
                if *byte < 0x80 || shift > 28 {
                    break;
                }
            }
        }
        slot = slot.wrapping_add(gap);
        visit(slot);
    }
}

fn last_of(bytes: &[u8]) -> Option<u32> {
    let mut last = None;
    each(bytes, |slot| last = Some(slot));
    last
}

/// Checks that bytes from elsewhere tell of rising slots below `bound`, and gives the last.
fn check(bytes: &[u8], bound: u32) -> io::Result<u32> {
    let (mut next, mut gap, mut shift) = (0u64, 0u64, 0);
    for byte in bytes {
        gap |= u64::from(byte & 0x7f) << shift;
        shift += 7;
        if *byte >= 0x80 {
            if shift > 28 {
                return Err(nonsense());
            }
            continue;
        }
        // Only the first may be 0, and only the number 0 may end in a byte that says nothing.
        if (gap == 0 && next != 0) || (*byte == 0 && shift > 7) {
            return Err(nonsense());
        }
        next = next.saturating_sub(1) + gap + 1;
        if next > u64::from(bound) {
            return Err(nonsense());
        }
        (gap, shift) = (0, 0);
    }
    match next.checked_sub(1) {
        Some(last) if shift == 0 => Ok(last as u32),
        _ => Err(nonsense()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    const BOUND: u32 = 40_000;

    fn all(postings: &Postings) -> Vec<u32> {
        let mut all = Vec::new();
        postings.each(|slot| all.push(slot));
        all
    }

    fn written(postings: &Postings) -> Vec<u8> {
        let mut bytes = Vec::new();
        postings.write(&mut bytes).unwrap();
        bytes
    }

    /// Slots of a word that stands in few clips, in some, or in most of a stretch of them.
    fn slots() -> impl Strategy<Value = BTreeSet<u32>> {
        let few = prop::collection::btree_set(0..BOUND, 1..6);
        let some = prop::collection::btree_set(0..BOUND, 1..400);
        let most = (0..20_000u32, 4_000..12_000u32, 1..6u32)
            .prop_map(|(from, count, step)| (from..from + count).filter(|n| n % step == 0 || n % 7 == 0).collect());
        prop_oneof![few, some, most]
    }

    proptest! {
        #[test]
        fn they_are_a_set_in_whatever_form(set in slots(), again in 0u32..3) {
            let mut postings = Postings::default();
            for slot in &set {
                (0..=again).for_each(|_| postings.push(*slot));
            }
            prop_assert_eq!(all(&postings), set.iter().copied().collect::<Vec<_>>());
            let (mut found, mut expected) = (Bits::none(BOUND as usize), Bits::none(BOUND as usize));
            postings.insert_into(&mut found);
            set.iter().for_each(|slot| expected.insert(*slot));
            prop_assert_eq!(found, expected);
            // Written and read, they are the same, and go on.
            let bytes = written(&postings);
            let mut read = Postings::read(&mut bytes.as_slice(), BOUND).unwrap();
            prop_assert_eq!(written(&read), bytes);
            read.push(BOUND + 9);
            prop_assert_eq!(all(&read), set.iter().copied().chain([BOUND + 9]).collect::<Vec<_>>());
        }

        #[test]
        fn they_take_no_more_than_a_bit_a_slot_or_a_few_bytes_each(set in slots()) {
            let length = written(&set.iter().copied().collect()).len();
            prop_assert!(length <= 3 * set.len() + 5 && length <= 3 * DENSE_FROM as usize + BOUND as usize / 8 + 5);
        }

        #[test]
        fn nonsense_is_refused(set in slots(), at in any::<prop::sample::Index>(), byte in any::<u8>()) {
            let mut bytes = written(&set.iter().copied().collect());
            *at.get_mut(&mut bytes) = byte;
            if let Ok(read) = Postings::read(&mut bytes.as_slice(), BOUND) {
                let slots = all(&read);
                prop_assert!(slots.is_sorted_by(|a, b| a < b) && slots.last().is_some_and(|last| *last < BOUND));
            }
            prop_assert!(Postings::read(&mut &bytes[..at.index(bytes.len())], BOUND).is_err());
        }
    }

    #[test]
    fn a_word_of_one_clip_needs_no_memory_of_its_own() {
        assert_eq!(size_of::<Postings>(), 16);
        assert!(matches!(Postings::from_iter([u32::MAX - 1, u32::MAX]).0, Form::InPlace { .. }));
        assert!(matches!(Postings::from_iter((0..20).map(|n| n * 1_000)).0, Form::Listed(_)));
        assert!(matches!(Postings::from_iter((0..9_000).map(|n| n * 7)).0, Form::Dense(_)));
    }
}
