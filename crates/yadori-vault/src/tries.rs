//! Wrong passphrases slow down.

use std::time::{Duration, Instant};

/// Wrong passphrases that cost nothing but their stretching.
const FREE: u32 = 3;

/// Longest pause after a wrong one.
const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// Wrong passphrases, and when the next one is taken.
#[derive(Debug, Default)]
pub struct Tries {
    wrong: u32,
    next: Option<Instant>,
}

impl Tries {
    /// Whether one may be tried now.
    ///
    /// # Errors
    /// How long there is to wait, if not.
    pub fn may(&self, now: Instant) -> Result<(), Duration> {
        let left = self.next.map(|next| next.saturating_duration_since(now)).unwrap_or_default();
        if left.is_zero() { Ok(()) } else { Err(left) }
    }

    /// Notes one that was tried. Each wrong one after the first few doubles the pause; a right one ends it.
    pub fn note(&mut self, right: bool, now: Instant) {
        if right {
            *self = Self::default();
            return;
        }
        self.wrong += 1;
        let Some(further) = self.wrong.checked_sub(FREE) else { return };
        let pause = Duration::from_secs(1).saturating_mul(1 << further.min(16)).min(LONGEST_PAUSE);
        self.next = Some(now + pause);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wrong_passphrases_slow_down_and_a_right_one_makes_it_good() {
        let (mut tries, start) = (Tries::default(), Instant::now());
        let mut now = start;
        let mut pauses = Vec::new();
        for _ in 0..12 {
            assert_eq!(tries.may(now), Ok(()));
            tries.note(false, now);
            let pause = tries.may(now).err().unwrap_or_default();
            pauses.push(pause.as_secs());
            now += pause;
        }
        assert_eq!(pauses, [0, 0, 1, 2, 4, 8, 16, 32, 60, 60, 60, 60]);
        tries.note(true, now);
        assert_eq!(tries.may(now), Ok(()));
    }
}
