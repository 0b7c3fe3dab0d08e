//! The index on the disk: a start reads it in one piece, and then only what has changed since.
//!
//! It is written when the engine ends, and from time to time while many clips come. It is sealed, in pieces, with a key that is
//! derived from the one of the home; in a home that is not encrypted that key is nobody's secret, and only tells a file that was
//! damaged. It is thrown away when in doubt: see [`yadori_store::SnapshotRecord`]. What is forgotten for good takes it along; what
//! leaves the bin is in it for some hours at most.

use crate::history::History;
use crate::history::index::Ledger;
use crate::moving::export::hex;
use parking_lot::Mutex;
use std::fs::{self, File, OpenOptions};
use std::io::{self, BufReader, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::mpsc::{self, Receiver, SyncSender};
use std::thread;
use std::time::{Duration, Instant};
use tokio::task::JoinHandle;
use yadori_core::search::{Index, snapshot::FORMAT};
use yadori_store::{Privacy, SnapshotRecord, Store, StoreError};
use yadori_vault::Secret;
use yadori_vault::stream::{OpeningReader, SealingWriter};

/// The first bytes of a snapshot. What comes after them is sealed.
const MAGIC: &[u8; 16] = b"yadori index 1\r\n";

/// What its pieces are sealed for.
const PURPOSE: &[u8] = b"index snapshot";

/// Of fewer clips the records are read as quickly.
const WORTH_IT: usize = 500;

/// A snapshot is made when the history has changed so often since the last one, or a tenth of it has.
const CHANGES: u64 = 2_000;

/// And when nothing has happened for so long.
const QUIET: Duration = Duration::from_secs(10);

/// What has left the bin is in none any more after so long.
const OUTLIVED: Duration = Duration::from_hours(3);

/// When none could be made, it is tried again after so long.
const AGAIN: Duration = Duration::from_mins(10);

/// Bytes of the id of a snapshot.
const ID: usize = 16;

/// Where snapshots are kept, and with which key they are sealed.
#[derive(Clone)]
pub struct SnapshotPlace {
    /// The file.
    pub path: PathBuf,
    /// The key of the home, unless it is not encrypted.
    pub key: Option<Secret>,
}

/// A snapshot that is being read.
type Ahead = JoinHandle<io::Result<(Index, Head)>>;

/// Snapshots of one history.
pub struct Snapshots {
    place: Mutex<Option<SnapshotPlace>>,
    state: Mutex<SnapshotState>,
    /// The one that was there when the engine began.
    ahead: Mutex<Option<Ahead>>,
}

#[derive(Default)]
struct SnapshotState {
    /// The change up to which the one on the disk knows the history.
    upto: Option<u64>,
    /// How often something was forgotten for good.
    forgotten: u64,
    /// When the one on the disk is to be made anew, since there may be something in it that has left the bin.
    outlived: Option<Instant>,
}

impl Snapshots {
    /// Snapshots in this place; none are kept if there is none. The one that is there is read from now on, while the records are
    /// still being opened. To be called in a Tokio runtime.
    pub fn new(place: Option<SnapshotPlace>) -> Self {
        let ahead = place.clone().and_then(|place| {
            // One that was being written when the engine was killed.
            let _ = yadori_files::wipe(&place.path.with_extension("new"));
            place.path.exists().then(|| tokio::task::spawn_blocking(move || read(&place)))
        });
        Self { place: Mutex::new(place), state: Mutex::default(), ahead: Mutex::new(ahead) }
    }

    /// The index that is on the disk, and the change up to which it knows the history; nothing if there is none, or if it cannot
    /// be relied upon. It is wiped then.
    pub(super) async fn load(&self, store: &Store) -> Result<Option<(Index, u64)>, StoreError> {
        let Some(ahead) = self.ahead.lock().take() else { return Ok(None) };
        let record = store.snapshot_record().await?;
        let latest = store.latest_change();
        let began = Instant::now();
        let read = ahead.await.unwrap_or_else(|failure| Err(io::Error::other(failure)));
        match read.and_then(|(index, head)| head.agrees_with(&record, latest).map(|()| (index, head.upto))) {
            Ok((index, upto)) => {
                tracing::debug!(clips = index.len(), upto, took = ?began.elapsed(), "the index was read from its snapshot, which was waited for");
                let mut state = self.state.lock();
                state.upto = Some(upto);
                state.outlived = (upto < latest).then(|| Instant::now() + OUTLIVED);
                Ok(Some((index, upto)))
            }
            Err(error) => {
                tracing::info!(%error, "the snapshot of the index is of no use; the clips are read one by one");
                self.wipe();
                Ok(None)
            }
        }
    }

    fn place(&self) -> Option<SnapshotPlace> {
        self.place.lock().clone()
    }

    /// Snapshots are sealed with this key from now on; none with the one before is left on return.
    pub fn seal_with(&self, key: Option<Secret>) {
        if let Some(place) = self.place.lock().as_mut() {
            place.key = key;
        }
        self.forget();
    }

    /// Something is forgotten for good: no snapshot knows of it any more on return.
    pub fn forget(&self) {
        self.state.lock().forgotten += 1;
        self.wipe();
    }

    /// Something has left the bin: before long, no snapshot knows of it.
    pub fn outlives(&self) {
        self.state.lock().outlived.get_or_insert_with(|| Instant::now() + OUTLIVED);
    }

    fn wipe(&self) {
        let Some(place) = self.place() else { return };
        {
            let mut state = self.state.lock();
            (state.upto, state.outlived) = (None, None);
        }
        match yadori_files::wipe(&place.path) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => {
                tracing::warn!(%error, "the snapshot of the index cannot be removed");
            }
            _ => {}
        }
    }

    /// Whether a new one would spare a start much.
    fn is_due(&self, ledger: &Ledger, changes: u64) -> bool {
        let (since, outlived) = {
            let state = self.state.lock();
            let since = state.upto.map_or(u64::MAX, |upto| ledger.cursor().saturating_sub(upto));
            (since, state.outlived.is_some_and(|at| at <= Instant::now()))
        };
        self.place.lock().is_some() && (outlived || ledger.count() >= WORTH_IT && since >= changes)
    }

    async fn make(&self, history: &Arc<History>) {
        if history.ledger.count() < WORTH_IT {
            self.wipe();
        } else if self.is_due(&history.ledger, 1) {
            self.make_now(history).await;
        }
    }

    async fn make_now(&self, history: &Arc<History>) {
        if let Err(error) = self.try_to_make(history).await {
            tracing::info!(%error, "no snapshot of the index was made; the next start takes longer");
            let mut state = self.state.lock();
            state.outlived = state.outlived.map(|_| Instant::now() + AGAIN);
        }
    }

    async fn try_to_make(&self, history: &Arc<History>) -> io::Result<()> {
        let store = &history.store;
        // In this order: with a key that is changed from here on, it is thrown away.
        let forgotten = self.state.lock().forgotten;
        let Some(place) = self.place() else { return Ok(()) };
        // What lies in a private drawer must be in none.
        let all_closed = async || {
            let drawers = store.private_drawers().await.map_err(io::Error::other)?;
            Ok::<_, io::Error>(drawers.iter().all(|drawer| drawer.privacy == Privacy::Closed))
        };
        if !all_closed().await? {
            return Err(io::Error::other("a private drawer is open"));
        }
        let mut id = [0; ID];
        getrandom::fill(&mut id)?;
        let record = store.snapshot_record().await.map_err(io::Error::other)?;
        let latest = *history.ledger.changes().borrow();
        if history.ledger.settled().await < latest {
            return Err(io::Error::other("the index is behind the records"));
        }
        // The next start needs this, too.
        store.note_latest_stamp().await.map_err(io::Error::other)?;
        // Until it has its name, the one that is there is of no use: a kill here does no harm.
        store.note_snapshot(&hex(&id)).await.map_err(io::Error::other)?;
        let (path, temporary) = (place.path.clone(), place.path.with_extension("new"));
        let (of, to, is_plain) = (history.clone(), temporary.clone(), place.key.is_none());
        let written = tokio::task::spawn_blocking(move || {
            let (index, upto) = of.ledger.with_cursor();
            let head = Head { id, upto, devices: record.devices };
            write(&to, place.key.as_ref(), &head, &index).map(|()| upto)
        });
        let written = written.await.unwrap_or_else(|failure| Err(io::Error::other(failure)));
        // Nor must what was forgotten meanwhile.
        let all_closed = all_closed().await;
        let mut state = self.state.lock();
        match (written, all_closed) {
            (Ok(upto), Ok(true)) if state.forgotten == forgotten => {
                if is_plain {
                    // What is in the old one may be gone from the new one.
                    let _ = yadori_files::wipe(&path);
                }
                fs::rename(&temporary, &path)?;
                (state.upto, state.outlived) = (Some(upto), None);
                Ok(())
            }
            (written, all_closed) => {
                let wiped = yadori_files::wipe(&temporary);
                written.and(all_closed).and(wiped)
            }
        }
    }
}

impl History {
    /// Makes a snapshot of the index, if anything has changed since the last.
    pub(crate) async fn make_snapshot(self: &Arc<Self>) {
        self.snapshots.make(self).await;
    }

    /// Makes one from time to time, when much has changed and nothing happens just now.
    pub(crate) async fn keep_snapshots(self: &Arc<Self>) {
        let mut changes = self.ledger.changes();
        loop {
            match tokio::time::timeout(QUIET, changes.changed()).await {
                Ok(Ok(())) => continue,
                Ok(Err(_)) => return,
                Err(_) if self.snapshots.is_due(&self.ledger, CHANGES.max(self.ledger.count() as u64 / 10)) => {
                    self.make_snapshot().await;
                }
                Err(_) => {}
            }
            let outlived = self.snapshots.state.lock().outlived;
            let outlives = async {
                match outlived {
                    Some(at) => tokio::time::sleep_until(at.into()).await,
                    None => std::future::pending().await,
                }
            };
            tokio::select! {
                changed = changes.changed() => {
                    if changed.is_err() {
                        return;
                    }
                }
                () = outlives => {}
            }
        }
    }
}

/// What a snapshot says of itself.
struct Head {
    id: [u8; ID],
    /// The change up to which it knows the history.
    upto: u64,
    /// A hash of the names of the devices.
    devices: [u8; 32],
}

fn write(path: &Path, key: Option<&Secret>, head: &Head, index: &Index) -> io::Result<()> {
    let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(MAGIC)?;
    let mut out = SealingWriter::new(file, key_of(key), PURPOSE);
    out.write_all(&FORMAT.to_le_bytes())?;
    out.write_all(&head.id)?;
    out.write_all(&head.upto.to_le_bytes())?;
    out.write_all(&head.devices)?;
    index.write_snapshot(&mut out)?;
    out.finish()?.sync_all()
}

fn wrong(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what.to_owned())
}

impl Head {
    /// Checks that it is what the records, whose latest change is given, know of.
    fn agrees_with(&self, record: &SnapshotRecord, latest: u64) -> io::Result<()> {
        if record.id.as_deref() != Some(&hex(&self.id)) {
            return Err(wrong("it is not the latest"));
        }
        if self.upto < record.purged_upto || self.upto > latest {
            return Err(wrong("the changes since are not all on record"));
        }
        if self.devices != record.devices {
            return Err(wrong("a device has another name now"));
        }
        Ok(())
    }
}

/// The index in a snapshot, and what that says of itself: it must agree with the records. It is opened in a thread of its own.
fn read(place: &SnapshotPlace) -> io::Result<(Index, Head)> {
    let mut file = File::open(&place.path)?;
    if array(&mut file)? != *MAGIC {
        return Err(wrong("it is not one"));
    }
    let opening = OpeningReader::new(file, key_of(place.key.as_ref()), PURPOSE);
    thread::scope(|scope| {
        let (sender, pieces) = mpsc::sync_channel(AHEAD);
        scope.spawn(move || open_pieces(opening, &sender));
        // Most of what is read is a byte or two.
        read_opened(&mut BufReader::with_capacity(1 << 16, Opened { pieces, piece: Vec::new(), at: 0 }))
    })
}

fn read_opened(from: &mut impl Read) -> io::Result<(Index, Head)> {
    if u32::from_le_bytes(array(from)?) != FORMAT {
        return Err(wrong("it is of another version"));
    }
    let head = Head { id: array(from)?, upto: u64::from_le_bytes(array(from)?), devices: array(from)? };
    let index = Index::read_snapshot(from)?;
    match from.read(&mut [0])? {
        0 => Ok((index, head)),
        _ => Err(wrong("there is more in it than an index")),
    }
}

/// Pieces of a mebibyte that are opened before they are asked for, at most.
const AHEAD: usize = 2;

/// Opens one piece after the other for as long as somebody asks for them.
fn open_pieces(mut from: OpeningReader<File>, sender: &SyncSender<io::Result<Vec<u8>>>) {
    loop {
        let piece = from.read_piece();
        let is_last = piece.as_ref().map_or(true, Vec::is_empty);
        if sender.send(piece).is_err() || is_last {
            return;
        }
    }
}

/// What another thread opens, piece by piece; an empty one is the end.
struct Opened {
    pieces: Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    at: usize,
}

impl Read for Opened {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        if self.at == self.piece.len() {
            self.piece = self.pieces.recv().unwrap_or_else(|_| Ok(Vec::new()))?;
            self.at = 0;
        }
        let taken = bytes.len().min(self.piece.len() - self.at);
        bytes[..taken].copy_from_slice(&self.piece[self.at..][..taken]);
        self.at += taken;
        Ok(taken)
    }
}

fn key_of(key: Option<&Secret>) -> Secret {
    key.cloned().unwrap_or_else(|| Secret::take(&mut [0; 32]))
}

fn array<const N: usize>(from: &mut impl Read) -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    from.read_exact(&mut bytes)?;
    Ok(bytes)
}
