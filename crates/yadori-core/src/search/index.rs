//! All clips in memory, ready to be searched and to be counted from the newest.
//!
//! Each clip has a *slot*. Searching works on sets of slots: the [`Lexicon`] gives the slots of each
//! term, level by level (whole words, beginnings, inside words, misspellings), and the search goes on
//! to the next level only while it has found too few. Filters look at the clips that are left,
//! newest first. Nothing is read from the records.
//!
//! Memory: about 100 bytes a clip, its folded text, a byte or two for each word of it, and about 40 for a word of its own. A search is linear
//! in the number of distinct words and of clips that meet a term; placing a clip is a binary search.

mod by_id;
mod sought;

use super::bits::Bits;
use super::fold::fold;
use super::lexicon::Lexicon;
use super::place::{Key, Place, Tier};
use super::query::{Filter, Query};
use super::words::words;
use crate::clock::{MillisSinceEpoch, Stamp};
use crate::identity::ClipId;
use crate::kind::Kind;
use crate::retention::Candidate;
pub(super) use by_id::ById;
use sought::Sought;
use std::collections::HashMap;

/// What the index needs to know of a clip.
#[derive(Clone, Debug, Default)]
pub struct Entry<'a> {
    /// Its number in the records.
    pub number: u64,
    /// When it was last copied: its place in the history.
    pub copied: Stamp,
    /// When it was last recalled, if ever.
    pub recalled: Option<MillisSinceEpoch>,
    /// How often it was copied and recalled.
    pub uses: u32,
    /// Its size in bytes.
    pub size: u64,
    /// Its words; empty for a sensitive clip, which is not found by them.
    pub text: &'a str,
    /// Its title or caption.
    pub title: Option<&'a str>,
    /// The page it was copied from.
    pub page: Option<&'a str>,
    /// The application it was copied in.
    pub application: Option<&'a str>,
    /// The device it was copied on.
    pub device: &'a str,
    /// What its age is counted from.
    pub touched: Stamp,
    /// The drawer it lies in.
    pub drawer: Option<&'a str>,
    /// Whether it is pinned.
    pub pinned: bool,
    /// Whether it is sensitive: a secret, or what may be one.
    pub sensitive: bool,
    /// Whether it surely is a secret, which goes after a while.
    pub secret: bool,
}

/// A clip that meets a query.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Hit {
    /// The clip.
    pub id: ClipId,
    /// Its number in the records.
    pub number: u64,
    /// How well it meets the query.
    pub tier: Tier,
}

pub(super) struct Clip {
    pub(super) id: ClipId,
    pub(super) number: u64,
    pub(super) copied: Stamp,
    pub(super) touched: Stamp,
    pub(super) recalled: MillisSinceEpoch,
    pub(super) size: u64,
    pub(super) text_start: usize,
    pub(super) text_len: u32,
    pub(super) uses: u32,
    pub(super) application: u32,
    pub(super) device: u32,
    pub(super) drawer: u32,
    pub(super) kind: Kind,
    pub(super) pinned: bool,
    pub(super) sensitive: bool,
    pub(super) secret: bool,
}

impl Clip {
    /// Its place in the history.
    pub(super) fn key(&self) -> Key {
        (self.copied, self.id)
    }
}

/// The clips of a history.
#[derive(Default)]
pub struct Index {
    pub(super) clips: Vec<Option<Clip>>,
    pub(super) by_id: ById,
    /// Slots of the live clips, oldest first.
    pub(super) order: Vec<u32>,
    /// Folded texts, one after the other.
    pub(super) texts: String,
    pub(super) lexicon: Lexicon,
    pub(super) names: Names,
    /// Bytes of `texts` that no clip uses any more.
    pub(super) waste: usize,
}

/// Applications, devices and drawers, each once. 0 is none.
#[derive(Default)]
pub(super) struct Names {
    pub(super) given: Vec<String>,
    pub(super) folded: Vec<String>,
    pub(super) numbers: HashMap<String, u32>,
}

impl Names {
    fn number(&mut self, name: Option<&str>) -> u32 {
        let Some(name) = name else { return 0 };
        if let Some(number) = self.numbers.get(name) {
            return *number;
        }
        self.folded.push(fold(name));
        self.given.push(name.to_owned());
        self.numbers.insert(name.to_owned(), self.folded.len() as u32);
        self.folded.len() as u32
    }

    fn given(&self, number: u32) -> Option<&str> {
        (number as usize).checked_sub(1).map(|place| self.given[place].as_str())
    }

    fn folded(&self, number: u32) -> &str {
        (number as usize).checked_sub(1).map_or("", |place| &self.folded[place])
    }
}

/// How many clips of one tier are ranked among each other, the newest of them: ranking all of a hundred thousand that contain an
/// `e` would cost more than it tells.
const RANKED: usize = 200;

/// So many steps back through the history take as long as sorting one more clip. (In tests, both ways are taken all the time.)
const STEPS: usize = if cfg!(test) { 1 } else { 16 };

/// One more use counts as much as having been used this much more recently, at first; the worth of
/// further uses falls with their logarithm.
const USE_MILLIS: f64 = 24.0 * 3_600_000.0;

/// Separates the fields of a clip in its folded text; folding leaves no line ends.
const FIELD_END: char = '\n';

impl Index {
    /// How many clips there are.
    pub fn len(&self) -> usize {
        self.order.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.order.is_empty()
    }

    /// Adds a clip, or brings what is known of it up to date.
    pub fn put(&mut self, id: ClipId, kind: Kind, entry: &Entry) {
        let slot = self.put_without_place(id, kind, entry);
        let key = self.key(slot);
        let place = match self.order.last() {
            Some(newest) if self.key(*newest) <= key => self.order.len(),
            _ => self.order.partition_point(|other| self.key(*other) < key),
        };
        self.order.insert(place, slot);
    }

    /// Notes what is known of a clip, and gives its slot, which has no place in the order.
    fn put_without_place(&mut self, id: ClipId, kind: Kind, entry: &Entry) -> u32 {
        let folded = folded_text(entry);
        let unchanged = self.slot(id).filter(|slot| self.clip(*slot).is_some_and(|clip| self.text(clip) == folded));
        let (slot, text_start) = match unchanged {
            Some(slot) => {
                self.leave_order(slot);
                (slot, self.clip(slot).map_or(0, |clip| clip.text_start))
            }
            None => {
                // The lexicon would still find the old words in the old slot, so new words get a new one.
                self.remove(id);
                let slot = self.clips.len() as u32;
                self.clips.push(None);
                self.by_id.insert(slot, id, &self.clips);
                words(&folded).for_each(|(_, word)| self.lexicon.add(word, slot));
                let start = self.texts.len();
                self.texts.push_str(&folded);
                (slot, start)
            }
        };
        self.clips[slot as usize] = Some(Clip {
            id,
            number: entry.number,
            copied: entry.copied,
            touched: entry.touched,
            recalled: entry.recalled.unwrap_or_default(),
            size: entry.size,
            text_start,
            text_len: folded.len() as u32,
            uses: entry.uses,
            application: self.names.number(entry.application),
            device: self.names.number(Some(entry.device)),
            drawer: self.names.number(entry.drawer),
            kind,
            pinned: entry.pinned,
            sensitive: entry.sensitive,
            secret: entry.secret,
        });
        slot
    }

    /// Takes a clip out.
    pub fn remove(&mut self, id: ClipId) {
        let Some(slot) = self.slot(id) else { return };
        self.leave_order(slot);
        self.by_id.remove(id, &self.clips);
        if let Some(clip) = self.clips[slot as usize].take() {
            self.waste += clip.text_len as usize;
        }
        self.drop_waste();
    }

    /// Takes many clips out in one go: linear in the number of all clips.
    pub fn remove_all(&mut self, ids: &[ClipId]) {
        for id in ids {
            let clip = self.by_id.remove(*id, &self.clips).and_then(|slot| self.clips[slot as usize].take());
            self.waste += clip.map_or(0, |clip| clip.text_len as usize);
        }
        self.order.retain(|slot| self.clips[*slot as usize].is_some());
        self.drop_waste();
    }

    /// Starts afresh with what is left when half of everything is waste.
    fn drop_waste(&mut self) {
        if self.waste > 1 << 16 && self.waste * 2 > self.texts.len() {
            self.rebuild();
        }
    }

    /// Gives back memory that growing has taken in advance.
    fn shrink(&mut self) {
        self.clips.shrink_to_fit();
        self.by_id.shrink(&self.clips);
        self.order.shrink_to_fit();
        self.texts.shrink_to_fit();
        self.lexicon.shrink();
    }

    fn rebuild(&mut self) {
        let old = std::mem::take(self);
        self.names = old.names;
        for slot in old.order {
            let Some(mut clip) = old.clips.get(slot as usize).and_then(Option::as_ref).map(Clip::copy) else {
                continue;
            };
            let text = &old.texts[clip.text_start..][..clip.text_len as usize];
            let slot = self.clips.len() as u32;
            clip.text_start = self.texts.len();
            self.texts.push_str(text);
            words(text).for_each(|(_, word)| self.lexicon.add(word, slot));
            self.by_id.insert(slot, clip.id, &self.clips);
            self.order.push(slot);
            self.clips.push(Some(clip));
        }
    }

    /// What the history is ordered by. Of clips copied at the same stamp the one with the greater id is the newer, so
    /// that all linked devices number them alike.
    fn key(&self, slot: u32) -> Key {
        self.clips[slot as usize].as_ref().map_or((Stamp::NEVER, ClipId([0; 16])), Clip::key)
    }

    fn leave_order(&mut self, slot: u32) {
        if let Some(place) = self.place(slot) {
            self.order.remove(place);
        }
    }

    fn place(&self, slot: u32) -> Option<usize> {
        let key = self.key(slot);
        let place = self.order.partition_point(|other| self.key(*other) < key);
        (self.order.get(place) == Some(&slot)).then_some(place)
    }

    pub(super) fn text(&self, clip: &Clip) -> &str {
        &self.texts[clip.text_start..][..clip.text_len as usize]
    }

    pub(super) fn clip(&self, slot: u32) -> Option<&Clip> {
        self.clips[slot as usize].as_ref()
    }

    fn slot(&self, id: ClipId) -> Option<u32> {
        self.by_id.get(id, &self.clips)
    }

    fn clip_of(&self, id: ClipId) -> Option<&Clip> {
        self.slot(id).and_then(|slot| self.clip(slot))
    }

    /// The place of a clip in the history, 1 = newest.
    pub fn position(&self, id: ClipId) -> Option<usize> {
        let place = self.place(self.slot(id)?)?;
        Some(self.order.len() - place)
    }

    /// The clip at this place of the history, 1 = newest.
    pub fn at(&self, position: usize) -> Option<ClipId> {
        let place = self.order.len().checked_sub(position)?;
        Some(self.clip(*self.order.get(place)?)?.id)
    }

    /// The clips whose ids begin with `prefix` (lower-case), at most `most` of them.
    pub fn with_prefix(&self, prefix: &str, most: usize) -> Vec<ClipId> {
        if let Some(id) = ClipId::parse(prefix) {
            return self.slot(id).map(|_| id).into_iter().collect();
        }
        let newest_first = self.order.iter().rev().filter_map(|slot| self.clip(*slot));
        newest_first.map(|clip| clip.id).filter(|id| id.to_string().starts_with(prefix)).take(most).collect()
    }

    /// Up to `most` clips copied before `before` (the stamp and id of a clip; `None` to begin at
    /// the newest), newest first.
    pub fn page(&self, before: Option<Key>, most: usize) -> Vec<Hit> {
        self.newest_below(before).take(most).map(|clip| hit(clip, Tier::Exact)).collect()
    }

    /// Every clip as the retention rules see it, newest first, with its id.
    pub fn candidates(&self) -> Vec<(ClipId, Candidate<'_>)> {
        let newest_first = self.order.iter().rev().filter_map(|slot| self.clip(*slot));
        newest_first.map(|clip| (clip.id, self.candidate(clip))).collect()
    }

    /// The clips that all of these filters let through, as the retention rules see them, newest first.
    pub fn filtered<'a>(&'a self, filters: &'a [Filter]) -> impl Iterator<Item = (ClipId, Candidate<'a>)> {
        let met = self.newest_below(None).filter(|clip| filters.iter().all(|filter| self.holds(filter, clip)));
        met.map(|clip| (clip.id, self.candidate(clip)))
    }

    /// When a clip was last copied.
    pub fn copied_at(&self, id: ClipId) -> Option<Stamp> {
        self.clip_of(id).map(|clip| clip.copied)
    }

    /// The application a clip was copied in.
    pub fn application_of(&self, id: ClipId) -> Option<&str> {
        let clip = self.clip_of(id)?;
        self.names.given(clip.application)
    }

    /// The clips that were used more than once, most used first, the newest of equals first.
    pub fn most_used(&self, most: usize) -> Vec<ClipId> {
        let mut used: Vec<&Clip> =
            self.order.iter().rev().filter_map(|slot| self.clip(*slot)).filter(|clip| clip.uses > 1).collect();
        used.sort_by_key(|clip| std::cmp::Reverse(clip.uses));
        used.into_iter().take(most).map(|clip| clip.id).collect()
    }

    /// One clip as the retention rules see it.
    pub fn candidate_of(&self, id: ClipId) -> Option<Candidate<'_>> {
        self.clip_of(id).map(|clip| self.candidate(clip))
    }

    fn candidate(&self, clip: &Clip) -> Candidate<'_> {
        Candidate {
            number: clip.number,
            touched: clip.touched,
            kind: clip.kind,
            application: self.names.folded(clip.application),
            size: clip.size,
            sensitive: clip.secret,
            kept: clip.pinned || clip.drawer != 0,
        }
    }

    /// The clips that meet `query`, best first: at most `most` of them, after a place. And the place of the last of them, if
    /// there are more.
    pub fn search(&self, query: &Query, after: Option<&Place>, most: usize) -> (Vec<Hit>, Option<Place>) {
        let mut found = self.found(query, after, most.saturating_add(1));
        let more = found.len() > most;
        found.truncate(most);
        let next = found.last().map(|(_, place)| *place).filter(|_| more);
        (found.into_iter().map(|(clip, place)| hit(clip, place.tier)).collect(), next)
    }

    fn found(&self, query: &Query, after: Option<&Place>, most: usize) -> Vec<(&Clip, Place)> {
        if query.terms.is_empty() && query.without.is_empty() {
            let below = after.map(|place| place.key);
            let met =
                self.newest_below(below).filter(|clip| query.filters.iter().all(|filter| self.holds(filter, clip)));
            let place = |clip: &Clip| Place { tier: Tier::Exact, ranked_down_to: None, worth: None, key: clip.key() };
            return met.take(most).map(|clip| (clip, place(clip))).collect();
        }
        let mut excluded = Bits::none(self.clips.len());
        for term in &query.without {
            self.sought(term).meet(self, Tier::Inside, |met| excluded.unite(met));
        }
        let mut terms: Vec<Sought<'_>> = query.terms.iter().map(|term| self.sought(term)).collect();
        let mut found: Vec<(&Clip, Place)> = Vec::new();
        for tier in Tier::ALL {
            let mut slots: Option<Bits> = None;
            for term in &mut terms {
                term.meet(self, tier, |met| match &mut slots {
                    Some(slots) => slots.intersect(met),
                    None => slots = Some(met.clone()),
                });
            }
            let mut slots = slots.unwrap_or_else(|| self.all());
            slots.subtract(&excluded);
            if after.is_none_or(|place| place.tier <= tier) {
                let after = after.filter(|place| place.tier == tier);
                self.find_in_tier(&slots, query, (tier, after), most, &mut found);
            }
            if found.len() >= most || query.terms.is_empty() {
                break;
            }
            excluded.unite(&slots);
        }
        found
    }

    /// The clips of one tier: the newest of them by their worth, the others by when they were copied.
    fn find_in_tier<'a>(
        &'a self,
        slots: &Bits,
        query: &Query,
        (tier, after): (Tier, Option<&Place>),
        most: usize,
        found: &mut Vec<(&'a Clip, Place)>,
    ) {
        let ranks = !query.terms.is_empty();
        let mut below = after.map(|place| place.key);
        let mut ranked_down_to = after.and_then(|place| place.ranked_down_to);
        if ranks && after.is_none_or(|place| place.worth.is_some()) {
            let ranked = match after {
                // Those that were ranked then, and what has been copied since.
                Some(_) => self.newest(slots, (None, ranked_down_to), usize::MAX, &query.filters),
                None => self.newest(slots, (None, None), RANKED, &query.filters),
            };
            if after.is_none() && ranked.len() == RANKED {
                ranked_down_to = ranked.last().map(|clip| clip.key());
            }
            let mut ranked: Vec<(u64, Key, &Clip)> =
                ranked.into_iter().map(|clip| (worth(clip).to_bits(), clip.key(), clip)).collect();
            ranked.sort_unstable_by_key(|(worth, key, _)| std::cmp::Reverse((*worth, *key)));
            let last = after.and_then(|place| Some((place.worth?, place.key)));
            let to_come = ranked.into_iter().filter(|(worth, key, _)| last.is_none_or(|last| (*worth, *key) < last));
            found.extend(
                to_come
                    .take(most - found.len())
                    .map(|(worth, key, clip)| (clip, Place { tier, ranked_down_to, worth: Some(worth), key })),
            );
            if ranked_down_to.is_none() {
                return;
            }
            below = ranked_down_to;
        }
        let others = self.newest(slots, (below, None), most - found.len(), &query.filters);
        found.extend(
            others.into_iter().map(|clip| (clip, Place { tier, ranked_down_to, worth: None, key: clip.key() })),
        );
    }

    fn all(&self) -> Bits {
        let mut all = Bits::none(self.clips.len());
        self.order.iter().for_each(|slot| all.insert(*slot));
        all
    }

    /// Slots of the live clips below a place in the history, oldest first; of all of them if there is none.
    fn order_below(&self, below: Option<Key>) -> &[u32] {
        let end = below.map_or(self.order.len(), |key| self.order.partition_point(|slot| self.key(*slot) < key));
        &self.order[..end]
    }

    /// Live clips below a place in the history, newest first.
    fn newest_below(&self, below: Option<Key>) -> impl Iterator<Item = &Clip> {
        self.order_below(below).iter().rev().filter_map(|slot| self.clip(*slot))
    }

    /// The newest `most` live clips among `slots` for which the filters hold, newest first: below a place in the history, and
    /// down to another one.
    fn newest(
        &self,
        slots: &Bits,
        (below, down_to): (Option<Key>, Option<Key>),
        most: usize,
        filters: &[Filter],
    ) -> Vec<&Clip> {
        let met = |clip: &&Clip| filters.iter().all(|filter| self.holds(filter, clip));
        let from = down_to.map_or(0, |key| self.order.partition_point(|slot| self.key(*slot) < key));
        let places = self.order_below(below).get(from..).unwrap_or_default();
        // Many slots are soon met by walking back through the history, few are sooner sorted, and nobody knows where they lie. So one
        // walks for as long as it would take to sort them.
        let walked = &places[places.len().saturating_sub(slots.count().saturating_mul(STEPS))..];
        let newest_first = walked.iter().rev().filter(|slot| slots.contains(**slot));
        let clips: Vec<&Clip> = newest_first.filter_map(|slot| self.clip(*slot)).filter(met).take(most).collect();
        if clips.len() == most || walked.len() == places.len() {
            return clips;
        }
        let within =
            |clip: &&Clip| below.is_none_or(|key| clip.key() < key) && down_to.is_none_or(|key| clip.key() >= key);
        let clips = slots.iter().filter_map(|slot| self.clip(slot)).filter(within).filter(met);
        let mut clips: Vec<&Clip> = clips.collect();
        clips.sort_unstable_by_key(|clip| std::cmp::Reverse(clip.key()));
        clips.truncate(most);
        clips
    }

    fn holds(&self, filter: &Filter, clip: &Clip) -> bool {
        match filter {
            Filter::Kind(kind) => clip.kind == *kind,
            Filter::App(name) => clip.application != 0 && self.names.folded(clip.application).contains(name.as_str()),
            Filter::Device(name) => self.names.folded(clip.device).contains(name.as_str()),
            Filter::Drawer(name) => clip.drawer != 0 && self.names.folded(clip.drawer) == name,
            Filter::Pinned => clip.pinned,
            Filter::Kept => clip.pinned || clip.drawer != 0,
            Filter::Sensitive => clip.sensitive,
            Filter::Before(moment) => clip.copied.at() < *moment,
            Filter::After(moment) => clip.copied.at() >= *moment,
            Filter::Larger(bytes) => clip.size > *bytes,
            Filter::Not(filter) => !self.holds(filter, clip),
        }
    }
}

/// An index that is being filled with clips in any order, each once: quicker than adding one after the
/// other to its place.
#[derive(Default)]
pub struct Filling(Index);

impl Filling {
    /// Adds a clip.
    pub fn put(&mut self, id: ClipId, kind: Kind, entry: &Entry) {
        let slot = self.0.put_without_place(id, kind, entry);
        self.0.order.push(slot);
    }

    /// The index, with every clip in its place.
    pub fn finish(self) -> Index {
        let mut index = self.0;
        let mut order = std::mem::take(&mut index.order);
        order.sort_unstable_by_key(|slot| index.key(*slot));
        index.order = order;
        index.shrink();
        index
    }
}

impl Clip {
    fn copy(&self) -> Self {
        Self { ..*self }
    }
}

fn hit(clip: &Clip, tier: Tier) -> Hit {
    Hit { id: clip.id, number: clip.number, tier }
}

/// What a clip is worth beside others that meet a query equally well: how recently it was used, and
/// how often.
fn worth(clip: &Clip) -> f64 {
    let last = clip.copied.at().max(clip.recalled).0 as f64;
    last + USE_MILLIS * f64::from(clip.uses.max(1)).log2()
}

fn folded_text(entry: &Entry) -> String {
    let mut text = fold(entry.text);
    for field in [entry.title, entry.page, entry.application].into_iter().flatten() {
        text.push(FIELD_END);
        text.push_str(&fold(field));
    }
    text
}

#[cfg(test)]
mod tests;
