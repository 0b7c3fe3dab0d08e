//! Which clip has an id.

use super::Clip;
use crate::identity::ClipId;
use crate::search::by_place::each_by_place;
use hashbrown::hash_table::Entry;
use hashbrown::{DefaultHashBuilder, HashTable};
use std::hash::BuildHasher;

/// The slots of the clips by their ids, which stand with the clips only.
#[derive(Default)]
pub(in super::super) struct ById {
    slots: HashTable<u32>,
    hasher: DefaultHashBuilder,
}

impl ById {
    /// Those of these clips, of which none is missing; nothing if two have the same id.
    pub fn of(clips: &[Option<Clip>]) -> Option<Self> {
        let hasher = DefaultHashBuilder::default();
        let mut slots = HashTable::with_capacity(clips.len());
        let mut differ = true;
        let hash = |slot: u32| hash_at(&hasher, clips, slot);
        each_by_place(clips.len() as u32, hash, |hash, slot| {
            let is_of_it = |other: &u32| has_same_id(clips, *other, slot);
            match slots.entry(hash, is_of_it, |slot| hash_at(&hasher, clips, *slot)) {
                Entry::Occupied(_) => differ = false,
                Entry::Vacant(place) => drop(place.insert(slot)),
            }
        });
        differ.then_some(Self { slots, hasher })
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

fn has_same_id(clips: &[Option<Clip>], slot: u32, other: u32) -> bool {
    clips[other as usize].as_ref().is_none_or(|clip| has_id(clips, slot, clip.id))
}
