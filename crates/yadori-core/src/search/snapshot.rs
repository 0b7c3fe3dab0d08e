//! The index as bytes, so that a start need not read and cut up every clip again.
//!
//! Only what is live is written: the clips from the oldest to the newest, which gives them new slots in that order, the applications,
//! devices and drawers, each word with the slots in which it stands, as they lie in memory, and the folded texts. All numbers are
//! little-endian. Where an id and where a word is found is looked for while what comes after them is read, in threads of their own.
//!
//! A snapshot is of this program's making and is thrown away when in doubt. Reading it never panics and never takes more
//! memory than its length lets expect, whatever it says; but whether it is whole, and of which history, the caller must know.

use super::fold::fold;
use super::index::{ById, Clip, Index, Names};
use super::lexicon::WordsAsRead;
use crate::clock::{MillisSinceEpoch, Stamp};
use crate::identity::ClipId;
use crate::kind::Kind;
use std::io::{self, Read, Write};
use std::thread;

/// Which form it has. Another number for any change of the form, of folding, of what a word is, or of what an entry says.
pub const FORMAT: u32 = 3;

/// Elements for which room is made before they are read, at most: a wrong count does not take all memory.
pub(super) const AT_ONCE: usize = 1 << 22;

/// Bytes of a text or of a word are read in pieces of this size.
const PIECE: usize = 1 << 16;

impl Index {
    /// Writes what [`Index::read_snapshot`] reads.
    ///
    /// # Errors
    /// Those of `out`.
    pub fn write_snapshot(&self, out: &mut impl Write) -> io::Result<()> {
        let mut slots = vec![u32::MAX; self.clips.len()];
        let live = || self.order.iter().filter_map(|slot| self.clip(*slot));
        number(out, self.order.len() as u64)?;
        for (place, slot) in (0..).zip(&self.order) {
            slots[*slot as usize] = place;
        }
        for clip in live() {
            out.write_all(&clip.id.0)?;
            for part in [clip.number, clip.copied.to_bits(), clip.touched.to_bits(), clip.recalled.0, clip.size] {
                out.write_all(&part.to_le_bytes())?;
            }
            for part in [clip.text_len, clip.uses, clip.application, clip.device, clip.drawer] {
                out.write_all(&part.to_le_bytes())?;
            }
            let flags = u8::from(clip.pinned) | u8::from(clip.sensitive) << 1 | u8::from(clip.secret) << 2;
            out.write_all(&[clip.kind.code(), flags])?;
        }
        number(out, self.names.given.len() as u64)?;
        for name in &self.names.given {
            text(out, name)?;
        }
        self.lexicon.write(&slots, out)?;
        for clip in live() {
            out.write_all(self.text(clip).as_bytes())?;
        }
        Ok(())
    }

    /// Reads what [`Index::write_snapshot`] wrote.
    ///
    /// # Errors
    /// Those of `from`, and `InvalidData` if it is something else.
    pub fn read_snapshot(from: &mut impl Read) -> io::Result<Self> {
        let count = read_u32(from)?;
        let (clips, length) = read_clips(from, count)?;
        let names = read_names(from)?;
        let named = |number: u32| number as usize <= names.given.len();
        let is_named = |clip: &Clip| named(clip.application) && named(clip.device) && named(clip.drawer);
        if !clips.iter().flatten().all(is_named) {
            return Err(nonsense());
        }
        let (by_id, lexicon, texts) = thread::scope(|scope| {
            let by_id = scope.spawn(|| ById::of(&clips));
            let words = WordsAsRead::read(from, count)?;
            let (table, texts) = thread::scope(|scope| {
                let table = scope.spawn(|| words.table());
                let texts = read_text(from, length)?;
                table.join().map(|table| (table, texts)).map_err(|_| nonsense())
            })?;
            let Ok(Some(by_id)) = by_id.join() else { return Err(nonsense()) };
            Ok((by_id, words.with(table), texts))
        })?;
        if !clips.iter().flatten().all(|clip| texts.is_char_boundary(clip.text_start)) {
            return Err(nonsense());
        }
        Ok(Self { clips, by_id, order: (0..count).collect(), texts, lexicon, names, waste: 0 })
    }
}

/// The clips in their order, and the length of all their texts.
fn read_clips(from: &mut impl Read, count: u32) -> io::Result<(Vec<Option<Clip>>, usize)> {
    let mut clips: Vec<Option<Clip>> = Vec::with_capacity((count as usize).min(AT_ONCE));
    let mut length = 0;
    for _ in 0..count {
        let clip = read_clip(from, length)?;
        length += clip.text_len as usize;
        if clips.last().is_some_and(|last| key(last) > clip.key()) {
            return Err(nonsense());
        }
        clips.push(Some(clip));
    }
    Ok((clips, length))
}

fn read_names(from: &mut impl Read) -> io::Result<Names> {
    let mut names = Names::default();
    for _ in 0..read_u32(from)? {
        let length = read_u32(from)? as usize;
        let name = read_text(from, length)?;
        names.folded.push(fold(&name));
        names.numbers.insert(name.clone(), names.folded.len() as u32);
        names.given.push(name);
    }
    Ok(names)
}

fn key(clip: &Option<Clip>) -> super::place::Key {
    clip.as_ref().map_or((Stamp::NEVER, ClipId([0; 16])), Clip::key)
}

/// Bytes that are written of each clip, but for its text.
const RECORD: usize = 78;

fn read_clip(from: &mut impl Read, text_start: usize) -> io::Result<Clip> {
    let record: [u8; RECORD] = array(from)?;
    let from = &mut record.as_slice();
    let id = ClipId(array(from)?);
    let mut long = || array(from).map(u64::from_le_bytes);
    let (number, copied, touched, recalled, size) = (long()?, long()?, long()?, long()?, long()?);
    let mut short = || array(from).map(u32::from_le_bytes);
    let (text_len, uses, application, device, drawer) = (short()?, short()?, short()?, short()?, short()?);
    let [kind, flags] = array(from)?;
    Ok(Clip {
        id,
        number,
        copied: Stamp::from_bits(copied),
        touched: Stamp::from_bits(touched),
        recalled: MillisSinceEpoch(recalled),
        size,
        text_start,
        text_len,
        uses,
        application,
        device,
        drawer,
        kind: Kind::from_code(kind).ok_or_else(nonsense)?,
        pinned: flags & 1 != 0,
        sensitive: flags & 2 != 0,
        secret: flags & 4 != 0,
    })
}

/// It is not what was written.
pub(super) fn nonsense() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "not a snapshot of an index")
}

/// Writes a count.
pub(super) fn number(out: &mut impl Write, number: u64) -> io::Result<()> {
    let number = u32::try_from(number).map_err(|_| io::Error::new(io::ErrorKind::InvalidInput, "too many"))?;
    out.write_all(&number.to_le_bytes())
}

/// Reads a count.
pub(super) fn read_u32(from: &mut impl Read) -> io::Result<u32> {
    array(from).map(u32::from_le_bytes)
}

fn text(out: &mut impl Write, text: &str) -> io::Result<()> {
    number(out, text.len() as u64)?;
    out.write_all(text.as_bytes())
}

fn read_text(from: &mut impl Read, length: usize) -> io::Result<String> {
    String::from_utf8(read_bytes(from, length)?).map_err(|_| nonsense())
}

/// Reads so many bytes.
fn read_bytes(from: &mut impl Read, length: usize) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    read_bytes_into(&mut bytes, from, length)?;
    Ok(bytes)
}

/// Reads so many bytes in place of those that are there.
pub(super) fn read_bytes_into(bytes: &mut Vec<u8>, from: &mut impl Read, length: usize) -> io::Result<()> {
    bytes.clear();
    while bytes.len() < length {
        let begin = bytes.len();
        // As much again as has come.
        let piece = (length - begin).min(PIECE.max(begin));
        bytes.reserve_exact(piece);
        bytes.resize(begin + piece, 0);
        from.read_exact(&mut bytes[begin..])?;
    }
    Ok(())
}

/// A number in seven bits a byte, the lowest first, and how many bytes it takes.
pub(super) fn in_seven_bits(mut number: u32) -> ([u8; 5], usize) {
    let (mut bytes, mut length) = ([0; 5], 1);
    while number >= 0x80 {
        bytes[length - 1] = number as u8 | 0x80;
        number >>= 7;
        length += 1;
    }
    bytes[length - 1] = number as u8;
    (bytes, length)
}

/// Writes a number in seven bits a byte.
pub(super) fn varint(out: &mut impl Write, number: u32) -> io::Result<()> {
    let (bytes, length) = in_seven_bits(number);
    out.write_all(&bytes[..length])
}

/// Reads what [`varint`] wrote.
pub(super) fn read_varint(from: &mut impl Read) -> io::Result<u32> {
    let mut number = 0u32;
    for shift in (0..32).step_by(7) {
        let [byte] = array(from)?;
        let part = u32::from(byte & 0x7f);
        number |= part.checked_shl(shift).filter(|shifted| shifted >> shift == part).ok_or_else(nonsense)?;
        if byte < 0x80 {
            return Ok(number);
        }
    }
    Err(nonsense())
}

fn array<const N: usize>(from: &mut impl Read) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    from.read_exact(&mut bytes)?;
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::super::query::{Query, When};
    use super::super::{Entry, Place};
    use super::*;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn id(n: u64) -> ClipId {
        ClipId::of(Kind::Text, &n.to_le_bytes())
    }

    fn put(index: &mut Index, n: u64, text: &str) {
        let entry = Entry {
            number: n,
            copied: Stamp::from_bits((n * 7919 % 1000 + 1) << 16),
            recalled: n.is_multiple_of(3).then_some(MillisSinceEpoch(n)),
            uses: n as u32 % 5,
            size: text.len() as u64,
            text,
            title: n.is_multiple_of(2).then_some("Cue sheet"),
            application: n.is_multiple_of(3).then_some("Notes"),
            device: "workshop",
            touched: Stamp::from_bits(n << 16),
            drawer: n.is_multiple_of(5).then_some("Stage"),
            pinned: n.is_multiple_of(4),
            sensitive: n.is_multiple_of(6),
            secret: n.is_multiple_of(7),
            ..Entry::default()
        };
        index.put(id(n), Kind::ALL[n as usize % 4], &entry);
    }

    fn bytes(index: &Index) -> Vec<u8> {
        let mut bytes = Vec::new();
        index.write_snapshot(&mut bytes).unwrap();
        bytes
    }

    fn answers(index: &Index, queries: &[&str]) -> Vec<String> {
        let when = When { now: MillisSinceEpoch(1_000_000), zone: TimeZone::UTC };
        let mut answers = vec![format!("{:?}", index.page(None, 100)), format!("{:?}", index.candidates())];
        for text in queries {
            let query = Query::parse(text, &when).unwrap();
            let mut after: Option<Place> = None;
            for _ in 0..3 {
                let (hits, next) = index.search(&query, after.as_ref(), 4);
                answers.push(format!("{text}: {hits:?}"));
                after = next;
            }
        }
        answers
    }

    const QUERIES: [&str; 9] =
        ["lamp", "lam", "amp", "lanp", "\"lamp four\"", "app:notes -cue", "in:stage", "čáslav", "kind:link is:pinned"];

    proptest! {
        #[test]
        fn an_index_that_was_written_and_read_answers_as_before_and_goes_on(
            texts in proptest::collection::vec("(lamp|four|cue|Čáslav|舞台|x9|[a-c]{1,5}| |\n){0,8}", 0..40),
            changes in proptest::collection::vec((0u64..40, any::<bool>()), 0..40),
        ) {
            let mut index = Index::default();
            for (n, text) in (0..).zip(&texts) {
                put(&mut index, n, text);
            }
            for (n, gone) in &changes {
                if *gone { index.remove(id(*n)) } else { put(&mut index, *n, "lamp again") }
            }
            let mut read = Index::read_snapshot(&mut bytes(&index).as_slice()).unwrap();
            prop_assert_eq!(answers(&read, &QUERIES), answers(&index, &QUERIES));
            for (n, gone) in &changes {
                for index in [&mut index, &mut read] {
                    if *gone { put(index, *n + 20, "four lamps") } else { index.remove(id(*n + 20)) }
                }
            }
            prop_assert_eq!(answers(&read, &QUERIES), answers(&index, &QUERIES));
            prop_assert_eq!(bytes(&Index::read_snapshot(&mut bytes(&read).as_slice()).unwrap()).len(), bytes(&index).len());
        }

        #[test]
        fn nonsense_is_refused_and_never_fatal(at in any::<prop::sample::Index>(), byte in any::<u8>(), cut in any::<bool>()) {
            let mut index = Index::default();
            (0..20).for_each(|n| put(&mut index, n, "lamp four Čáslav"));
            let mut damaged = bytes(&index);
            let at = at.index(damaged.len());
            if cut { damaged.truncate(at) } else { damaged[at] = byte }
            match Index::read_snapshot(&mut damaged.as_slice()) {
                Ok(read) => drop(answers(&read, &QUERIES)),
                Err(_) => prop_assert!(cut || byte != bytes(&index)[at]),
            }
            if cut {
                prop_assert!(Index::read_snapshot(&mut damaged.as_slice()).is_err());
            }
        }
    }

    /// A snapshot is read by later versions of this program. Whoever changes its form, folding, or what a word is, must count
    /// [`FORMAT`] up, and may then put the new hash here.
    #[test]
    fn the_form_has_not_changed_under_its_number() {
        let mut index = Index::default();
        for n in 0..50 {
            put(&mut index, n, &format!("Lamp {n}, cue four in ＣÁslav: 舞台の照明 x9kestrelLane77 don't"));
        }
        // As many as it takes for a word to have a bit for each clip.
        for n in 50..5_000 {
            put(&mut index, n, "Lamp");
        }
        assert_eq!(FORMAT, 3);
        assert_eq!(blake3::hash(&bytes(&index)).to_hex()[..16], *"3b00abdfb2815f17");
    }
}
