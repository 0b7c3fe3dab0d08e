//! Which clip has an id.

use super::Clip;
use crate::identity::ClipId;
use hashbrown::{DefaultHashBuilder, HashTable};
use std::hash::BuildHasher;

/// The slots of the clips by their ids, which stand with the clips only.
#[derive(Default)]
pub(in super::super) struct ById {
    slots: HashTable<u32>,
    hasher: DefaultHashBuilder,
}

impl ById {
    /// Those of these clips; nothing if two have the same id.
    pub fn of(clips: &[Option<Clip>]) -> Option<Self> {
        let mut by_id = Self { slots: HashTable::with_capacity(clips.len()), ..Self::default() };
        let mut known = (0..).zip(clips).filter_map(|(slot, clip)| Some((slot, clip.as_ref()?.id)));
        known.all(|(slot, id)| by_id.insert(slot, id, clips)).then_some(by_id)
    }

    /// The slot of the clip with this id.
    pub fn get(&self, id: ClipId, clips: &[Option<Clip>]) -> Option<u32> {
        self.slots.find(self.hasher.hash_one(id), |slot| has_id(clips, *slot, id)).copied()
    }

    /// Notes the slot of a clip. Tells whether its id was not known yet; nothing is noted if it was.
    pub fn insert(&mut self, slot: u32, id: ClipId, clips: &[Option<Clip>]) -> bool {
        if self.get(id, clips).is_some() {
            return false;
        }
        let hash = self.hasher.hash_one(id);
        self.slots.insert_unique(hash, slot, |slot| hash_at(&self.hasher, clips, *slot));
        true
    }

    /// Takes an id out, while its clip is still in its slot, which is given.
    pub fn remove(&mut self, id: ClipId, clips: &[Option<Clip>]) -> Option<u32> {
        let entry = self.slots.find_entry(self.hasher.hash_one(id), |slot| has_id(clips, *slot, id)).ok()?;
        Some(entry.remove().0)
    }

    /// Gives back memory that growing has taken in advance.
    pub fn shrink(&mut self, clips: &[Option<Clip>]) {
        self.slots.shrink_to_fit(|slot| hash_at(&self.hasher, clips, *slot));
    }
}

fn hash_at(hasher: &DefaultHashBuilder, clips: &[Option<Clip>], slot: u32) -> u64 {
    clips[slot as usize].as_ref().map_or(0, |clip| hasher.hash_one(clip.id))
}

fn has_id(clips: &[Option<Clip>], slot: u32, id: ClipId) -> bool {
    clips[slot as usize].as_ref().is_some_and(|clip| clip.id == id)
}
