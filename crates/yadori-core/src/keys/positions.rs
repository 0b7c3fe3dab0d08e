//! What a position means while keys are pressed one after the other.
//!
//! Who fills five fields presses five keys. What is copied in between must not move the clips under their hands, so a
//! position means what it meant when the run began: when the person last saw the list, or pressed the first of the keys.

use crate::{ClipId, MillisSinceEpoch};

/// How long after a key, or after the list was seen, the next key belongs to the same run.
pub const RUN: u64 = 60_000;

/// How many positions have keys.
pub const LISTED: usize = 9;

/// The clips at the first positions as a person knows them.
#[derive(Clone, Debug, Default)]
pub struct PositionRun {
    clips: Vec<ClipId>,
    latest: Option<MillisSinceEpoch>,
}

impl PositionRun {
    /// The person has seen this list: from now on, positions are meant so.
    pub fn seen(&mut self, clips: &[ClipId], now: MillisSinceEpoch) {
        self.clips = clips.iter().copied().take(LISTED).collect();
        self.latest = Some(now);
    }

    /// The clip that is meant by a position, 1 being the first; `current` are the clips at the first positions now, which
    /// count if no run is under way. None if there is no such clip.
    pub fn clip(&mut self, position: u8, current: &[ClipId], now: MillisSinceEpoch) -> Option<ClipId> {
        // A clock that was set back ends the run, too.
        let goes_on = self.latest.is_some_and(|latest| now >= latest && now.0 - latest.0 <= RUN);
        if goes_on {
            self.latest = Some(now);
        } else {
            self.seen(current, now);
        }
        let index = usize::from(position).checked_sub(1)?;
        self.clips.get(index).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn clip(number: u8) -> ClipId {
        ClipId([number; 16])
    }

    #[test]
    fn positions_stay_while_keys_follow_one_another() {
        let mut run = PositionRun::default();
        let before = [clip(1), clip(2), clip(3)];
        let after = [clip(9), clip(1), clip(2), clip(3)];
        let mut now = 1_000_000;
        assert_eq!(run.clip(1, &before, MillisSinceEpoch(now)), Some(clip(1)));
        now += RUN;
        assert_eq!(run.clip(2, &after, MillisSinceEpoch(now)), Some(clip(2)), "a run lasts from key to key");
        assert_eq!(run.clip(4, &after, MillisSinceEpoch(now)), None, "nothing was there when it began");
        now += RUN + 1;
        assert_eq!(run.clip(1, &after, MillisSinceEpoch(now)), Some(clip(9)), "a minute later it is over");
        assert_eq!(run.clip(0, &after, MillisSinceEpoch(now)), None);
    }

    #[test]
    fn the_list_that_was_seen_counts_and_a_clock_set_back_ends_the_run() {
        let mut run = PositionRun::default();
        run.seen(&[clip(5), clip(6)], MillisSinceEpoch(50_000));
        assert_eq!(run.clip(2, &[clip(1)], MillisSinceEpoch(60_000)), Some(clip(6)));
        assert_eq!(run.clip(1, &[clip(1)], MillisSinceEpoch(40_000)), Some(clip(1)));
    }
}
