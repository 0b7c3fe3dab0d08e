//! The tray: clips lined up first to last, then dealt one paste at a time.

use crate::identity::ClipId;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use thiserror::Error;

/// Most clips in the tray.
pub const MOST: usize = 1000;

/// An ordered batch of clips. The same clip may lie in it more than once: a form may ask for the same thing twice.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Tray {
    /// Whether copies join it.
    pub open: bool,
    /// Whether the next clip follows as soon as the last one was pasted.
    pub auto: bool,
    #[serde(serialize_with = "ids_out", deserialize_with = "ids_in")]
    items: Vec<ClipId>,
    dealt: usize,
}

/// Why the tray cannot do that.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
pub enum TrayError {
    /// There is no room.
    #[error("the tray holds at most {MOST} clips")]
    Full,
    /// There is no such place.
    #[error("there is no place {0} in the tray")]
    NoSuchPlace(usize),
    /// Nothing in it.
    #[error("the tray is empty")]
    Empty,
}

impl Tray {
    /// What lies in it, in its order.
    pub fn items(&self) -> &[ClipId] {
        &self.items
    }

    /// How many of them were dealt or passed over.
    pub fn dealt(&self) -> usize {
        self.dealt
    }

    /// What is still to be dealt.
    pub fn waiting(&self) -> &[ClipId] {
        &self.items[self.dealt..]
    }

    /// Empties it.
    pub fn empty(&mut self) {
        self.items.clear();
        self.dealt = 0;
        self.auto = false;
    }

    /// Adds clips at the end.
    ///
    /// # Errors
    /// When there is no room for all of them; none is added then.
    pub fn add(&mut self, clips: &[ClipId]) -> Result<(), TrayError> {
        if self.items.len() + clips.len() > MOST {
            return Err(TrayError::Full);
        }
        self.items.extend_from_slice(clips);
        Ok(())
    }

    /// Takes out the clip that was added last.
    ///
    /// # Errors
    /// When there is none.
    pub fn undo_last(&mut self) -> Result<ClipId, TrayError> {
        let last = self.items.pop().ok_or(TrayError::Empty)?;
        self.dealt = self.dealt.min(self.items.len());
        Ok(last)
    }

    /// Takes out the clip at `place`, counted from 1.
    ///
    /// # Errors
    /// When there is no such place.
    pub fn drop_at(&mut self, place: usize) -> Result<ClipId, TrayError> {
        let index = self.index(place)?;
        self.dealt -= usize::from(index < self.dealt);
        Ok(self.items.remove(index))
    }

    /// Moves the clip at `place` to `to`, counted from 1. How many were dealt stays as it is.
    ///
    /// # Errors
    /// When one of the places is not there.
    pub fn move_to(&mut self, place: usize, to: usize) -> Result<(), TrayError> {
        let (from, to) = (self.index(place)?, self.index(to)?);
        let clip = self.items.remove(from);
        self.items.insert(to, clip);
        Ok(())
    }

    fn index(&self, place: usize) -> Result<usize, TrayError> {
        let index = place.checked_sub(1).filter(|index| *index < self.items.len());
        index.ok_or(TrayError::NoSuchPlace(place))
    }

    /// Deals the first clip that waits, and moves on. `None` when all were dealt.
    pub fn deal(&mut self) -> Option<ClipId> {
        let clip = self.items.get(self.dealt).copied()?;
        self.dealt += 1;
        Some(clip)
    }

    /// Passes over the first clip that waits. `None` when all were dealt.
    pub fn skip(&mut self) -> Option<ClipId> {
        self.deal()
    }

    /// Goes one back: the clip dealt last waits again, and the one before it is given to be dealt once more.
    /// `None` at the beginning.
    pub fn back(&mut self) -> Option<ClipId> {
        self.dealt = self.dealt.checked_sub(1)?;
        self.items.get(self.dealt.checked_sub(1)?).copied()
    }

    /// Lets all clips wait again.
    pub fn restart(&mut self) {
        self.dealt = 0;
        self.auto = false;
    }

    /// Takes over from `other` how many were dealt, and whether the next follows by itself.
    pub fn stand_as(&mut self, other: &Self) {
        self.dealt = other.dealt.min(self.items.len());
        self.auto = other.auto;
    }

    /// Takes out every clip for which `gone` holds. Tells whether there was one.
    pub fn prune(&mut self, mut gone: impl FnMut(ClipId) -> bool) -> bool {
        let before = self.items.len();
        let mut index = 0;
        let mut dealt = self.dealt;
        self.items.retain(|clip| {
            let stays = !gone(*clip);
            dealt -= usize::from(!stays && index < self.dealt);
            index += 1;
            stays
        });
        self.dealt = dealt;
        self.items.len() != before
    }
}

fn ids_out<S: Serializer>(ids: &[ClipId], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(ids.iter().map(ClipId::to_string))
}

fn ids_in<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<ClipId>, D::Error> {
    let texts: Vec<String> = Vec::deserialize(deserializer)?;
    Ok(texts.iter().filter_map(|text| ClipId::parse(text)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kind::Kind;
    use proptest::prelude::*;

    fn clip(number: u8) -> ClipId {
        ClipId::of(Kind::Text, &[number])
    }

    fn tray(numbers: impl IntoIterator<Item = u8>) -> Tray {
        let mut tray = Tray::default();
        tray.add(&numbers.into_iter().map(clip).collect::<Vec<_>>()).unwrap();
        tray
    }

    #[test]
    fn what_was_gathered_first_is_dealt_first() {
        let mut tray = tray([1, 2, 2, 3]);
        assert_eq!([tray.deal(), tray.deal()], [Some(clip(1)), Some(clip(2))]);
        assert_eq!(tray.back(), Some(clip(1)));
        assert_eq!(
            (tray.deal(), tray.skip(), tray.deal(), tray.deal()),
            (Some(clip(2)), Some(clip(2)), Some(clip(3)), None)
        );
        tray.restart();
        assert_eq!(tray.deal(), Some(clip(1)));
        assert_eq!((tray.back(), tray.back()), (None, None));
        assert_eq!(tray.waiting().len(), 4);
    }

    #[test]
    fn it_can_be_put_in_order() {
        let mut tray = tray([1, 2, 3]);
        tray.move_to(3, 1).unwrap();
        assert_eq!(tray.items(), [clip(3), clip(1), clip(2)]);
        tray.deal();
        assert_eq!(tray.drop_at(1), Ok(clip(3)));
        assert_eq!((tray.dealt(), tray.undo_last()), (0, Ok(clip(2))));
        assert_eq!(tray.drop_at(9), Err(TrayError::NoSuchPlace(9)));
        assert_eq!(tray.add(&vec![clip(1); MOST]), Err(TrayError::Full));
    }

    proptest! {
        #[test]
        fn whatever_is_done_the_place_stays_within_and_it_survives_being_written_out(
            acts in prop::collection::vec((0u8..8, 0usize..6, 0usize..6), 0..40)
        ) {
            let mut tray = Tray::default();
            for (act, a, b) in acts {
                match act {
                    0 | 1 => tray.add(&[clip(a as u8)]).unwrap(),
                    2 => drop(tray.deal()),
                    3 => drop(tray.back()),
                    4 => drop(tray.drop_at(a)),
                    5 => drop(tray.move_to(a, b)),
                    6 => drop(tray.undo_last()),
                    _ => drop(tray.prune(|id| id == clip(a as u8))),
                }
                prop_assert!(tray.dealt() <= tray.items().len());
            }
            let text = serde_json::to_string(&tray).unwrap();
            prop_assert_eq!(serde_json::from_str::<Tray>(&text).unwrap(), tray);
        }
    }
}
