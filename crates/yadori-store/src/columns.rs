//! The columns of `clips` that hold a clip's state, declared once.
//!
//! A macro makes the row, the lists of columns in the statements, and the list of stamps from one line each. A table of
//! registers, keyed by clip and field, would need no columns at all, but some ten rows for each clip, and no index could tell
//! what is pinned or gone. The statements are put together when the service runs, so that the compiler does not check them:
//! the tests do, against the schema.

use crate::statements::Literal;
use sqlx::FromRow;
use yadori_core::merge::{InDrawer, Register, State};
use yadori_core::{DeviceId, Mark, MillisSinceEpoch, Rank, Stamp};

/// A column that holds a stamp: always there, or only if it was ever given.
trait StampColumn {
    fn change(&mut self, change: &mut dyn FnMut(&mut u64));
}

impl StampColumn for u64 {
    fn change(&mut self, change: &mut dyn FnMut(&mut Self)) {
        change(self);
    }
}

impl StampColumn for Option<u64> {
    fn change(&mut self, change: &mut dyn FnMut(&mut u64)) {
        self.iter_mut().for_each(change);
    }
}

/// The columns of [`COLUMNS`] that have no default.
pub(crate) const WITHOUT_DEFAULT: [&str; 3] = ["copied", "device", "copies"];

macro_rules! columns {
    (stamps { $($stamp:ident: $stamp_type:ty,)* } values { $($value:ident: $type:ty,)* }) => {
        /// The columns of `clips` that hold a clip's state, as the database has them.
        #[derive(Clone, Debug, Default, PartialEq, Eq, FromRow)]
        pub(crate) struct Columns {
            $(pub $stamp: $stamp_type,)*
            $(pub $value: $type,)*
        }

        /// The columns of `clips` that hold stamps.
        pub const STAMPS_OF_CLIPS: &[&str] = &[$(stringify!($stamp)),*];

        /// All columns.
        pub(crate) const COLUMNS: &[&str; HOW_MANY] = &[$(stringify!($stamp),)* $(stringify!($value)),*];

        /// How many there are.
        pub(crate) const HOW_MANY: usize = [$(stringify!($stamp),)* $(stringify!($value)),*].len();

        impl Columns {
            /// Changes every stamp that was ever given.
            pub fn change_stamps(&mut self, mut change: impl FnMut(&mut u64)) {
                $(StampColumn::change(&mut self.$stamp, &mut change);)*
            }

            /// All of them, in the order of [`COLUMNS`].
            pub fn values(&self) -> [&dyn Literal; HOW_MANY] {
                [$(&self.$stamp,)* $(&self.$value),*]
            }
        }
    };
}

columns! {
    stamps {
        copied: u64,
        restored: u64,
        deleted: u64,
        cleared: Option<u64>,
        swept: Option<u64>,
        purged: Option<u64>,
        title_stamp: Option<u64>,
        mark_stamp: Option<u64>,
        alias_stamp: Option<u64>,
        fills_stamp: Option<u64>,
        pin_stamp: Option<u64>,
        drawer_stamp: Option<u64>,
    }
    values {
        device: u32,
        copies: u32,
        recalls: u32,
        recalled_at: Option<u64>,
        title: Option<String>,
        mark: Option<u8>,
        alias: Option<String>,
        fills: bool,
        pin: Option<Vec<u8>>,
        drawer: Option<u32>,
        place: Option<Vec<u8>>,
    }
}

fn bits(stamp: Stamp) -> Option<u64> {
    (stamp != Stamp::NEVER).then(|| stamp.to_bits())
}

/// A stamp that may never have been given.
pub(crate) fn stamp(bits: Option<u64>) -> Stamp {
    Stamp::from_bits(bits.unwrap_or(0))
}

fn rank(bytes: Option<&Vec<u8>>) -> Option<Rank> {
    bytes.and_then(|bytes| Rank::from_slice(bytes))
}

impl Columns {
    /// A state as columns. `device` and `drawer` are the numbers of what the state names by ids; `swept` is this device's
    /// own stamp, which is no part of the state.
    pub fn of(state: &State, device: u32, drawer: Option<u32>, swept: Stamp) -> Self {
        Self {
            copied: state.copied.to_bits(),
            restored: state.restored.to_bits(),
            deleted: state.deleted.to_bits(),
            cleared: bits(state.cleared),
            swept: bits(swept),
            purged: bits(state.purged),
            title_stamp: bits(state.title.stamp),
            mark_stamp: bits(state.mark.stamp),
            alias_stamp: bits(state.alias.stamp),
            fills_stamp: bits(state.fills.stamp),
            pin_stamp: bits(state.pin.stamp),
            drawer_stamp: bits(state.drawer.stamp),
            device,
            copies: state.copies,
            recalls: state.recalls,
            recalled_at: (state.recalled_at.0 > 0).then_some(state.recalled_at.0),
            title: state.title.value.clone(),
            mark: state.mark.value.map(Mark::code),
            alias: state.alias.value.clone(),
            fills: state.fills.value,
            pin: state.pin.value.as_ref().map(|pin| pin.as_bytes().to_vec()),
            drawer,
            place: state.drawer.value.as_ref().map(|lies| lies.place.as_bytes().to_vec()),
        }
    }

    /// The state that these columns hold; the device and the drawer are known by these ids.
    pub fn state(&self, origin: DeviceId, drawer: Option<[u8; 16]>) -> State {
        // A title that came with the copy has no stamp of its own; it is as old as the clip.
        let title_stamp = match (self.title_stamp, &self.title) {
            (None, Some(_)) => Some(1),
            (stamp, _) => stamp,
        };
        let lies = drawer.zip(rank(self.place.as_ref())).map(|(drawer, place)| InDrawer { drawer, place });
        let state = State {
            copied: Stamp::from_bits(self.copied),
            origin,
            restored: Stamp::from_bits(self.restored),
            deleted: Stamp::from_bits(self.deleted),
            cleared: stamp(self.cleared),
            purged: stamp(self.purged),
            copies: self.copies,
            recalls: self.recalls,
            recalled_at: MillisSinceEpoch(self.recalled_at.unwrap_or(0)),
            title: Register::new(stamp(title_stamp), self.title.clone()),
            mark: Register::new(stamp(self.mark_stamp), self.mark.and_then(Mark::from_code)),
            alias: Register::new(stamp(self.alias_stamp), self.alias.clone()),
            fills: Register::new(stamp(self.fills_stamp), self.fills),
            pin: Register::new(stamp(self.pin_stamp), rank(self.pin.as_ref())),
            drawer: Register::new(stamp(self.drawer_stamp), lies),
        };
        state.settled()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_comes_back_from_its_columns() {
        let register = |number| Stamp::from_bits(number);
        let state = State {
            copied: register(40),
            origin: DeviceId([3; 16]),
            restored: register(41),
            deleted: register(42),
            cleared: register(43),
            purged: register(1),
            copies: 4,
            recalls: 5,
            recalled_at: MillisSinceEpoch(6),
            title: Register::new(register(44), Some("Lamp 7".into())),
            mark: Register::new(register(45), Some(Mark::ALL[1])),
            alias: Register::new(register(46), Some("lamp".into())),
            fills: Register::new(register(47), true),
            pin: Register::new(register(48), Rank::from_slice(b"bm")),
            drawer: Register::new(
                register(49),
                Some(InDrawer { drawer: [7; 16], place: Rank::from_slice(b"cm").unwrap() }),
            ),
        };
        let mut columns = Columns::of(&state, 9, Some(8), register(50));
        assert_eq!(columns.state(state.origin, Some([7; 16])), state);
        let mut stamps = Vec::new();
        columns.change_stamps(|stamp| stamps.push(*stamp));
        assert_eq!(stamps.len(), STAMPS_OF_CLIPS.len());
        // What lies in no drawer, and has no title stamp, as very old clips.
        columns.title_stamp = None;
        assert_eq!(columns.state(state.origin, None).title.value, None, "it is older than what was forgotten for good");
    }
}
