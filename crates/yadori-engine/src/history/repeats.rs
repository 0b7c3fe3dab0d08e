//! Which clips were announced again though nothing of them had changed, for listeners that were away meanwhile: the change
//! feed does not tell of those.

use std::collections::VecDeque;

/// As many are known; a listener that has missed more asks for everything anew.
const KNOWN: usize = 1_000;

/// The latest clips that were announced again since the service was started.
#[derive(Debug, Default)]
pub(super) struct Repeats {
    /// For each, the change that was the latest at that time, in order; and the clip's number.
    known: VecDeque<(u64, u64)>,
    /// The latest change at the time of the last one that is no longer known.
    dropped: Option<u64>,
}

impl Repeats {
    /// Notes that a clip was announced again, with `cursor` as the latest change.
    pub(super) fn note(&mut self, cursor: u64, clip: u64) {
        if self.known.len() == KNOWN {
            self.dropped = self.known.pop_front().map(|(cursor, _)| cursor);
        }
        self.known.push_back((cursor, clip));
    }

    /// The clips that a listener may have missed that has heard of the changes up to `last`, each once. None if they are not
    /// known any more.
    pub(super) fn since(&self, last: u64) -> Option<Vec<u64>> {
        if self.dropped.is_some_and(|dropped| dropped >= last) {
            return None;
        }
        let mut clips: Vec<u64> =
            self.known.iter().filter(|(cursor, _)| *cursor >= last).map(|(_, clip)| *clip).collect();
        clips.sort_unstable();
        clips.dedup();
        Some(clips)
    }
}

#[cfg(test)]
mod tests {
    use super::{KNOWN, Repeats};

    #[test]
    fn each_is_told_once_to_whoever_may_have_missed_it() {
        let mut repeats = Repeats::default();
        for (cursor, clip) in [(3, 1), (5, 2), (5, 1), (9, 4)] {
            repeats.note(cursor, clip);
        }
        assert_eq!(repeats.since(0), Some(vec![1, 2, 4]));
        // It has heard of change 5 perhaps before, perhaps after the clips were announced again.
        assert_eq!(repeats.since(5), Some(vec![1, 2, 4]));
        assert_eq!(repeats.since(6), Some(vec![4]));
        assert_eq!(repeats.since(10), Some(vec![]));
    }

    #[test]
    fn more_than_is_known_is_said() {
        let mut repeats = Repeats::default();
        for number in 0..=KNOWN as u64 {
            repeats.note(number, number);
        }
        assert_eq!(repeats.since(0), None);
        assert_eq!(repeats.since(1).map(|clips| clips.len()), Some(KNOWN));
    }
}
