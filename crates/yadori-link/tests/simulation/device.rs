//! A simulated device: its records, what a person does at it, and what it takes in, as the records of a service do.

use bytes::Bytes;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;
use yadori_core::format::PLAIN;
use yadori_core::merge::{Register, State, loses_alias, lost_alias};
use yadori_core::shared::{ALONG_BYTES, Body, BodyFormat, Clip, Hash, Item};
use yadori_core::{ClipId, DeviceId, HybridClock, Kind, MillisSinceEpoch, Rank, Stamp};
use yadori_link::frame::CHUNK;

/// A generator of numbers that is the same everywhere (SplitMix64, Steele et al. 2014).
pub struct TestRng(pub u64);

impl TestRng {
    pub fn roll(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, limit: usize) -> usize {
        (self.roll() % limit as u64) as usize
    }

    pub fn one_in(&mut self, times: usize) -> bool {
        self.below(times) == 0
    }
}

/// What a clip of this name consists of: small ones travel along, large ones are asked for.
pub fn content(name: u8) -> Bytes {
    let size = match name % 4 {
        0 => 700_000,
        1 => CHUNK + 1,
        _ => 40,
    };
    Bytes::from(vec![name; size])
}

pub fn id(name: u8) -> ClipId {
    static IDS: LazyLock<Vec<ClipId>> =
        LazyLock::new(|| (0..=u8::MAX).map(|name| ClipId::of(Kind::Text, &content(name))).collect());
    IDS[usize::from(name)]
}

pub fn body(name: u8) -> Body {
    let data = content(name);
    let hash = *blake3::hash(&data).as_bytes();
    let size = data.len() as u64;
    let data = (data.len() <= ALONG_BYTES).then_some(data);
    Body { size, formats: vec![BodyFormat { mime: PLAIN.into(), size, hash, data }], ..Body::default() }
}

#[derive(Clone)]
pub struct Row {
    pub state: State,
    pub swept: Stamp,
    pub seq: u64,
    pub body: Option<Body>,
}

/// The records of one device, as durable as a database: they outlive a crash.
#[derive(Clone)]
pub struct Records {
    pub feed: [u8; 8],
    pub seq: u64,
    pub clips: BTreeMap<ClipId, Row>,
    pub blobs: BTreeMap<Hash, (Vec<u8>, u64)>,
    pub cursors: BTreeMap<usize, ([u8; 8], u64)>,
    /// How far the others have this feed.
    pub acknowledged: BTreeMap<usize, u64>,
    /// What is left of traces that some have not passed.
    pub hashed: BTreeMap<ClipId, State>,
}

/// States of clips that came to be.
pub type Known = Vec<(ClipId, State)>;

pub struct Device {
    pub own: DeviceId,
    pub clock: HybridClock,
    pub skew: i64,
    pub records: Records,
    /// Content that came over a link, to find what came twice.
    pub fetched: BTreeMap<Hash, u64>,
    /// Who was asked for content and does not have it.
    pub in_vain: BTreeSet<(Hash, usize)>,
}

impl Device {
    pub fn new(number: usize, skew: i64) -> Self {
        let feed = [number as u8 + 1; 8];
        let records = Records {
            feed,
            seq: 0,
            clips: BTreeMap::new(),
            blobs: BTreeMap::new(),
            cursors: BTreeMap::new(),
            acknowledged: BTreeMap::new(),
            hashed: BTreeMap::new(),
        };
        let own = DeviceId([number as u8 + 1; 16]);
        Self { own, clock: HybridClock::default(), skew, records, fetched: BTreeMap::new(), in_vain: BTreeSet::new() }
    }

    pub fn now(&self, time: u64) -> MillisSinceEpoch {
        MillisSinceEpoch((time as i64 + self.skew) as u64)
    }

    pub fn put(&mut self, id: ClipId, row: Row) {
        self.records.seq += 1;
        self.records.clips.insert(id, Row { seq: self.records.seq, ..row });
    }

    pub fn row(&self, id: ClipId) -> Row {
        let empty = Row { state: State::default(), swept: Stamp::NEVER, seq: 0, body: None };
        self.records.clips.get(&id).cloned().unwrap_or(empty)
    }

    pub fn is_live(&self, id: ClipId) -> bool {
        self.records.clips.get(&id).is_some_and(|row| row.state.is_live(row.swept))
    }

    /// Something that a person, or the rules, do. Gives the states that came of it.
    pub fn act(&mut self, dice: &mut TestRng, time: u64, edits: bool) -> Known {
        let name = dice.below(12) as u8;
        let clip = id(name);
        let stamp = self.clock.tick(self.now(time));
        let what = dice.below(if edits { 16 } else { 14 });
        if what > 13 && self.is_live(clip) {
            let into = dice.below(12) as u8;
            return if into == name { Vec::new() } else { self.edit(clip, into, stamp, time) };
        }
        if what == 0 {
            // Everything that is not kept is cleared.
            let going: Vec<ClipId> = self.records.clips.keys().copied().filter(|id| self.is_live(*id)).collect();
            let going: Vec<ClipId> =
                going.into_iter().filter(|id| !self.row(*id).state.life(Stamp::NEVER).is_kept()).collect();
            return going.into_iter().map(|id| self.change(id, |row| row.state.cleared = stamp)).collect();
        }
        // What has no content any more, or never had, cannot be brought back.
        let restorable = what == 12 && self.row(clip).body.is_some();
        if what <= 5 || !self.is_live(clip) && !restorable {
            return vec![self.copy(name, stamp)];
        }
        let place = Rank::from_slice([b'b' + name].as_slice());
        vec![match what {
            6 => self.change(clip, |row| row.state.pin = Register::new(stamp, place)),
            7 => self.change(clip, |row| row.state.pin = Register::new(stamp, None)),
            8 => self.change(clip, |row| row.state.title = Register::new(stamp, Some(format!("title {stamp:?}")))),
            9 => self.change(clip, |row| row.state.deleted = stamp),
            10 => {
                // It is another's no more.
                let holder = self.records.clips.iter().find(|(_, row)| row.state.alias.value.is_some());
                let holder = holder.map(|(id, _)| *id).filter(|holder| *holder != clip);
                let mut all: Vec<_> = holder
                    .map(|holder| self.change(holder, |row| row.state.alias = Register::new(stamp, None)))
                    .into_iter()
                    .collect();
                all.push(self.change(clip, |row| row.state.alias = Register::new(stamp, Some("sig".into()))));
                return all;
            }
            11 => self.change(clip, |row| {
                row.state.purged = stamp;
                row.state.deleted = stamp;
            }),
            12 => self.change(clip, |row| row.state.restored = stamp),
            _ => {
                // Swept here only; nobody else hears of it.
                let mut row = self.row(clip);
                row.swept = stamp;
                self.put(clip, row);
                return Vec::new();
            }
        }]
    }

    pub fn copy(&mut self, name: u8, stamp: Stamp) -> (ClipId, State) {
        let own = self.own;
        let data = content(name);
        let hash = *blake3::hash(&data).as_bytes();
        self.records.blobs.insert(hash, (data.to_vec(), data.len() as u64));
        self.change(id(name), |row| {
            row.state.copied = stamp;
            row.state.origin = own;
            row.state.copies += 1;
            row.body = Some(body(name));
        })
    }

    /// What a clip says is changed: another clip takes its place and what it was given, and it goes to the bin.
    pub fn edit(&mut self, old: ClipId, into: u8, stamp: Stamp, time: u64) -> Known {
        let had = self.row(old).state;
        let mut made = vec![self.copy(into, stamp)];
        made.push(self.change(id(into), |row| {
            if had.pin.value.is_some() {
                row.state.pin = Register::new(stamp, had.pin.value.clone());
            }
            if had.title.value.is_some() {
                row.state.title = Register::new(stamp, had.title.value.clone());
            }
        }));
        if had.alias.value.is_some() {
            made.push(self.change(old, |row| row.state.alias = Register::new(stamp, None)));
            made.push(self.change(id(into), |row| row.state.alias = Register::new(stamp, had.alias.value.clone())));
        }
        let later = self.clock.tick(self.now(time));
        made.push(self.change(old, |row| row.state.deleted = later));
        made
    }

    pub fn change(&mut self, id: ClipId, change: impl FnOnce(&mut Row)) -> (ClipId, State) {
        let mut row = self.row(id);
        change(&mut row);
        row.state = row.state.settled();
        if row.state.is_purged() {
            row.body = None;
        }
        self.put(id, row.clone());
        (id, row.state)
    }

    /// Half a year has passed: no trace is kept as such. Of those that one of the others has not passed, a hashed tombstone stays, and
    /// that one is read anew. Whoever is connected will have passed it in a moment, and is waited for.
    pub fn forget_traces(&mut self, others: impl Iterator<Item = usize>, is_connected: impl Fn(usize) -> bool) {
        let records = &mut self.records;
        let behind: Vec<(usize, u64)> =
            others.map(|other| (other, records.acknowledged.get(&other).copied().unwrap_or(0))).collect();
        let waited_for = behind.iter().filter(|(other, _)| is_connected(*other)).map(|(_, acknowledged)| *acknowledged);
        let limit = waited_for.min().unwrap_or(u64::MAX);
        let gone: Vec<ClipId> = (records.clips.iter())
            .filter(|(_, row)| !row.state.is_live(Stamp::NEVER) && row.seq <= limit)
            .map(|(id, _)| *id)
            .collect();
        for id in gone {
            let Some(row) = records.clips.remove(&id) else { continue };
            let mut passed = true;
            for (other, _) in behind.iter().filter(|(_, acknowledged)| *acknowledged < row.seq) {
                passed = false;
                records.cursors.remove(other);
            }
            if passed {
                continue;
            }
            let state = row.state;
            let hashed = State {
                copied: state.copied,
                origin: state.origin,
                restored: state.restored,
                deleted: state.deleted,
                cleared: state.cleared,
                purged: state.purged,
                pin: Register::new(state.pin.stamp, None),
                ..State::default()
            };
            records.hashed.insert(id, hashed);
        }
    }

    pub fn read(&self, after: u64, until: u64) -> (u64, Vec<Item>) {
        let mut changed: Vec<(u64, Clip)> = self
            .records
            .clips
            .iter()
            .filter(|(_, row)| row.seq > after && row.seq <= until)
            .map(|(id, row)| {
                let body = row.body.clone().filter(|_| row.state.is_live(Stamp::NEVER));
                (row.seq, Clip { id: *id, kind: Kind::Text, state: row.state.clone(), body })
            })
            .collect();
        changed.sort_by_key(|(seq, _)| *seq);
        let more = changed.len() > 3;
        changed.truncate(3);
        let upto = if more { changed[2].0 } else { self.records.seq.min(until) };
        (upto, changed.into_iter().map(|(_, clip)| Item::Clip(Box::new(clip))).collect())
    }

    /// Takes in a batch as the records of a service do; gives what is wanted, the states that came of it, and the numbers
    /// of changes after which a clip is here just as it was told.
    pub fn apply(
        &mut self,
        from: usize,
        cursor: ([u8; 8], u64),
        items: &[Item],
    ) -> (Vec<(Hash, u64)>, Known, Vec<u64>) {
        let (mut wants, mut made, mut echoes) = (Vec::new(), Vec::new(), Vec::new());
        for item in items {
            let Item::Clip(said) = item else { continue };
            let mut told = said.clone();
            if let Some(hashed) = self.records.hashed.get(&told.id) {
                told.state = told.state.merge(hashed.clone());
                told.body = told.body.filter(|_| told.state.is_live(Stamp::NEVER));
            }
            self.clock.observe(told.state.latest());
            let known = self.records.clips.get(&told.id).cloned();
            let mut row = self.row(told.id);
            if known.is_none() && told.body.is_none() && told.state.is_live(Stamp::NEVER) {
                continue;
            }
            let mut merged = row.state.clone().merge(told.state.clone());
            if merged.alias.value.is_some() {
                let other =
                    self.records.clips.iter().find(|(id, row)| **id != told.id && row.state.alias.value.is_some());
                if let Some((other, stamp)) = other.map(|(id, row)| (*id, row.state.alias.stamp)) {
                    if loses_alias((merged.alias.stamp, told.id), (stamp, other)) {
                        merged.alias = lost_alias(merged.alias.stamp, stamp);
                    } else {
                        let lost = lost_alias(stamp, merged.alias.stamp);
                        made.push(self.change(other, |row| row.state.alias = lost));
                    }
                }
            }
            let later = row.state.is_copied_before(&told.state) || row.body.is_none();
            if later && told.body.is_some() {
                row.body = told.body.clone();
            }
            if merged.is_purged() {
                row.body = None;
            }
            if known.is_none() || merged != row.state || (later && told.body.is_some()) {
                made.push((told.id, merged.clone()));
                self.put(told.id, Row { state: merged.clone(), ..row.clone() });
            }
            if merged == said.state && (said.body.is_some() || !merged.is_live(Stamp::NEVER)) {
                echoes.push(self.row(told.id).seq);
            }
            for format in row.body.iter().flat_map(|body| &body.formats) {
                let blob = self.records.blobs.entry(format.hash).or_insert_with(|| match &format.data {
                    Some(data) => (data.to_vec(), format.size),
                    None => (Vec::new(), format.size),
                });
                if (blob.0.len() as u64) < blob.1 {
                    wants.push((format.hash, blob.0.len() as u64));
                }
            }
        }
        self.records.cursors.insert(from, cursor);
        (wants, made, echoes)
    }

    pub fn store(&mut self, hash: Hash, at: u64, data: &[u8]) -> (u64, bool, Vec<(u64, u64)>) {
        let mut moved = Vec::new();
        let Some((held, size)) = self.records.blobs.get_mut(&hash) else { return (0, true, moved) };
        if held.len() as u64 == at {
            held.extend_from_slice(data);
            *self.fetched.entry(hash).or_default() += data.len() as u64;
        }
        let (have, whole) = (held.len() as u64, held.len() as u64 == *size);
        if whole {
            assert_eq!(*blake3::hash(held).as_bytes(), hash);
            // It is told on: somebody may have asked in vain.
            let ids: Vec<ClipId> = self.records.clips.keys().copied().collect();
            for id in ids {
                let row = self.row(id);
                if row.body.iter().flat_map(|body| &body.formats).any(|format| format.hash == hash) {
                    let before = row.seq;
                    self.put(id, row);
                    moved.push((before, self.row(id).seq));
                }
            }
        }
        (have, whole, moved)
    }
}
