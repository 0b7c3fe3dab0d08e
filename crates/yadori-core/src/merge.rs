//! What two devices know of a clip, taken together.
//!
//! Every part of a [`State`] is a register: a value with the stamp of its latest change. Of two registers the
//! later wins; when two devices have chosen the same stamp, the greater value does, so that both decide alike.
//! The result does not depend on the order in which states arrive, nor on how often they do.
//!
//! What was forgotten for good is a barrier: whatever a clip was given before is dropped, and only a later copy
//! brings it back, since nothing else has its content.

use crate::clip::Life;
use crate::{ClipId, DeviceId, Mark, MillisSinceEpoch, Rank, Stamp};

/// A value, and when it was last changed.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Register<T> {
    /// When; never, if it was not.
    pub stamp: Stamp,
    /// The value.
    pub value: T,
}

impl<T: Default + Ord> Register<T> {
    /// A register that was set at `stamp`.
    pub fn new(stamp: Stamp, value: T) -> Self {
        Self { stamp, value }
    }

    fn merge(self, other: Self, purged: Stamp) -> Self {
        let latest = self.max(other);
        if latest.stamp > purged { latest } else { Self::default() }
    }
}

/// Where in which drawer a clip lies.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct InDrawer {
    /// The drawer's id.
    pub drawer: [u8; 16],
    /// The place in it.
    pub place: Rank,
}

/// Declares a clip's attributes, once: the fields of [`State`], and how two of each come together. The copy and its device
/// are one value.
macro_rules! attributes {
    (
        stamps { $($(#[$about_stamp:meta])* $stamp:ident,)* }
        counts { $($(#[$about_count:meta])* $count:ident: $number:ty,)* }
        registers { $($(#[$about:meta])* $register:ident: $value:ty,)* }
    ) => {
        /// What devices tell each other of a clip, but for its content.
        #[derive(Clone, Debug, Default, PartialEq, Eq)]
        pub struct State {
            /// When it was last copied.
            pub copied: Stamp,
            /// On which device that was.
            pub origin: DeviceId,
            $($(#[$about_stamp])* pub $stamp: Stamp,)*
            $($(#[$about_count])* pub $count: $number,)*
            $($(#[$about])* pub $register: Register<$value>,)*
        }

        impl State {
            /// Both together. Commutative, associative, idempotent; the result holds all that either knew.
            #[must_use]
            pub fn merge(self, other: Self) -> Self {
                let barrier = self.purged.max(other.purged);
                let (copied, origin) = (self.copied, self.origin).max((other.copied, other.origin));
                Self {
                    copied,
                    origin,
                    $($stamp: self.$stamp.max(other.$stamp),)*
                    $($count: self.$count.max(other.$count),)*
                    $($register: self.$register.merge(other.$register, barrier),)*
                }
            }

            /// The latest of all its stamps.
            pub fn latest(&self) -> Stamp {
                self.copied$(.max(self.$stamp))*$(.max(self.$register.stamp))*
            }
        }
    };
}

attributes! {
    stamps {
        /// Last brought back from the bin.
        restored,
        /// Last deleted.
        deleted,
        /// Last cleared.
        cleared,
        /// Last forgotten for good, on all devices.
        purged,
    }
    counts {
        /// How often it was copied, as far as one device has counted.
        copies: u32,
        /// How often it was recalled, as far as one device has counted.
        recalls: u32,
        /// When it was last recalled; zero for never.
        recalled_at: MillisSinceEpoch,
    }
    registers {
        /// The title.
        title: Option<String>,
        /// The colour mark.
        mark: Option<Mark>,
        /// The alias.
        alias: Option<String>,
        /// Whether placeholders are filled in.
        fills: bool,
        /// The place among the pinned ones.
        pin: Option<Rank>,
        /// The drawer, and the place in it.
        drawer: Option<InDrawer>,
    }
}

impl State {
    /// The same, with everything dropped that was given before it was forgotten for good.
    #[must_use]
    pub fn settled(self) -> Self {
        self.clone().merge(self)
    }

    /// The stamps that decide whether it is in the history; `swept` is this device's own.
    pub fn life(&self, swept: Stamp) -> Life {
        Life {
            copied: self.copied,
            restored: self.restored,
            deleted: self.deleted,
            cleared: self.cleared,
            swept,
            pinned: (self.pin.stamp, self.pin.value.is_some()),
            in_drawer: (self.drawer.stamp, self.drawer.value.is_some()),
        }
    }

    /// Whether it was forgotten for good, and not copied since.
    pub fn is_purged(&self) -> bool {
        self.purged != Stamp::NEVER && self.copied <= self.purged
    }

    /// Whether it is in the history.
    pub fn is_live(&self, swept: Stamp) -> bool {
        !self.is_purged() && self.life(swept).is_live()
    }

    /// Whether the copy that `other` tells of is later than the one that this tells of: then the formats of
    /// that copy are those that count.
    pub fn is_copied_before(&self, other: &Self) -> bool {
        (self.copied, self.origin) < (other.copied, other.origin)
    }
}

/// Two clips were given the same alias: whether the first is the one that loses it. The later wins.
pub fn loses_alias((stamp, id): (Stamp, ClipId), other: (Stamp, ClipId)) -> bool {
    (stamp, id) < other
}

/// The register of a clip that loses its alias, given at `own`, to one that was given it at `other`: later than
/// either, so that it stays lost when the two were given it with the same stamp.
pub fn lost_alias(own: Stamp, other: Stamp) -> Register<Option<String>> {
    Register::new(other.max(Stamp::from_bits(own.to_bits() + 1)), None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn stamp() -> impl Strategy<Value = Stamp> {
        (0u64..6).prop_map(Stamp::from_bits)
    }

    fn register<T: Clone + std::fmt::Debug>(
        value: impl Strategy<Value = T>,
    ) -> impl Strategy<Value = Register<Option<T>>> {
        (stamp(), prop::option::of(value)).prop_map(|(stamp, value)| Register { stamp, value })
    }

    fn order() -> impl Strategy<Value = Rank> {
        prop::sample::select(vec!["b", "c", "mz"]).prop_map(|place| Rank::from_slice(place.as_bytes()).unwrap())
    }

    fn state() -> impl Strategy<Value = State> {
        let words = || prop::sample::select(vec!["lamp", "gel"]).prop_map(str::to_owned);
        let drawer = (0u8..2, order()).prop_map(|(drawer, place)| InDrawer { drawer: [drawer; 16], place });
        (
            (stamp(), 0u8..2, stamp(), stamp(), stamp(), stamp()),
            (0u32..3, 0u32..3, 0u64..3),
            (register(words()), register(prop::sample::select(Mark::ALL.to_vec())), register(words())),
            (stamp(), any::<bool>(), register(order()), register(drawer)),
        )
            .prop_map(|(stamps, counts, (title, mark, alias), (filled, fills, pin, drawer))| State {
                copied: stamps.0,
                origin: DeviceId([stamps.1; 16]),
                restored: stamps.2,
                deleted: stamps.3,
                cleared: stamps.4,
                purged: stamps.5,
                copies: counts.0,
                recalls: counts.1,
                recalled_at: MillisSinceEpoch(counts.2),
                title,
                mark,
                alias,
                fills: Register::new(filled, fills),
                pin,
                drawer,
            })
            .prop_map(State::settled)
    }

    proptest! {
        #[test]
        fn the_order_of_merging_makes_no_difference(a in state(), b in state(), c in state()) {
            let ab = a.clone().merge(b.clone());
            prop_assert_eq!(&ab, &b.clone().merge(a.clone()));
            prop_assert_eq!(ab.clone().merge(c.clone()), a.clone().merge(b.clone().merge(c)));
            prop_assert_eq!(&a.clone().merge(a.clone()), &a);
            // Nothing is unlearnt.
            prop_assert_eq!(&a.clone().merge(ab.clone()), &ab);
            prop_assert!(ab.latest() >= a.latest().min(ab.purged));
        }

        #[test]
        fn what_was_forgotten_for_good_comes_back_by_a_later_copy_only(
            a in state(), forgotten in 6u64..9, later in state(),
        ) {
            let forgotten = Stamp::from_bits(forgotten);
            let gone = State { purged: forgotten, deleted: forgotten, ..State::default() };
            let merged = a.merge(gone).merge(later);
            prop_assert!(!merged.is_live(Stamp::NEVER));
            prop_assert_eq!(&merged.title, &Register::default());
            let again = State { copied: Stamp::from_bits(forgotten.to_bits() + 1), ..State::default() };
            prop_assert!(merged.merge(again).is_live(Stamp::NEVER));
        }

        #[test]
        fn kept_wins_over_a_clear_made_elsewhere(a in state(), cleared in stamp(), place in order()) {
            let pinned = State {
                copied: Stamp::from_bits(7),
                pin: Register::new(Stamp::from_bits(7), Some(place)),
                ..State::default()
            };
            let cleared = State { cleared: Stamp::from_bits(cleared.to_bits() + 20), ..State::default() };
            prop_assert!(a.merge(cleared).merge(pinned).is_live(Stamp::NEVER));
        }
    }

    #[test]
    fn of_two_aliases_the_later_stays() {
        let (early, late) = (Stamp::from_bits(1), Stamp::from_bits(2));
        let (one, two) = (ClipId([1; 16]), ClipId([2; 16]));
        assert!(loses_alias((early, two), (late, one)));
        assert!(!loses_alias((late, one), (early, two)));
        assert!(loses_alias((early, one), (early, two)) && !loses_alias((early, two), (early, one)));
        let (had, lost) = (Register::new(early, Some("sig".into())), lost_alias(early, early));
        assert!(lost > had && lost < lost_alias(early, Stamp::from_bits(9)));
    }
}
