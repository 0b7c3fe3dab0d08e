//! The system's clock, and the stamps made with it.

use jiff::Timestamp;
use std::sync::{Mutex, PoisonError};
use yadori_core::{HybridClock, MillisSinceEpoch, Stamp};

/// Now.
pub fn now() -> MillisSinceEpoch {
    MillisSinceEpoch(u64::try_from(Timestamp::now().as_millisecond()).unwrap_or(0))
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
        self.0.lock().unwrap_or_else(PoisonError::into_inner).observe(stamp);
    }

    /// A stamp for what happens now.
    pub fn next(&self) -> Stamp {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).tick(now())
    }
}
