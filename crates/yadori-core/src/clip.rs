//! Where a clip came from, and whether it is live.

use crate::clock::Stamp;

/// Where a copy was made, as far as the desktop tells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Source {
    /// The application's name (the class of its window on X11, its id on Wayland).
    pub application: Option<String>,
    /// The title of the window.
    pub window: Option<String>,
    /// The page a browser copied from.
    pub page: Option<String>,
    /// Whether the text was merely selected (the primary selection) and never copied.
    pub selected: bool,
}

/// The stamps that decide whether a clip is in the history. Liveness is a function of stamps and not
/// a flag, so that any two devices that know the same events agree.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Life {
    /// Last copied.
    pub copied: Stamp,
    /// Last brought back from the bin.
    pub restored: Stamp,
    /// Last deleted by a person's word, whether kept or not.
    pub deleted: Stamp,
    /// Last cleared, together with everything that was not kept.
    pub cleared: Stamp,
    /// Last swept by this device's retention rules.
    pub swept: Stamp,
    /// When it was last pinned or unpinned, and whether it is pinned.
    pub pinned: (Stamp, bool),
    /// When it was last put into a drawer or taken out, and whether it lies in one.
    pub in_drawer: (Stamp, bool),
}

/// How a clip left the history.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gone {
    /// It was deleted.
    Deleted,
    /// It was cleared.
    Cleared,
    /// The retention rules swept it.
    Swept,
}

impl Life {
    /// Whether the clip is in the history.
    pub fn is_live(&self) -> bool {
        self.gone().is_none()
    }

    /// When and how the clip left the history, if it did. A delete beats every earlier copy, undo, pin and
    /// placement in a drawer; a clear or a sweep beats them too, but never takes what is kept. Whatever comes
    /// later brings the clip back.
    pub fn gone(&self) -> Option<(Stamp, Gone)> {
        let touched = self.touched();
        if self.deleted >= touched {
            return Some((self.deleted, Gone::Deleted));
        }
        let (left, how) =
            if self.swept > self.cleared { (self.swept, Gone::Swept) } else { (self.cleared, Gone::Cleared) };
        (!self.is_kept() && left >= touched).then_some((left, how))
    }

    /// Whether it is pinned or lies in a drawer.
    pub fn is_kept(&self) -> bool {
        self.pinned.1 || self.in_drawer.1
    }

    /// When it was last copied, brought back, kept, or let go: what its age is counted from.
    pub fn touched(&self) -> Stamp {
        self.copied.max(self.restored).max(self.pinned.0).max(self.in_drawer.0)
    }

    /// What two devices know, taken together. Commutative, associative and idempotent.
    #[must_use]
    pub fn merge(self, other: Self) -> Self {
        Self {
            copied: self.copied.max(other.copied),
            restored: self.restored.max(other.restored),
            deleted: self.deleted.max(other.deleted),
            cleared: self.cleared.max(other.cleared),
            swept: self.swept.max(other.swept),
            pinned: self.pinned.max(other.pinned),
            in_drawer: self.in_drawer.max(other.in_drawer),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn life() -> impl Strategy<Value = Life> {
        let stamp = || (0u64..6).prop_map(Stamp::from_bits);
        let register = || (stamp(), any::<bool>());
        (stamp(), stamp(), stamp(), stamp(), stamp(), register(), register()).prop_map(
            |(copied, restored, deleted, cleared, swept, pinned, in_drawer)| Life {
                copied,
                restored,
                deleted,
                cleared,
                swept,
                pinned,
                in_drawer,
            },
        )
    }

    #[test]
    fn kept_wins_over_clear_and_sweep_but_not_over_delete() {
        let stamp = Stamp::from_bits;
        let kept =
            Life { copied: stamp(1), pinned: (stamp(2), true), cleared: stamp(5), swept: stamp(6), ..Life::default() };
        assert!(kept.is_live());
        assert_eq!(Life { deleted: stamp(7), ..kept }.gone(), Some((stamp(7), Gone::Deleted)));
        // Letting go of it later is no reason to make it vanish.
        assert!(Life { pinned: (stamp(8), false), ..kept }.is_live());
        assert_eq!(Life { pinned: (stamp(3), false), ..kept }.gone(), Some((stamp(6), Gone::Swept)));
        assert_eq!(Life { pinned: (stamp(3), false), swept: stamp(0), ..kept }.gone(), Some((stamp(5), Gone::Cleared)));
    }

    #[test]
    fn a_delete_holds_until_something_later() {
        let stamp = Stamp::from_bits;
        let mut life = Life { copied: stamp(1), ..Life::default() };
        assert!(life.is_live());
        life.deleted = stamp(2);
        assert!(!life.is_live());
        life.restored = stamp(3);
        assert!(life.is_live());
        life.deleted = stamp(4);
        assert!(!life.is_live());
        life.copied = stamp(5);
        assert!(life.is_live());
    }

    proptest! {
        #[test]
        fn merging_is_order_free(a in life(), b in life(), c in life()) {
            prop_assert_eq!(a.merge(b), b.merge(a));
            prop_assert_eq!(a.merge(b).merge(c), a.merge(b.merge(c)));
            prop_assert_eq!(a.merge(a), a);
        }
    }
}
