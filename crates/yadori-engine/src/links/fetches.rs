//! From whom content is being fetched: of several devices one at a time, and the next when one does not have it.

use std::collections::{BTreeSet, HashMap};
use yadori_core::DeviceId;
use yadori_core::shared::Hash;

/// One content.
#[derive(Debug, Default)]
struct Fetch {
    /// Bytes that are here.
    have: u64,
    /// Who is asked at present.
    from: Option<DeviceId>,
    /// Who does not have it, and will tell when that changes.
    in_vain: BTreeSet<DeviceId>,
}

/// All contents that are wanted.
#[derive(Debug, Default)]
pub(crate) struct Fetches(HashMap<Hash, Fetch>);

impl Fetches {
    /// A device has told of content of which `have` bytes are here, and may have it. Tells whether it is the one to
    /// be asked.
    pub fn claim(&mut self, hash: Hash, have: u64, device: DeviceId) -> bool {
        let fetch = self.0.entry(hash).or_default();
        fetch.have = fetch.have.max(have);
        fetch.in_vain.remove(&device);
        *fetch.from.get_or_insert(device) == device
    }

    /// Somebody wants content of which `have` bytes are here. Gives who is asked for it: the one who is, or of those
    /// that are connected one who has not been asked in vain. With `afresh`, if nobody is asked at present, all count
    /// as not asked.
    pub fn ask(&mut self, hash: Hash, have: u64, connected: &[DeviceId], afresh: bool) -> Asked {
        let fetch = self.0.entry(hash).or_default();
        fetch.have = fetch.have.max(have);
        if fetch.from.is_some_and(|from| connected.contains(&from)) {
            return Asked::Already;
        }
        if afresh {
            fetch.in_vain.clear();
        }
        fetch.next(connected)
    }

    /// A device does not have it: gives who is asked next.
    pub fn is_absent(&mut self, hash: Hash, device: DeviceId, connected: &[DeviceId]) -> Asked {
        let Some(fetch) = self.0.get_mut(&hash) else { return Asked::Nobody };
        fetch.in_vain.insert(device);
        if fetch.from == Some(device) { fetch.next(connected) } else { Asked::Already }
    }

    /// Whether anybody is being asked for anything.
    pub fn is_anybody_asked(&self) -> bool {
        self.0.values().any(|fetch| fetch.from.is_some())
    }

    /// So many bytes of it are here by now.
    pub fn has_come(&mut self, hash: Hash, have: u64) {
        if let Some(fetch) = self.0.get_mut(&hash) {
            fetch.have = have;
        }
    }

    /// It is here, or wanted no more.
    pub fn is_done(&mut self, hash: Hash) {
        self.0.remove(&hash);
    }

    /// A connection has ended; whatever that device has, it will tell when it is back.
    pub fn is_gone(&mut self, device: DeviceId) {
        for fetch in self.0.values_mut() {
            fetch.in_vain.remove(&device);
            fetch.from = fetch.from.filter(|from| *from != device);
        }
    }
}

impl Fetch {
    fn next(&mut self, connected: &[DeviceId]) -> Asked {
        self.from = connected.iter().copied().find(|device| !self.in_vain.contains(device));
        self.from.map_or(Asked::Nobody, |device| Asked::Now(device, self.have))
    }
}

/// Who is asked for content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// Somebody is already.
    Already,
    /// This one is to be, from this byte on.
    Now(DeviceId, u64),
    /// Nobody that is connected has it.
    Nobody,
}

#[cfg(test)]
mod tests {
    use super::*;

    const HASH: Hash = [7; 32];

    fn device(number: u8) -> DeviceId {
        DeviceId([number; 16])
    }

    #[test]
    fn each_is_asked_once_until_somebody_has_it() {
        let all = [device(1), device(2), device(3)];
        let mut fetches = Fetches::default();
        // The second tells of it; meanwhile nobody else is asked.
        assert!(fetches.claim(HASH, 0, device(2)));
        assert!(!fetches.claim(HASH, 0, device(3)));
        assert_eq!(fetches.ask(HASH, 0, &all, true), Asked::Already);
        fetches.has_come(HASH, 40);
        assert_eq!(fetches.is_absent(HASH, device(2), &all), Asked::Now(device(1), 40));
        assert_eq!(fetches.is_absent(HASH, device(1), &all), Asked::Now(device(3), 40));
        assert!(fetches.is_anybody_asked());
        assert_eq!(fetches.is_absent(HASH, device(3), &all), Asked::Nobody);
        assert!(!fetches.is_anybody_asked());
        assert_eq!(fetches.ask(HASH, 40, &all, false), Asked::Nobody);
        // Somebody wants it once more.
        assert_eq!(fetches.ask(HASH, 40, &all, true), Asked::Now(device(1), 40));
        assert_eq!(fetches.is_absent(HASH, device(1), &all), Asked::Now(device(2), 40));
        // One that did not have it has it now, but another is being asked.
        assert!(!fetches.claim(HASH, 40, device(1)));
        assert_eq!(fetches.is_absent(HASH, device(2), &all), Asked::Now(device(1), 40));
        fetches.is_done(HASH);
        assert_eq!(fetches.is_absent(HASH, device(1), &all), Asked::Nobody);
    }

    #[test]
    fn who_goes_away_is_not_waited_for() {
        let mut fetches = Fetches::default();
        assert_eq!(fetches.ask(HASH, 0, &[device(1)], false), Asked::Now(device(1), 0));
        fetches.is_gone(device(1));
        assert_eq!(fetches.ask(HASH, 0, &[], false), Asked::Nobody);
        assert_eq!(fetches.ask(HASH, 0, &[device(2)], false), Asked::Now(device(2), 0));
        // It comes back, and may have it by now.
        assert_eq!(fetches.is_absent(HASH, device(2), &[device(1), device(2)]), Asked::Now(device(1), 0));
    }
}
