//! What becomes of a clip's state when it is filed once more, when it is forgotten for good, and when another clip takes its
//! place.

use crate::merge::{Register, State};
use crate::shared::MOST_COUNTED;
use crate::{DeviceId, MillisSinceEpoch, Stamp};

/// A copy of a clip that is known already.
#[derive(Clone, Debug)]
pub struct Refiled {
    /// When it was copied.
    pub copied: Stamp,
    /// On which device.
    pub origin: DeviceId,
    /// When it is filed: later than every stamp that was given out before.
    pub filed: Stamp,
    /// The title that it gets.
    pub title: Option<String>,
}

impl State {
    /// Files a known clip once more; `swept` is this device's own stamp. Tells whether this is the later copy: its formats
    /// and its source are those of the clip then.
    ///
    /// An earlier copy (made by hand, and dated back) only counts, since what is newer is not replaced by what is older:
    /// that is the law by which all devices agree. What was forgotten for good can only come back as a copy that is later
    /// than that. Whatever its date, what is filed is in the history.
    pub fn refile(&mut self, swept: Stamp, copy: Refiled) -> bool {
        let is_purged = self.purged != Stamp::NEVER && self.copied.max(copy.copied) <= self.purged;
        let copied = if is_purged { copy.filed } else { copy.copied };
        let is_later = copied > self.copied;
        if is_later {
            (self.copied, self.origin) = (copied, copy.origin);
        }
        if !self.is_live(swept) {
            self.restored = copy.filed;
        }
        self.copies = self.copies.saturating_add(1).min(MOST_COUNTED);
        if copy.title.is_some() {
            self.title = Register::new(copy.filed, copy.title);
        }
        is_later
    }

    /// Forgets a clip for good, at `stamp`; `swept` is this device's own stamp. One that is still live is deleted.
    pub fn forget(&mut self, swept: Stamp, stamp: Stamp) {
        if self.is_live(swept) {
            self.deleted = stamp;
        }
        self.purged = stamp;
        *self = std::mem::take(self).settled();
    }

    /// Takes the place of the clip in state `old`, at `stamp`: its attributes, wherever this one has none of its own. With
    /// `retire`, the old one is deleted.
    pub fn take_place_of(&mut self, old: &mut Self, stamp: Stamp, retire: bool) {
        fn inherit<T: Ord + Clone>(own: &mut Register<Option<T>>, old: &Register<Option<T>>, stamp: Stamp) {
            *own = Register::new(stamp, own.value.take().or_else(|| old.value.clone()));
        }
        inherit(&mut self.title, &old.title, stamp);
        inherit(&mut self.mark, &old.mark, stamp);
        inherit(&mut self.alias, &old.alias, stamp);
        inherit(&mut self.pin, &old.pin, stamp);
        inherit(&mut self.drawer, &old.drawer, stamp);
        self.fills = Register::new(stamp, self.fills.value || old.fills.value);
        self.recalls = self.recalls.saturating_add(old.recalls).min(MOST_COUNTED);
        if self.recalled_at == MillisSinceEpoch(0) {
            self.recalled_at = old.recalled_at;
        }
        old.alias = Register::new(stamp, None);
        old.pin = Register::new(stamp, None);
        old.drawer = Register::new(stamp, None);
        if retire {
            old.deleted = stamp;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Rank;
    use proptest::prelude::*;

    fn stamp(bits: u64) -> Stamp {
        Stamp::from_bits(bits)
    }

    proptest! {
        #[test]
        fn what_is_filed_is_in_the_history_and_nothing_is_unlearnt(
            (copied, deleted, cleared, purged, swept) in (1u64..9, 0u64..9, 0u64..9, 0u64..9, 0u64..9),
            again in 1u64..30,
        ) {
            let known = State {
                copied: stamp(copied), deleted: stamp(deleted.max(purged)), cleared: stamp(cleared),
                purged: stamp(purged), copies: 1, ..State::default()
            };
            let copy = Refiled { copied: stamp(again), origin: DeviceId([2; 16]), filed: stamp(20), title: None };
            let mut state = known.clone();
            let is_later = state.refile(stamp(swept), copy);
            prop_assert!(state.is_live(stamp(swept)), "{state:?}");
            prop_assert_eq!(known.clone().merge(state.clone()), state.clone());
            prop_assert_eq!(state.copies, 2);
            prop_assert!(!is_later || state.origin == DeviceId([2; 16]));
            prop_assert_eq!(is_later, state.copied > known.copied);
        }
    }

    #[test]
    fn the_new_clip_has_what_the_old_one_was_given() {
        let mut old = State {
            alias: Register::new(stamp(2), Some("lamp".into())),
            title: Register::new(stamp(3), Some("Spare lamp".into())),
            pin: Register::new(stamp(4), Rank::from_slice(b"bm")),
            recalls: 3,
            ..State::default()
        };
        let mut new = State { title: Register::new(stamp(5), Some("Gel".into())), recalls: 1, ..State::default() };
        new.take_place_of(&mut old, stamp(9), true);
        assert_eq!(new.alias, Register::new(stamp(9), Some("lamp".into())));
        assert_eq!(new.title, Register::new(stamp(9), Some("Gel".into())));
        assert!(new.pin.value.is_some() && old.pin == Register::new(stamp(9), None));
        assert_eq!((old.alias.value, old.deleted, new.recalls), (None, stamp(9), 4));
    }
}
