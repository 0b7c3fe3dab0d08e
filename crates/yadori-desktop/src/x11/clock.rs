//! The time of the X server, by which a selection is claimed (ICCCM, section 2.1), without asking for it.
//!
//! Many events tell the server's time. The time since the last of them is added to it. An event arrives after what it tells of, so
//! the sum is never ahead of the server, and behind it by a moment only. (A claim with a time that has not come yet has no effect,
//! nor has one that is older than another program's claim: then the server must be asked for its time.)

use std::time::Instant;
use x11rb::protocol::xproto::Timestamp;

/// The last time that the server told, and when that was heard.
#[derive(Default)]
pub(super) struct ServerClock(Option<(Timestamp, Instant)>);

impl ServerClock {
    /// The server has told its time, in milliseconds; it is `now` or was a moment ago.
    pub fn told(&mut self, time: Timestamp, now: Instant) {
        if time != x11rb::CURRENT_TIME {
            self.0 = Some((time, now));
        }
    }

    /// The server's time `now`, or a moment before; nothing if it has not told any.
    pub fn time(&self, now: Instant) -> Option<Timestamp> {
        let (time, told) = self.0?;
        // Both begin anew after 49 days.
        let time = time.wrapping_add(now.saturating_duration_since(told).as_millis() as Timestamp);
        (time != x11rb::CURRENT_TIME).then_some(time)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn it_goes_on_from_what_was_told_and_never_ahead_of_it() {
        let mut clock = ServerClock::default();
        let begin = Instant::now();
        assert_eq!(clock.time(begin), None);
        clock.told(7_000, begin);
        assert_eq!(clock.time(begin), Some(7_000));
        assert_eq!(clock.time(begin + Duration::from_micros(2_999)), Some(7_002));
        clock.told(x11rb::CURRENT_TIME, begin + Duration::from_secs(1));
        assert_eq!(clock.time(begin + Duration::from_secs(2)), Some(9_000));
        clock.told(9_001, begin + Duration::from_secs(2));
        assert_eq!(clock.time(begin + Duration::from_secs(1)), Some(9_001));
    }

    #[test]
    fn it_begins_anew_as_the_server_does() {
        let (mut clock, begin) = (ServerClock::default(), Instant::now());
        clock.told(Timestamp::MAX, begin);
        assert_eq!(clock.time(begin + Duration::from_millis(1)), None);
        assert_eq!(clock.time(begin + Duration::from_millis(5)), Some(4));
    }
}
