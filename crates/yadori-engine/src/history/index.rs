//! The history in memory: an index that follows the change feed, and announces each change.
//!
//! Writers report the number of their change. One task reads the feed from its cursor on (except for the very next changes if
//! their writer passed the records along), updates the index, and announces each change. A writer that passes the record of the
//! very next change along does so itself: nobody has to be woken for it. Readers wait until the index has passed the latest
//! reported change, so that everyone reads their own writes.

use crate::history::listing::{self, Listed};
use crate::history::repeats::Repeats;
use crate::history::snapshot::Snapshots;
use parking_lot::{Mutex, RwLock, RwLockReadGuard, RwLockWriteGuard};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{broadcast, watch};
use yadori_core::ClipId;
use yadori_core::search::{Entry, Filling, Index};
use yadori_store::{ClipRecord, Store, StoreError};

/// Changes read from the feed at a time.
const BATCH: u32 = 500;

/// So many changes at most are taken in by whoever has made them; more than these need not be waited for.
const AT_ONCE: usize = 8;

/// Announcements that a slow listener may fall behind before it must read the feed itself.
const BEHIND: usize = 1024;

/// How long a reader waits for the index to pass the latest change.
const PATIENCE: Duration = Duration::from_secs(2);

/// Pause after the database has failed to answer.
const PAUSE: Duration = Duration::from_millis(250);

/// What is shown of the service besides its clips, and how it stands.
#[derive(Clone, Copy, Debug, Eq, PartialEq)]
pub enum Part {
    /// What is in the tray, and what it deals next.
    Tray,
    /// Which drawers there are, and their headings. (What lies in them is told of clip by clip.)
    Drawers,
    /// The rules.
    Rules,
    /// The keys, and what became of them.
    Keys,
    /// The linked devices, how far they are, and what is shared with them.
    Devices,
}

impl Part {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Tray, Self::Drawers, Self::Rules, Self::Keys, Self::Devices];
}

/// Something that listeners want to know.
#[derive(Clone, Debug)]
pub enum Announcement {
    /// A clip changed.
    Clip(Arc<Change>),
    /// What is known of a clip has changed, though nothing of it: it is shared from now on. The number is that of its latest
    /// change, which was announced before.
    Again(Arc<Change>),
    /// How the service stands has changed.
    Status,
    /// A part of what is shown has changed.
    Part(Part),
}

/// What became of a clip.
#[derive(Clone, Debug)]
pub struct Change {
    /// The number of the change.
    pub number: u64,
    /// The clip's id.
    pub id: ClipId,
    /// The clip, unless it has left the history.
    pub clip: Option<Listed>,
    /// How many clips the history has.
    pub total: u64,
}

/// The history in memory.
pub struct Ledger {
    store: Store,
    index: RwLock<Index>,
    /// Records that came with their changes, so that they need not be read; in the order of these.
    brought: Mutex<Vec<ClipRecord>>,
    latest: watch::Sender<u64>,
    applied: watch::Sender<u64>,
    /// Held by whoever takes changes in: they are announced in their order.
    taking_in: tokio::sync::Mutex<()>,
    announcements: broadcast::Sender<Announcement>,
    /// For listeners that were away.
    repeats: Mutex<Repeats>,
}

impl Ledger {
    /// Fills the index from its snapshot and what has changed since, or from the records.
    pub async fn open(store: Store, snapshots: &Snapshots) -> Result<Self, StoreError> {
        let known = snapshots.load(&store).await?;
        let (index, cursor) = match known {
            Some((index, cursor)) => (index, cursor),
            None => {
                // What changes while the clips are being read is read again from the feed.
                let cursor = store.latest_change();
                let mut filling = Filling::default();
                store
                    .read_all(|record| with_entry(&record, |entry| filling.put(record.id, record.kind, entry)))
                    .await?;
                (filling.finish(), cursor)
            }
        };
        let ledger = Self {
            store,
            index: RwLock::new(index),
            brought: Mutex::default(),
            latest: watch::Sender::new(cursor),
            applied: watch::Sender::new(cursor),
            taking_in: tokio::sync::Mutex::default(),
            announcements: broadcast::Sender::new(BEHIND),
            repeats: Mutex::default(),
        };
        loop {
            let records = ledger.store.changed_since(ledger.cursor(), BATCH).await?;
            let Some(last) = records.last() else { return Ok(ledger) };
            let cursor = last.change;
            ledger.apply(&records);
            ledger.latest.send_replace(cursor);
            ledger.applied.send_replace(cursor);
        }
    }

    /// Tells that there are changes up to this number.
    pub fn changed(&self, change: u64) {
        self.latest.send_if_modified(|latest| {
            let newer = change > *latest;
            *latest = change.max(*latest);
            newer
        });
    }

    /// Tells that there are changes up to this number, and brings records of the latest of them along, in their order. Some may
    /// be missing.
    pub fn changed_to(&self, records: Vec<ClipRecord>, change: u64) {
        match self.taking_in.try_lock() {
            Ok(_alone) if self.are_next(&records, change) => self.take_in(&records, change),
            _ => self.bring(records),
        }
        self.changed(change);
    }

    /// Whether these are all changes up to this one that the index does not know, and few.
    fn are_next(&self, records: &[ClipRecord], upto: u64) -> bool {
        let next = self.cursor() + 1..=upto;
        (1..=AT_ONCE).contains(&records.len()) && records.iter().map(|record| record.change).eq(next)
    }

    /// Brings the index up to these changes, of which `upto` is the last, and announces them.
    fn take_in(&self, records: &[ClipRecord], upto: u64) {
        self.apply(records);
        self.applied.send_replace(upto);
        records.iter().for_each(|record| self.announce(record));
    }

    /// Keeps records of changes that are told of in a moment.
    fn bring(&self, records: Vec<ClipRecord>) {
        let Some(first) = records.first() else { return };
        let mut brought = self.brought.lock();
        let goes_on = brought.last().is_some_and(|last| last.change + 1 == first.change);
        if !goes_on || brought.len() > BATCH as usize {
            brought.clear();
        }
        brought.extend(records);
    }

    /// Takes the records of the changes that come next after this one, as far as they were brought.
    fn take_brought(&self, cursor: u64) -> Vec<ClipRecord> {
        let mut brought = self.brought.lock();
        brought.retain(|record| record.change > cursor);
        let next = brought.iter().zip(cursor + 1..).take_while(|(record, next)| record.change == *next).count();
        brought.drain(..next).collect()
    }

    /// Tells that how the service stands has changed.
    pub fn status_changed(&self) {
        let _ = self.announcements.send(Announcement::Status);
    }

    /// Tells that a part of what is shown has changed.
    pub fn part_changed(&self, part: Part) {
        let _ = self.announcements.send(Announcement::Part(part));
    }

    /// Takes clips out of the index ahead of the feed: their removal is on record, and follows in parts.
    pub fn remove_ahead(&self, clips: &[ClipId]) {
        self.write().remove_all(clips);
    }

    /// The number of the latest change that was told, as it grows.
    pub fn changes(&self) -> watch::Receiver<u64> {
        self.latest.subscribe()
    }

    /// Listens to announcements from now on.
    pub fn listen(&self) -> broadcast::Receiver<Announcement> {
        self.announcements.subscribe()
    }

    /// The number of the latest change that the index knows.
    pub fn cursor(&self) -> u64 {
        *self.applied.borrow()
    }

    /// Waits until the index knows everything that was told as changed before. Gives its cursor.
    pub async fn settled(&self) -> u64 {
        let wanted = *self.latest.borrow();
        let mut applied = self.applied.subscribe();
        let _ = tokio::time::timeout(PATIENCE, applied.wait_for(|applied| *applied >= wanted)).await;
        self.cursor()
    }

    /// The index, with everything in it that was told as changed before.
    pub async fn read(&self) -> RwLockReadGuard<'_, Index> {
        self.settled().await;
        self.index.read()
    }

    /// How many clips there are.
    pub(crate) fn count(&self) -> usize {
        self.index.read().len()
    }

    /// The index, and a change up to which it knows the history at least.
    pub(crate) fn with_cursor(&self) -> (RwLockReadGuard<'_, Index>, u64) {
        let cursor = self.cursor();
        (self.index.read(), cursor)
    }

    fn write(&self) -> RwLockWriteGuard<'_, Index> {
        self.index.write()
    }

    /// Follows the change feed; ends when the task is dropped.
    pub async fn follow(&self) {
        let mut latest = self.latest.subscribe();
        loop {
            let wanted = match latest.wait_for(|latest| *latest > self.cursor()).await {
                Ok(wanted) => *wanted,
                Err(_) => return,
            };
            let _alone = self.taking_in.lock().await;
            let cursor = self.cursor();
            // The very next changes may have been brought along; everything else is in the feed.
            let brought = self.take_brought(cursor);
            if let Some(last) = brought.last() {
                self.take_in(&brought, last.change);
                continue;
            }
            match self.store.changed_since(cursor, BATCH).await {
                Ok(records) => {
                    // Less than a whole batch is all there was. The number that was told may be missing
                    // among them: a later change to the same clip has taken its place.
                    let last = records.last().map_or(cursor, |last| last.change);
                    let upto = if records.len() < BATCH as usize { last.max(wanted) } else { last };
                    self.take_in(&records, upto);
                }
                Err(error) => {
                    tracing::warn!(%error, "the change feed cannot be read at the moment");
                    tokio::time::sleep(PAUSE).await;
                }
            }
        }
    }

    fn apply(&self, records: &[ClipRecord]) {
        let mut index = self.write();
        for record in records {
            if record.is_live() {
                with_entry(record, |entry| index.put(record.id, record.kind, entry));
            } else {
                index.remove(record.id);
            }
        }
    }

    fn announce(&self, record: &ClipRecord) {
        if self.announcements.receiver_count() == 0 {
            return;
        }
        let _ = self.announcements.send(Announcement::Clip(Arc::new(self.describe(record))));
    }

    /// Announces clips that have not changed, but of which more is known. They are read only if somebody listens.
    pub(crate) async fn announce_again(&self, clips: &[u64]) -> Result<(), StoreError> {
        {
            let (cursor, mut repeats) = (self.cursor(), self.repeats.lock());
            clips.iter().for_each(|number| repeats.note(cursor, *number));
        }
        if self.announcements.receiver_count() > 0 && !clips.is_empty() {
            for record in self.store.clips(clips).await? {
                let _ = self.announcements.send(Announcement::Again(Arc::new(self.describe(&record))));
            }
        }
        Ok(())
    }

    /// The numbers of the clips that were announced again since a listener heard of change `last`, as far back as the start
    /// of the service. None if there were too many to know.
    pub fn announced_again_since(&self, last: u64) -> Option<Vec<u64>> {
        self.repeats.lock().since(last)
    }

    /// What became of a clip by its latest change.
    pub fn describe(&self, record: &ClipRecord) -> Change {
        let (position, total) = {
            let index = self.index.read();
            (index.position(record.id), index.len() as u64)
        };
        let clip = record.is_live().then(|| Listed { record: record.clone().into(), position });
        Change { number: record.change, id: record.id, clip, total }
    }
}

/// Calls `take` with what the index needs to know of a clip.
fn with_entry(record: &ClipRecord, take: impl FnOnce(&Entry)) {
    let sensitive = record.sensitive.is_some();
    // An alias is found with its colon and without.
    let alias = record.alias.as_ref().map(|alias| format!(":{alias}"));
    let titles: Vec<&str> =
        [&record.title, &record.caption, &alias].into_iter().filter_map(|title| title.as_deref()).collect();
    let title = (!titles.is_empty()).then(|| titles.join("\n"));
    let entry = Entry {
        number: record.number,
        copied: record.life.copied,
        recalled: record.recalled_at,
        uses: record.copies.saturating_add(record.recalls),
        size: record.size,
        text: if sensitive { "" } else { &record.text },
        title: title.as_deref(),
        page: record.source.page.as_deref(),
        application: record.source.application.as_deref(),
        device: &record.device,
        touched: listing::touched(record),
        drawer: record.drawer.as_ref().map(|drawer| drawer.name.as_str()),
        pinned: record.pin.is_some(),
        sensitive,
        secret: record.sensitive.is_some_and(|found| found.certain),
    };
    take(&entry);
}
