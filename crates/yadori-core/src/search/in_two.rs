//! Dividing work that only computes among two threads.

use std::panic::resume_unwind;
use std::thread::{Builder, scope};

/// What both give: one after the other, or at the same time if `divided` is true and the machine has a thread to give.
pub(super) fn in_two<T: Send>(divided: bool, first: impl FnOnce() -> T, second: impl Fn() -> T + Sync) -> (T, T) {
    scope(|scope| {
        let elsewhere = divided.then(|| Builder::new().spawn_scoped(scope, &second).ok()).flatten();
        let first = first();
        let second = match elsewhere {
            Some(thread) => thread.join().unwrap_or_else(|panic| resume_unwind(panic)),
            None => second(),
        };
        (first, second)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Barrier;

    #[test]
    fn both_are_done_at_the_same_time_where_that_is_asked_for() {
        let together = Barrier::new(2);
        let meet = || together.wait().is_leader();
        let (first, second) = in_two(true, meet, meet);
        assert_ne!(first, second);
        assert_eq!(in_two(false, || 1, || 2), (1, 2));
    }

    #[test]
    #[should_panic(expected = "as it was said")]
    fn a_panic_is_passed_on() {
        in_two(true, || (), || panic!("as it was said"));
    }
}
