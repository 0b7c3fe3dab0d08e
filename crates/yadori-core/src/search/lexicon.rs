//! All words of all clips, and in which clips each stands.
//!
//! The distinct words lie one after the other in one buffer, so that "which words contain this" is
//! one linear search through the lexicon instead of through all texts: of 100,000 clips of 180 bytes
//! the words are a hundredth of the text. Of the buffer, only that part is searched whose words have the letters for it.

use super::bits::Bits;
use super::by_place::each_by_place;
use super::in_two::in_two;
use super::postings::Postings;
use super::snapshot::{AT_ONCE, nonsense, read_bytes_into, read_u32, read_varint, varint};
use hashbrown::{DefaultHashBuilder, HashTable};
use memchr::memmem::Finder;
use std::hash::BuildHasher;
use std::io::{self, Read, Write};
use std::ops::Range;

/// Stands before each word in the buffer; never part of a word.
const BREAK: u8 = b'\n';

/// So many words at most are kept from one search through the lexicon for the next. (In tests, both happens all the time.)
const FEW: usize = if cfg!(test) { 2 } else { 4096 };

/// From so many words on, looking through all of them takes longer than starting a thread, and two threads do it. (In tests, both
/// happens all the time.)
const MANY: usize = if cfg!(test) { 4 } else { 1 << 18 };

/// Words whose letters are looked at together, as a processor can do it.
const STRETCH: usize = if cfg!(test) { 2 } else { 64 };

/// The words and where they stand.
#[derive(Default)]
pub struct Lexicon {
    /// Every word after a [`BREAK`], in the order of their first appearance, and a last one.
    buffer: Vec<u8>,
    /// Where in the buffer each word begins.
    starts: Vec<u32>,
    /// Word numbers by hash of the word.
    table: HashTable<u32>,
    hasher: DefaultHashBuilder,
    /// The slots in which each word stands.
    slots: Vec<Postings>,
    /// The letters of each word.
    letters: Vec<Letters>,
    /// The words that may be misspelled: those without digits. Of numbers and ids there are many more.
    spelled: Vec<u32>,
}

impl Lexicon {
    /// Notes that `word` stands in `slot`, which is not below those that were noted before.
    pub fn add(&mut self, word: &str, slot: u32) {
        let hash = self.hasher.hash_one(word.as_bytes());
        let number = match self.table.find(hash, |number| self.word(*number) == word.as_bytes()) {
            Some(number) => *number,
            None => self.new_word(word.as_bytes(), hash),
        };
        self.slots[number as usize].push(slot);
    }

    fn new_word(&mut self, word: &[u8], hash: u64) -> u32 {
        let number = self.add_word(word, Postings::default());
        let (starts, buffer, hasher) = (&self.starts, &self.buffer, &self.hasher);
        self.table.insert_unique(hash, number, |number| hasher.hash_one(word_at(starts, buffer, *number)));
        number
    }

    /// Adds a word that is not there, but for the table.
    fn add_word(&mut self, word: &[u8], slots: Postings) -> u32 {
        let number = self.starts.len() as u32;
        if self.buffer.is_empty() {
            self.buffer.push(BREAK);
        }
        self.starts.push(self.buffer.len() as u32);
        self.buffer.extend_from_slice(word);
        self.buffer.push(BREAK);
        self.slots.push(slots);
        self.letters.push(Letters::of(word));
        if !word.iter().any(u8::is_ascii_digit) {
            self.spelled.push(number);
        }
        number
    }

    fn word(&self, number: u32) -> &[u8] {
        word_at(&self.starts, &self.buffer, number)
    }

    /// Gives back memory that growing has taken in advance.
    pub fn shrink(&mut self) {
        self.buffer.shrink_to_fit();
        self.starts.shrink_to_fit();
        self.slots.shrink_to_fit();
        self.letters.shrink_to_fit();
        self.spelled.shrink_to_fit();
        self.slots.iter_mut().for_each(Postings::shrink);
    }

    /// Writes the words that stand in a slot which has a new number among `renumbered` (`u32::MAX` is none), with these.
    pub(super) fn write(&self, renumbered: &[u32], out: &mut impl Write) -> io::Result<()> {
        // Of all words: of few of them no clip is left.
        out.write_all(&u32::try_from(self.starts.len()).unwrap_or(u32::MAX).to_le_bytes())?;
        let mut slots = Vec::new();
        for number in 0..self.starts.len() as u32 {
            slots.clear();
            self.slots[number as usize].each(|slot| slots.push(renumbered[slot as usize]));
            slots.retain(|slot| *slot != u32::MAX);
            if slots.is_empty() {
                continue;
            }
            slots.sort_unstable();
            let word = self.word(number);
            varint(out, word.len() as u32)?;
            out.write_all(word)?;
            slots.iter().copied().collect::<Postings>().write(out)?;
        }
        // No word is empty.
        varint(out, 0)
    }

    /// Adds to `found` the slots in which `word` itself stands.
    pub fn exact(&self, word: &str, found: &mut Bits) {
        let hash = self.hasher.hash_one(word.as_bytes());
        if let Some(number) = self.table.find(hash, |number| self.word(*number) == word.as_bytes()) {
            self.insert_slots(*number, found);
        }
    }

    /// Adds to `found` the slots of all words that begin with `start`.
    pub fn prefix(&self, start: &str, found: &mut Bits) {
        let mut needle = vec![BREAK];
        needle.extend_from_slice(start.as_bytes());
        self.words(&self.words_with(&needle, usize::MAX), found);
    }

    /// Adds to `found` the slots of all words that end with `end`.
    pub fn suffix(&self, end: &str, found: &mut Bits) {
        let mut needle = end.as_bytes().to_vec();
        needle.push(BREAK);
        self.words(&self.words_with(&needle, usize::MAX), found);
    }

    /// Adds to `found` the slots of all words that contain `part`.
    pub fn inside(&self, part: &str, found: &mut Bits) {
        self.words(&self.words_with(part.as_bytes(), usize::MAX), found);
    }

    /// Adds to `found` the slots of all words that begin with `start`, and gives the others that contain it: both in one search.
    /// Nothing if there are too many words of both for that.
    pub fn prefix_and_others(&self, start: &str, found: &mut Bits) -> Option<Vec<u32>> {
        let all = self.words_with(start.as_bytes(), FEW + 1);
        let begins = |number: &u32| self.word(*number).starts_with(start.as_bytes());
        let (begin, others): (Vec<u32>, Vec<u32>) = (all.len() <= FEW).then(|| all.into_iter().partition(begins))?;
        self.words(&begin, found);
        Some(others)
    }

    /// Adds to `found` the slots of these words.
    pub fn words(&self, numbers: &[u32], found: &mut Bits) {
        numbers.iter().for_each(|number| self.insert_slots(*number, found));
    }

    /// Adds to `found` the slots of all words that are at most `distance` typing errors away. Numbers, and
    /// what contains digits, are nobody's misspelling.
    pub fn near(&self, word: &str, distance: u32, found: &mut Bits) {
        let Some(pattern) = Typo::new(word) else { return };
        let longest = word.len() + distance as usize * char::MAX.len_utf8();
        let shortest = word.chars().count().saturating_sub(distance as usize);
        let letters = Letters::of(word.as_bytes());
        let near = |among: Range<usize>| -> Vec<u32> {
            let is_near = |number: &u32| {
                if !letters.may_be_near(self.letters[*number as usize], distance) {
                    return false;
                }
                let other = self.word(*number);
                (shortest..=longest).contains(&other.len()) && pattern.distance(other) <= distance
            };
            self.spelled[among].iter().copied().filter(is_near).collect()
        };
        let (middle, end) = (self.spelled.len() / 2, self.spelled.len());
        let (some, others) = in_two(end >= MANY, || near(0..middle), || near(middle..end));
        self.words(&some, found);
        self.words(&others, found);
    }

    fn insert_slots(&self, number: u32, found: &mut Bits) {
        self.slots[number as usize].insert_into(found);
    }

    /// The words whose text, with the break before or after it, contains `needle`, each once and rising; but not all of them if
    /// there are more than `most`.
    fn words_with(&self, needle: &[u8], most: usize) -> Vec<u32> {
        let letters = Letters::of(needle.trim_ascii());
        let finder = Finder::new(needle);
        let among = |words: Range<usize>| -> Vec<u32> {
            let stretches = stretches(&self.letters[words.clone()], letters);
            let placed = stretches.map(|stretch| words.start + stretch.start..words.start + stretch.end);
            placed.flat_map(|stretch| self.words_between(stretch, &finder)).take(most).collect()
        };
        let (middle, end) = (self.starts.len() / 2, self.starts.len());
        let (mut some, others) = in_two(end >= MANY, || among(0..middle), || among(middle..end));
        some.extend(others);
        some
    }

    /// The words of this stretch that contain what is looked for, as [`Lexicon::words_with`] gives them.
    fn words_between(&self, words: Range<usize>, finder: &Finder<'_>) -> impl Iterator<Item = u32> {
        // From the break before the first to the one after the last.
        let mut at = self.starts.get(words.start).map_or(0, |start| *start as usize - 1);
        let end = self.starts.get(words.end).map_or(self.buffer.len(), |next| *next as usize);
        let mut number = words.start;
        std::iter::from_fn(move || {
            let found = finder.find(self.buffer.get(at..end)?)?;
            // The needle may begin at the break before the word, so look from its last byte; the break after a word is before the next.
            let within = at + found + finder.needle().len() - 1;
            number = last_not_above(&self.starts, number, within);
            at = self.starts.get(number + 1).map_or(self.buffer.len(), |next| *next as usize - 1);
            Some(number as u32)
        })
    }
}

/// The stretches of words among which some may have all of these letters, rising and apart. Most ids and numbers lack some of
/// those of a word, and so do most words of another script: then a search need not look at what they are.
fn stretches(words: &[Letters], letters: Letters) -> impl Iterator<Item = Range<usize>> {
    let may_be_in = move |stretch: &[Letters]| stretch.iter().fold(false, |any, word| any | word.has_all_of(letters));
    let mut stretches = words.chunks(STRETCH).enumerate();
    std::iter::from_fn(move || {
        let (first, _) = stretches.by_ref().find(|(_, stretch)| may_be_in(stretch))?;
        let after = stretches.by_ref().find(|(_, stretch)| !may_be_in(stretch));
        let end = after.map_or(words.len(), |(place, _)| place * STRETCH);
        Some(first * STRETCH..end)
    })
}

/// The place of the last number that is not above `bound`, from `from` on, where one is that is not. The nearer, the sooner.
fn last_not_above(numbers: &[u32], from: usize, bound: usize) -> usize {
    let mut step = 1;
    while numbers.get(from + step).is_some_and(|number| *number as usize <= bound) {
        step *= 2;
    }
    let near = &numbers[from..numbers.len().min(from + step)];
    from + near.partition_point(|number| *number as usize <= bound) - 1
}

/// A lexicon that was read, but for where a word is found.
pub(super) struct WordsAsRead(Lexicon);

impl WordsAsRead {
    /// Reads what [`Lexicon::write`] wrote, of slots below `bound`.
    pub fn read(from: &mut impl Read, bound: u32) -> io::Result<Self> {
        let mut lexicon = Lexicon::default();
        let count = (read_u32(from)? as usize).min(AT_ONCE);
        lexicon.starts.reserve(count);
        lexicon.slots.reserve(count);
        let mut word = Vec::new();
        loop {
            let length = read_varint(from)? as usize;
            if length == 0 {
                break;
            }
            read_bytes_into(&mut word, from, length)?;
            if std::str::from_utf8(&word).is_err() || word.contains(&BREAK) {
                return Err(nonsense());
            }
            lexicon.add_word(&word, Postings::read(from, bound)?);
        }
        lexicon.shrink();
        Ok(Self(lexicon))
    }

    /// Where each word is found.
    pub fn table(&self) -> HashTable<u32> {
        let lexicon = &self.0;
        let hash = |number: u32| lexicon.hasher.hash_one(lexicon.word(number));
        let mut table = HashTable::with_capacity(lexicon.starts.len());
        each_by_place(lexicon.starts.len() as u32, hash, |hash_of_it, number| {
            table.insert_unique(hash_of_it, number, |number| hash(*number));
        });
        table
    }

    /// The lexicon, with what [`WordsAsRead::table`] gave.
    pub fn with(self, table: HashTable<u32>) -> Lexicon {
        Lexicon { table, ..self.0 }
    }
}

fn word_at<'a>(starts: &[u32], buffer: &'a [u8], number: u32) -> &'a [u8] {
    let start = starts[number as usize] as usize;
    let end = starts.get(number as usize + 1).map_or(buffer.len(), |next| *next as usize) - 1;
    &buffer[start..end]
}

/// Which letters (and digits) a word has, one bit for several of them. Most words lack some of a part that is looked for, and
/// differ in more of them than a few typing errors could have changed: they need not be looked at.
#[derive(Clone, Copy)]
struct Letters(u32);

impl Letters {
    fn of(word: &[u8]) -> Self {
        let with = |letters: u32, c: u32| letters | 1 << (c % u32::BITS);
        if word.is_ascii() {
            return Self(word.iter().fold(0, |letters, c| with(letters, u32::from(*c))));
        }
        let word = std::str::from_utf8(word).unwrap_or_default();
        Self(word.chars().fold(0, |letters, c| with(letters, c as u32)))
    }

    /// Whether a word with those may be part of one with these.
    fn has_all_of(self, others: Self) -> bool {
        others.0 & !self.0 == 0
    }

    /// Whether the words may be so few typing errors apart: each takes away one letter at most, and adds one.
    fn may_be_near(self, other: Self, distance: u32) -> bool {
        let (gone, new) = (self.0 & !other.0, other.0 & !self.0);
        gone.count_ones() <= distance && new.count_ones() <= distance
    }
}

/// Counts typing errors (insertions, deletions, substitutions, and swaps of neighbours) against one
/// word, 64 cells of the table at a time: Myers, *A fast bit-vector algorithm for approximate string
/// matching* (1999), with the transpositions of Hyyrö (2003).
struct Typo {
    ascii: [u64; 128],
    others: Vec<(char, u64)>,
    length: u32,
}

impl Typo {
    /// `None` for words of more than 64 characters, and for the empty one.
    fn new(word: &str) -> Option<Self> {
        let length = word.chars().count();
        if !(1..=64).contains(&length) {
            return None;
        }
        let mut typo = Self { ascii: [0; 128], others: Vec::new(), length: length as u32 };
        for (place, c) in word.chars().enumerate() {
            match typo.ascii.get_mut(c as usize) {
                Some(places) => *places |= 1 << place,
                None => match typo.others.iter_mut().find(|(other, _)| *other == c) {
                    Some((_, places)) => *places |= 1 << place,
                    None => typo.others.push((c, 1 << place)),
                },
            }
        }
        Some(typo)
    }

    fn places(&self, c: char) -> u64 {
        match self.ascii.get(c as usize) {
            Some(places) => *places,
            None => self.others.iter().find(|(other, _)| *other == c).map_or(0, |(_, places)| *places),
        }
    }

    fn distance(&self, other: &[u8]) -> u32 {
        let other = std::str::from_utf8(other).unwrap_or_default();
        let top = 1u64 << (self.length - 1);
        let (mut plus, mut minus, mut diagonal, mut last) = (u64::MAX, 0u64, 0u64, 0u64);
        let mut distance = self.length;
        for c in other.chars() {
            let here = self.places(c);
            let swap = ((!diagonal & here) << 1) & last;
            diagonal = swap | ((((here & plus).wrapping_add(plus)) ^ plus) | here | minus);
            let (up, down) = (minus | !(diagonal | plus), diagonal & plus);
            distance = distance + u32::from(up & top != 0) - u32::from(down & top != 0);
            let up = up << 1 | 1;
            plus = (down << 1) | !(diagonal | up);
            minus = diagonal & up;
            last = here;
        }
        distance
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn lexicon(words: &[&str]) -> Lexicon {
        let mut lexicon = Lexicon::default();
        words.iter().enumerate().for_each(|(slot, word)| lexicon.add(word, slot as u32));
        lexicon
    }

    fn slots(look: impl FnOnce(&mut Bits)) -> Vec<u32> {
        let mut found = Bits::none(64);
        look(&mut found);
        found.iter().collect()
    }

    #[test]
    fn words_are_found_whole_by_their_start_and_inside() {
        let lexicon = lexicon(&["lamp", "lamps", "clamp", "cue", "lamp"]);
        assert_eq!(slots(|found| lexicon.exact("lamp", found)), [0, 4]);
        assert_eq!(slots(|found| lexicon.prefix("lamp", found)), [0, 1, 4]);
        assert_eq!(slots(|found| lexicon.suffix("lamp", found)), [0, 2, 4]);
        assert_eq!(slots(|found| lexicon.inside("amp", found)), [0, 1, 2, 4]);
        assert_eq!(slots(|found| lexicon.inside("pc", found)), [0; 0], "no match runs across two words");
    }

    #[test]
    fn an_empty_lexicon_finds_nothing() {
        let lexicon = Lexicon::default();
        assert_eq!(slots(|found| lexicon.inside("a", found)), [0; 0]);
        assert_eq!(slots(|found| lexicon.near("abcd", 2, found)), [0; 0]);
    }

    #[test]
    fn swapped_neighbours_are_one_error() {
        let typo = Typo::new("venue").unwrap();
        for (other, errors) in [("venue", 0), ("vneue", 1), ("venu", 1), ("menue", 1), ("avenue", 1), ("vinyl", 3)] {
            assert_eq!(typo.distance(other.as_bytes()), errors, "{other}");
        }
    }

    /// The textbook table (optimal string alignment).
    fn slow_distance(a: &str, b: &str) -> u32 {
        let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
        let mut table = vec![vec![0u32; b.len() + 1]; a.len() + 1];
        for i in 0..=a.len() {
            for j in 0..=b.len() {
                table[i][j] = if i == 0 || j == 0 {
                    (i + j) as u32
                } else {
                    let substituted = table[i - 1][j - 1] + u32::from(a[i - 1] != b[j - 1]);
                    let best = substituted.min(table[i - 1][j] + 1).min(table[i][j - 1] + 1);
                    if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                        best.min(table[i - 2][j - 2] + 1)
                    } else {
                        best
                    }
                };
            }
        }
        table[a.len()][b.len()]
    }

    proptest! {
        #[test]
        fn no_word_that_is_near_is_passed_over(words in prop::collection::vec("[a-eš照]{1,8}", 1..20), word in "[a-eš照]{1,8}", errors in 0u32..3) {
            let refs: Vec<&str> = words.iter().map(String::as_str).collect();
            let near = (0..words.len() as u32).filter(|place| slow_distance(&word, refs[*place as usize]) <= errors);
            prop_assert_eq!(slots(|found| lexicon(&refs).near(&word, errors, found)), near.collect::<Vec<u32>>());
        }

        #[test]
        fn counting_errors_by_bits_agrees_with_the_table(a in "[abcš]{1,12}", b in "[abcš]{0,12}") {
            prop_assert_eq!(Typo::new(&a).unwrap().distance(b.as_bytes()), slow_distance(&a, &b));
        }

        #[test]
        fn looking_inside_agrees_with_asking_each_word(words in prop::collection::vec("[abé]{1,6}", 1..30), part in "[abé]{1,3}") {
            let refs: Vec<&str> = words.iter().map(String::as_str).collect();
            let lexicon = lexicon(&refs);
            let expected = |test: &dyn Fn(&str) -> bool| (0..).zip(&refs).filter(|(_, word)| test(word)).map(|(slot, _)| slot).collect::<Vec<u32>>();
            prop_assert_eq!(slots(|found| lexicon.inside(&part, found)), expected(&|word| word.contains(&part)));
            prop_assert_eq!(slots(|found| lexicon.prefix(&part, found)), expected(&|word| word.starts_with(&part)));
            prop_assert_eq!(slots(|found| lexicon.suffix(&part, found)), expected(&|word| word.ends_with(&part)));
            prop_assert_eq!(slots(|found| lexicon.exact(&part, found)), expected(&|word| word == part));
        }
    }
}
