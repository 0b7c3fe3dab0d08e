//! How long things stay.

use crate::clock::{MillisSinceEpoch, Stamp};

/// How long a sensitive clip stays: ten minutes.
pub const SENSITIVE_MILLIS: u64 = 10 * 60 * 1000;

/// How long a deleted clip waits in the bin: a day.
pub const BIN_MILLIS: u64 = 24 * 60 * 60 * 1000;

/// When a clip copied at `copied` goes by itself, if ever.
pub fn expiry(copied: Stamp, sensitive: bool) -> Option<MillisSinceEpoch> {
    sensitive.then(|| copied.at().plus(SENSITIVE_MILLIS))
}

/// Deleted at or before this moment, a clip's grace in the bin is over at `now`.
pub fn bin_horizon(now: MillisSinceEpoch) -> MillisSinceEpoch {
    now.minus(BIN_MILLIS)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_sensitive_clips_go_by_themselves_and_do_so_in_ten_minutes() {
        let copied = Stamp::at_start_of(MillisSinceEpoch(1_000));
        assert_eq!(expiry(copied, false), None);
        assert_eq!(expiry(copied, true), Some(MillisSinceEpoch(601_000)));
    }

    #[test]
    fn the_bin_keeps_for_a_day() {
        assert_eq!(bin_horizon(MillisSinceEpoch(BIN_MILLIS + 5)), MillisSinceEpoch(5));
        assert_eq!(bin_horizon(MillisSinceEpoch(5)), MillisSinceEpoch(0));
    }
}
