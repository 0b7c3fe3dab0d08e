//! Time as the core sees it: plain milliseconds, and the stamps of a hybrid logical clock.

use serde::{Deserialize, Serialize};

/// Milliseconds since 1970-01-01T00:00:00Z.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct MillisSinceEpoch(pub u64);

impl MillisSinceEpoch {
    /// This moment plus `millis`, stopping at the end of time.
    #[must_use]
    pub fn plus(self, millis: u64) -> Self {
        Self(self.0.saturating_add(millis))
    }

    /// This moment less `millis`, stopping at the epoch.
    #[must_use]
    pub fn minus(self, millis: u64) -> Self {
        Self(self.0.saturating_sub(millis))
    }
}

/// When something happened to a clip: 48 bits of milliseconds and a 16-bit counter, so that stamps
/// of one device are strictly increasing even within a millisecond or when its clock steps back
/// (Kulkarni et al., *Logical Physical Clocks*, 2014). Zero means never.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Stamp(u64);

impl Stamp {
    /// The stamp of what has never happened; older than every other.
    pub const NEVER: Self = Self(0);

    /// The first stamp of a millisecond.
    pub fn at_start_of(at: MillisSinceEpoch) -> Self {
        Self(at.0.min((1 << 48) - 1) << 16)
    }

    /// The wall-clock part.
    pub fn at(self) -> MillisSinceEpoch {
        MillisSinceEpoch(self.0 >> 16)
    }

    /// The stamp as it is stored.
    pub fn to_bits(self) -> u64 {
        self.0
    }

    /// A stamp as it was stored.
    pub fn from_bits(bits: u64) -> Self {
        Self(bits)
    }
}

/// How far ahead of this device's clock another device's clock may be: five minutes. Devices whose clocks are further
/// apart exchange nothing, and say so, until the wrong one is set.
pub const CLOCKS_APART_MILLIS: u64 = 5 * 60 * 1000;

/// How far ahead of this device's clock a stamp is believed: fifteen minutes. A stamp may have come by way of a device
/// whose clock is ahead of that of the one that told it, so this is more than [`CLOCKS_APART_MILLIS`]; what a device
/// that lies can win by it is a quarter of an hour.
pub const BELIEVED_AHEAD_MILLIS: u64 = 15 * 60 * 1000;

/// Gives out stamps, each later than all that this clock has given out or seen.
#[derive(Debug, Default)]
pub struct HybridClock {
    last: Stamp,
}

impl HybridClock {
    /// A clock that continues after `last`, the latest stamp on record.
    pub fn after(last: Stamp) -> Self {
        Self { last }
    }

    /// The next stamp, at the wall-clock time `now`.
    pub fn tick(&mut self, now: MillisSinceEpoch) -> Stamp {
        self.last = Stamp((self.last.0 + 1).max(Stamp::at_start_of(now).0));
        self.last
    }

    /// The latest stamp that it has given out or seen.
    pub fn latest(&self) -> Stamp {
        self.last
    }

    /// Goes on after `stamp`, which another device gave out.
    pub fn observe(&mut self, stamp: Stamp) {
        self.last = self.last.max(stamp);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn stamps_increase_whatever_the_wall_clock_does(walls in prop::collection::vec(0u64..1 << 47, 1..50)) {
            let mut clock = HybridClock::default();
            let mut last = Stamp::NEVER;
            for wall in walls {
                let next = clock.tick(MillisSinceEpoch(wall));
                prop_assert!(next > last);
                prop_assert!(next.at().0 >= wall);
                last = next;
            }
        }
    }

    #[test]
    fn a_stamp_tells_its_wall_time_and_survives_storage() {
        let stamp = HybridClock::default().tick(MillisSinceEpoch(1_790_000_000_123));
        assert_eq!(stamp.at(), MillisSinceEpoch(1_790_000_000_123));
        assert_eq!(Stamp::from_bits(stamp.to_bits()), stamp);
    }
}
