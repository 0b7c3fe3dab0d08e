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
    /// Last deleted.
    pub deleted: Stamp,
}

impl Life {
    /// Whether the clip is in the history: a delete beats every earlier copy; a later copy, or an
    /// undo, brings the clip back.
    pub fn is_live(&self) -> bool {
        self.copied.max(self.restored) > self.deleted
    }

    /// What two devices know, taken together. Commutative, associative and idempotent.
    #[must_use]
    pub fn merge(self, other: Self) -> Self {
        Self {
            copied: self.copied.max(other.copied),
            restored: self.restored.max(other.restored),
            deleted: self.deleted.max(other.deleted),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn life() -> impl Strategy<Value = Life> {
        (0u64..6, 0u64..6, 0u64..6).prop_map(|(copied, restored, deleted)| Life {
            copied: Stamp::from_bits(copied),
            restored: Stamp::from_bits(restored),
            deleted: Stamp::from_bits(deleted),
        })
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
