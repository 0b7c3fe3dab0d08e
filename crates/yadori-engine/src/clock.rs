//! The system's clock, and the stamps made with it.

use jiff::Timestamp;
use parking_lot::Mutex;
use yadori_core::clock::BELIEVED_AHEAD_MILLIS;
use yadori_core::{HybridClock, MillisSinceEpoch, Stamp};

/// Now.
pub fn now() -> MillisSinceEpoch {
    MillisSinceEpoch(u64::try_from(Timestamp::now().as_millisecond()).unwrap_or(0))
}

/// The latest stamp of another device that is believed: see [`BELIEVED_AHEAD_MILLIS`]. A clock that is further ahead is
/// wrong, and what it stamps would win over everything until then.
pub fn latest_believed() -> Stamp {
    Stamp::at_start_of(now().plus(BELIEVED_AHEAD_MILLIS))
}

/// As a timestamp; the end of time for what lies beyond it.
pub fn timestamp(at: MillisSinceEpoch) -> Timestamp {
    i64::try_from(at.0).ok().and_then(|millis| Timestamp::from_millisecond(millis).ok()).unwrap_or(Timestamp::MAX)
}

/// Gives out this device's stamps.
pub struct Stamps(Mutex<HybridClock>);

impl Stamps {
    /// Goes on after the latest stamp on record.
    pub fn after(last: Stamp) -> Self {
        Self(Mutex::new(HybridClock::after(last)))
    }

    /// Goes on after a stamp that another device gave out.
    pub fn observe(&self, stamp: Stamp) {
        self.0.lock().observe(stamp);
    }

    /// The latest stamp that was given out or seen.
    pub fn latest(&self) -> Stamp {
        self.0.lock().latest()
    }

    /// Goes on after this stamp, though later ones were given out: the clock has been repaired since.
    pub fn go_back_to(&self, stamp: Stamp) {
        *self.0.lock() = HybridClock::after(stamp);
    }

    /// A stamp for what happens now.
    pub fn next(&self) -> Stamp {
        self.0.lock().tick(now())
    }
}
