//! Clips of an import that wait until there is room for their content in the cage.

use crate::moving::archive::Clip;
use std::collections::{HashSet, VecDeque};
use yadori_core::{ClipId, format};

/// Most clips that are set aside until there is room for them in the cage, and bytes that their lines may have.
const MOST_ASIDE: usize = 10_000;
const MOST_ASIDE_BYTES: usize = 8 << 20;

/// Whether something of the clip has to be read in the cage.
pub(super) fn is_for_cage(clip: &Clip) -> bool {
    let mut kinds = clip.formats.iter().map(|format| format::canonical_mime(&format.mime));
    kinds.any(|mime| mime.starts_with("image/") || mime == format::HTML)
}

/// Clips that are set aside, with the lines that they stand on.
#[derive(Default)]
pub(super) struct Aside {
    clips: VecDeque<(u64, ClipId, Box<Clip>)>,
    ids: HashSet<ClipId>,
    /// What they take, more or less.
    bytes: usize,
}

impl Aside {
    /// Whether this clip is among them.
    pub(super) fn contains(&self, id: &ClipId) -> bool {
        self.ids.contains(id)
    }

    fn bytes(clip: &Clip) -> usize {
        let formats = clip.formats.iter().map(|format| format.text.as_ref().map_or(0, String::len) + 200);
        formats.sum::<usize>() + clip.title.as_ref().map_or(0, String::len)
    }

    /// Sets one aside.
    pub(super) fn push(&mut self, line: u64, id: ClipId, clip: Box<Clip>) {
        self.bytes += Self::bytes(&clip);
        self.ids.insert(id);
        self.clips.push_back((line, id, clip));
    }

    /// The one that was set aside first, and its line.
    pub(super) fn pop(&mut self) -> Option<(u64, Box<Clip>)> {
        let (line, id, clip) = self.clips.pop_front()?;
        self.bytes -= Self::bytes(&clip);
        self.ids.remove(&id);
        Some((line, clip))
    }

    /// Whether no more should be set aside.
    pub(super) fn is_full(&self) -> bool {
        self.clips.len() >= MOST_ASIDE || self.bytes >= MOST_ASIDE_BYTES
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn clip(formats: &[(&str, usize)]) -> Box<Clip> {
        let format = |(mime, length): &(&str, usize)| json!({ "mime": mime, "size": length, "hash": "00", "text": "a".repeat(*length) });
        let formats: Vec<_> = formats.iter().map(format).collect();
        let line = json!({ "id": "0", "kind": "text", "formats": formats, "copied_at": "2026-11-01T00:00:00Z" });
        serde_json::from_value(line).unwrap()
    }

    #[test]
    fn pages_and_pictures_are_for_the_cage() {
        assert!(is_for_cage(&clip(&[("text/plain", 1), ("TEXT/HTML", 1)])));
        assert!(is_for_cage(&clip(&[("image/png", 1)])));
        assert!(!is_for_cage(&clip(&[("text/plain", 1), ("text/rtf", 1)])));
    }

    #[test]
    fn what_was_set_aside_first_comes_back_first_and_there_is_an_end_to_the_room() {
        let mut aside = Aside::default();
        for (nth, length) in [(1, MOST_ASIDE_BYTES / 2), (2, 1), (3, MOST_ASIDE_BYTES / 2)] {
            assert!(!aside.is_full());
            aside.push(u64::from(nth), ClipId([nth; 16]), clip(&[("text/html", length)]));
        }
        assert!(aside.is_full() && aside.contains(&ClipId([1; 16])));
        assert_eq!(aside.pop().map(|(line, _)| line), Some(1));
        assert!(!aside.is_full() && !aside.contains(&ClipId([1; 16])) && aside.contains(&ClipId([2; 16])));
        assert_eq!(
            [aside.pop(), aside.pop(), aside.pop()].map(|one| one.map(|(line, _)| line)),
            [Some(2), Some(3), None]
        );
        assert_eq!(aside.bytes, 0);
        for nth in 0..MOST_ASIDE {
            assert!(!aside.is_full());
            aside.push(nth as u64, ClipId([nth as u8; 16]), clip(&[]));
        }
        assert!(aside.is_full());
    }
}
