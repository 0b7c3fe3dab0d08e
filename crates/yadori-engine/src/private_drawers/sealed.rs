//! What is sealed of a private drawer, and how: an item is its description as JSON, its length before it, and the contents of
//! its formats after it; in pieces, each sealed by itself for its drawer, item and place, the last one as the last.

use crate::moving::archive::{Clip, FormatLine};
use crate::moving::export::hex;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use yadori_core::Format;
use yadori_store::CHUNK_BYTES;
use yadori_vault::{Secret, boxes};

/// One thing that lies in a drawer.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Item {
    /// A clip.
    Clip(Box<SealedClip>),
    /// All of its headings.
    Headings(Vec<SealedHeading>),
}

/// A clip, and where it lies.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct SealedClip {
    /// As an archive describes it.
    pub clip: Clip,
    /// Its place in the drawer.
    pub place: Vec<u8>,
    /// Its place among the pinned ones.
    pub pin: Option<Vec<u8>>,
}

/// A heading.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct SealedHeading {
    /// What it says.
    pub words: String,
    /// Its place.
    pub place: Vec<u8>,
}

impl Item {
    /// Describes the contents of a clip.
    pub(super) fn describe(&mut self, contents: &[Format]) {
        let Self::Clip(sealed) = self else { return };
        let line = |format: &Format| FormatLine {
            mime: format.mime.clone(),
            size: format.data.len() as u64,
            hash: hex(blake3::hash(&format.data).as_bytes()),
            text: None,
        };
        sealed.clip.formats = contents.iter().map(line).collect();
    }
}

/// What a piece is sealed for.
fn purpose((drawer, item): (u32, u64), piece: usize, last: bool) -> Vec<u8> {
    let place = [&drawer.to_le_bytes()[..], &item.to_le_bytes(), &(piece as u64).to_le_bytes(), &[u8::from(last)]];
    [b"yadori 2026-11 private clip", place.concat().as_slice()].concat()
}

/// The sealed pieces of an item.
///
/// # Errors
/// When the system gives no random numbers.
pub(super) fn seal(
    item: &Item,
    contents: &[Format],
    place: (u32, u64),
    to: [u8; 32],
) -> Result<Vec<Vec<u8>>, getrandom::Error> {
    let described = serde_json::to_vec(item).unwrap_or_default();
    let mut plain = (described.len() as u32).to_le_bytes().to_vec();
    plain.extend(described);
    for content in contents {
        plain.extend_from_slice(&content.data);
    }
    let plain = zeroize::Zeroizing::new(plain);
    let pieces = plain.len().div_ceil(CHUNK_BYTES);
    let sealed = plain
        .chunks(CHUNK_BYTES)
        .enumerate()
        .map(|(piece, bytes)| boxes::seal_to(to, &purpose(place, piece, piece + 1 == pieces), bytes));
    sealed.collect()
}

/// An item and the contents of its formats; nothing if anything of it is missing, changed or from elsewhere.
pub(super) fn open(secret: &Secret, place: (u32, u64), pieces: &[Vec<u8>]) -> Option<(Item, Vec<Bytes>)> {
    let mut plain = Vec::new();
    for (piece, sealed) in pieces.iter().enumerate() {
        let opened = boxes::open(secret, &purpose(place, piece, piece + 1 == pieces.len()), sealed).ok()?;
        plain.extend(zeroize::Zeroizing::new(opened).iter());
    }
    let plain = Bytes::from(plain);
    let (length, _) = plain.split_first_chunk::<4>()?;
    let mut at = 4 + u32::from_le_bytes(*length) as usize;
    let item: Item = serde_json::from_slice(plain.get(4..at)?).ok()?;
    let mut contents = Vec::new();
    if let Item::Clip(sealed) = &item {
        for format in &sealed.clip.formats {
            let end = at.checked_add(usize::try_from(format.size).ok()?)?;
            if end > plain.len() {
                return None;
            }
            contents.push(plain.slice(at..end));
            at = end;
        }
    }
    (at == plain.len()).then_some((item, contents))
}

/// The formats of a clip that was sealed.
pub(super) fn formats(clip: &Clip, contents: Vec<Bytes>) -> Vec<Format> {
    clip.formats.iter().zip(contents).map(|(line, data)| Format::new(line.mime.clone(), data)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn heading(words: &str) -> Item {
        Item::Headings(vec![SealedHeading { words: words.into(), place: b"n".to_vec() }])
    }

    #[test]
    fn an_item_is_opened_whole_in_its_place_or_not_at_all() {
        let secret = Secret::random().unwrap();
        let long = "x".repeat(2 * CHUNK_BYTES);
        let pieces = seal(&heading(&long), &[], (3, 7), boxes::public(&secret)).unwrap();
        assert_eq!(pieces.len(), 3);
        match open(&secret, (3, 7), &pieces) {
            Some((Item::Headings(headings), contents)) => {
                assert!(headings[0].words == long && headings[0].place == b"n" && contents.is_empty());
            }
            other => panic!("{other:?}"),
        }
        let swapped = [pieces[1].clone(), pieces[0].clone(), pieces[2].clone()];
        let shorter = &pieces[..2];
        let longer = [&pieces[..], &pieces[2..]].concat();
        assert!(open(&secret, (3, 8), &pieces).is_none() && open(&secret, (4, 7), &pieces).is_none());
        assert!(open(&Secret::random().unwrap(), (3, 7), &pieces).is_none());
        for wrong in [&swapped[..], shorter, &longer, &[]] {
            assert!(open(&secret, (3, 7), wrong).is_none());
        }
    }
}
