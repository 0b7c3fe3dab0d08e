//! Lines of the log that strangers can cause are limited, so that nobody fills the disk by knocking.

use parking_lot::Mutex;
use std::time::{Duration, Instant};

/// Lines that are written within one [`PERIOD`].
const LINES: u32 = 10;

/// How long a period lasts.
const PERIOD: Duration = Duration::from_secs(60);

/// Counts the lines of one subject.
#[derive(Debug, Default)]
pub struct LogLimit(Mutex<Period>);

#[derive(Debug, Default)]
struct Period {
    began: Option<Instant>,
    connections: u32,
}

impl LogLimit {
    /// Whether one more line may be written now. Gives how many were left out since the last period, if this line begins
    /// a new one.
    pub fn admit(&self) -> Option<u32> {
        self.admit_at(Instant::now())
    }

    fn admit_at(&self, now: Instant) -> Option<u32> {
        let mut period = self.0.lock();
        let mut left_out = 0;
        if period.began.is_none_or(|began| now.duration_since(began) >= PERIOD) {
            left_out = period.connections.saturating_sub(LINES);
            *period = Period { began: Some(now), connections: 0 };
        }
        period.connections = period.connections.saturating_add(1);
        (period.connections <= LINES).then_some(left_out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ten_lines_a_minute_and_then_how_many_there_would_have_been() {
        let (limit, start) = (LogLimit::default(), Instant::now());
        let admitted = (0..1000).filter(|_| limit.admit_at(start).is_some()).count();
        assert_eq!(admitted, 10);
        assert_eq!(limit.admit_at(start + PERIOD), Some(990));
        assert_eq!(limit.admit_at(start + PERIOD), Some(0));
    }
}
