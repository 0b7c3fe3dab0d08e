//! Waiting for what no program tells of, by looking again and again.

use crate::PATIENCE;
use std::time::{Duration, Instant};

/// How often it is looked: the processor is left to what is waited for.
const OFTEN: Duration = Duration::from_millis(1);

/// Waits until something is so.
///
/// # Panics
/// If it does not become so.
pub fn until(what: &str, is_so: impl FnMut() -> bool) {
    until_or_tell(what, is_so, String::new);
}

/// The same; tells what is to be known if it does not become so.
///
/// # Panics
/// If it does not become so.
pub fn until_or_tell(what: &str, is_so: impl FnMut() -> bool, tell: impl Fn() -> String) {
    until_within((PATIENCE, OFTEN), what, is_so, tell);
}

/// The same with so much patience, and such a pause before looking again: where each look starts a program.
///
/// # Panics
/// If it does not become so.
pub fn until_within(
    (patience, pause): (Duration, Duration),
    what: &str,
    mut is_so: impl FnMut() -> bool,
    tell: impl Fn() -> String,
) {
    let deadline = Instant::now() + patience;
    while !is_so() {
        assert!(Instant::now() < deadline, "this did not come true: {what} {}", tell());
        std::thread::park_timeout(pause);
    }
}
