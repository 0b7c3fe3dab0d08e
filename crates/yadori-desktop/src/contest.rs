//! Another program that takes the clipboard each time we put something on it.
//!
//! Such a program copies to the clipboard what it finds there. It is not a copy that a person made, so it
//! makes no clip; and we never take the clipboard back from it. After a few such turns in a row we do not
//! even keep what an exiting program leaves, until the other one has let a turn pass.

use std::time::{Duration, Instant};
use yadori_core::{Format, format};

/// What is taken from us sooner than that was not taken by a person.
const AT_ONCE: Duration = Duration::from_millis(1500);

/// So many turns in a row are a contest.
const TURNS: u32 = 3;

/// Who has the clipboard, as far as we contend for it.
#[derive(Default)]
pub(crate) struct Contest {
    /// What we put there, and when.
    ours: Option<(Instant, Vec<Format>)>,
    /// It was taken from us at once.
    lost: bool,
    turns: u32,
}

/// What a new owner's copy is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Verdict {
    /// A copy like any other.
    Copy,
    /// A copy, and the contest that was told of is over.
    CopyAndPeace,
    /// Only what we had put there ourselves.
    Echo,
    /// The same, so often that it must be told.
    Contest,
}

impl Contest {
    /// Whether we may take the clipboard without having been asked to.
    pub fn may_take(&self) -> bool {
        self.turns < TURNS
    }

    /// We have put this on the clipboard.
    pub fn took(&mut self, now: Instant, formats: &[Format]) {
        self.ours = Some((now, formats.to_vec()));
        self.lost = false;
    }

    /// Another program has taken the clipboard.
    pub fn lost(&mut self, now: Instant) {
        self.lost = self.ours.as_ref().is_some_and(|(since, _)| now.duration_since(*since) < AT_ONCE);
        if !self.lost {
            self.ours = None;
        }
    }

    /// What a copy is that was just read.
    pub fn judge(&mut self, formats: &[Format]) -> Verdict {
        let ours = if std::mem::take(&mut self.lost) { self.ours.take() } else { None };
        let ours = ours.map(|(_, ours)| ours).unwrap_or_default();
        let echo = !formats.is_empty()
            && formats.iter().all(|format| format::find(&ours, &format.mime).is_some_and(|data| *data == format.data));
        match (echo, self.turns) {
            (true, turns) => {
                self.turns += 1;
                if turns + 1 == TURNS { Verdict::Contest } else { Verdict::Echo }
            }
            (false, turns) => {
                self.turns = 0;
                if turns >= TURNS { Verdict::CopyAndPeace } else { Verdict::Copy }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ours() -> Vec<Format> {
        vec![Format::plain("lamp 7"), Format::new(format::HTML, "<b>lamp 7</b>")]
    }

    fn turn(contest: &mut Contest, now: Instant, after: Duration, read: &[Format]) -> Verdict {
        contest.took(now, &ours());
        contest.lost(now + after);
        contest.judge(read)
    }

    #[test]
    fn an_echo_is_no_copy_and_three_are_a_contest() {
        let (mut contest, now) = (Contest::default(), Instant::now());
        let echo = [Format::plain("lamp 7")];
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &echo), Verdict::Echo);
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &ours()), Verdict::Echo);
        assert!(contest.may_take());
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &echo), Verdict::Contest);
        assert!(!contest.may_take());
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &echo), Verdict::Echo, "it is told once");
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &[Format::plain("gel 201")]), Verdict::CopyAndPeace);
        assert!(contest.may_take());
    }

    #[test]
    fn the_same_content_later_or_more_of_it_is_a_copy() {
        let (mut contest, now) = (Contest::default(), Instant::now());
        assert_eq!(turn(&mut contest, now, AT_ONCE, &ours()), Verdict::Copy);
        let more = [Format::plain("lamp 7"), Format::new("image/png", "new")];
        assert_eq!(turn(&mut contest, now, Duration::ZERO, &more), Verdict::Copy);
        assert_eq!(contest.judge(&ours()), Verdict::Copy, "what nobody took from us cannot be an echo");
    }
}
