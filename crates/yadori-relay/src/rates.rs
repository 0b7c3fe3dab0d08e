//! How much one mailbox, or one stranger, may ask for: so much at once, and so much a second.

use parking_lot::Mutex;
use std::collections::HashMap;
use std::hash::Hash;
use std::time::{Duration, Instant};

/// Whoever has not asked for so long has all of it again, and is forgotten.
const FORGET: Duration = Duration::from_secs(600);

/// Names that are remembered at once.
const MOST: usize = 100_000;

/// The rates of all who ask, by their names.
pub struct Rates<K> {
    at_once: f64,
    a_second: f64,
    left: Mutex<HashMap<K, (f64, Instant)>>,
}

impl<K: Eq + Hash> Rates<K> {
    /// So many at once, and so many more a second.
    pub fn new(at_once: u32, a_second: u32) -> Self {
        Self { at_once: at_once.into(), a_second: a_second.into(), left: Mutex::default() }
    }

    /// Takes one request of `who`.
    ///
    /// # Errors
    /// How long there is to wait, if there were too many.
    pub fn take(&self, who: K, now: Instant) -> Result<(), Duration> {
        let mut all = self.left.lock();
        if all.len() >= MOST {
            all.retain(|_, (_, at)| now.saturating_duration_since(*at) < FORGET);
            if all.len() >= MOST {
                // A flood of names: better to forget who asked than to keep more.
                all.clear();
            }
        }
        let (left, at) = all.entry(who).or_insert((self.at_once, now));
        *left = (*left + now.saturating_duration_since(*at).as_secs_f64() * self.a_second).min(self.at_once);
        *at = now;
        if *left >= 1.0 {
            *left -= 1.0;
            Ok(())
        } else {
            Err(Duration::from_secs_f64((1.0 - *left) / self.a_second))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_is_so_much_at_once_and_so_much_a_second() {
        let (rates, start) = (Rates::new(3, 2), Instant::now());
        for _ in 0..3 {
            assert_eq!(rates.take("a", start), Ok(()));
        }
        assert_eq!(rates.take("a", start), Err(Duration::from_millis(500)));
        assert_eq!(rates.take("b", start), Ok(()));
        let later = start + Duration::from_secs(1);
        assert_eq!((rates.take("a", later), rates.take("a", later)), (Ok(()), Ok(())));
        assert!(rates.take("a", later).is_err());
    }
}
