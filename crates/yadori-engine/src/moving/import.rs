//! Import: an archive is read, clip by clip, and everything in it is checked.
//!
//! An archive comes from anywhere. Nothing of it is ever written to a path that it names: contents are looked up
//! by their hashes, read up to the size that was announced, and compared with both. What is not right is left
//! out, and told.

use crate::capture::CaptureError;
use crate::capture::moving_in::Prepared;
use crate::keeping::drawers::{DrawerError, NewHeading};
use crate::moving::Moving;
use crate::moving::archive::{CONTENT, Clip, Drawer, FormatLine, Item, LIST, Line, VERSION};
use crate::moving::aside::{Aside, is_for_cage};
use crate::moving::export::hex;
use crate::moving::filing::{Fault, Kept, as_copy, file};
use bytes::Bytes;
use std::collections::{HashMap, HashSet, VecDeque};
use std::fs::{self, OpenOptions};
use std::io;
use std::os::unix::fs::OpenOptionsExt;
use std::sync::Arc;
use thiserror::Error;
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use tokio::task::{JoinError, JoinHandle};
use yadori_cage::{Archive, ArchiveError, LONGEST_LINE, LONGEST_LIST, ReadAt};
use yadori_core::{ClipId, Format, format};
use yadori_store::{Attribute, ClipRecord, OnRecord, StoreError};
use yadori_vault::SealedFile;

/// Most lines in the list.
const MOST_LINES: u64 = 5_000_000;

/// Lines that may be wrong before the whole list is taken to be.
const MOST_FAULTS: u64 = 10_000;

/// Reasons that are told.
const REASONS: usize = 100;

/// Clips that are filed together, and bytes of content after which no more wait.
const TOGETHER: usize = 250;
const TOGETHER_BYTES: u64 = 4 << 20;

/// Why an archive was not imported to its end.
#[derive(Debug, Error)]
pub enum ImportError {
    /// Not a zip.
    #[error("this is not an archive that can be read: {0}")]
    NotAnArchive(String),
    /// Not one of ours.
    #[error("this is a zip, but it was not exported by Yadori: there is no {LIST} in it")]
    NotOurs,
    /// From a later version.
    #[error("the archive is of version {0}, and this program reads version {VERSION}; please update it")]
    Newer(u32),
    /// The list is broken.
    #[error("the list in the archive breaks off: {0}")]
    Broken(String),
    /// Nobody waits for it any more, or the service ends. What was imported by then stays.
    #[error("the import was broken off; what was imported by then stays")]
    BrokenOff,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// An archive that is on its way in.
struct Incoming(SealedFile);

impl ReadAt for Incoming {
    fn size(&self) -> u64 {
        self.0.len()
    }

    fn read_at(&self, buffer: &mut [u8], at: u64) -> io::Result<usize> {
        let mut read = 0;
        while read < buffer.len() {
            match self.0.read_at(&mut buffer[read..], at + read as u64)? {
                0 => break,
                more => read += more,
            }
        }
        Ok(read)
    }
}

impl From<ArchiveError> for ImportError {
    fn from(error: ArchiveError) -> Self {
        match error {
            ArchiveError::NotAZip(_) => Self::NotAnArchive(error.to_string()),
            ArchiveError::NoList => Self::NotOurs,
            ArchiveError::Broken(_) | ArchiveError::Died => Self::Broken(error.to_string()),
        }
    }
}

/// How far an import is.
#[derive(Debug, Default)]
pub struct Progress {
    /// Clips read so far.
    pub read: u64,
    /// What it did, at its end.
    pub report: Option<Report>,
    /// Why it ended early.
    pub error: Option<ImportError>,
}

/// What an import did.
#[derive(Clone, Debug, Default)]
pub struct Report {
    /// Clips that were not there before.
    pub added: u64,
    /// Clips that were there already.
    pub known: u64,
    /// Clips that are back from the bin.
    pub restored: u64,
    /// Clips that were left out.
    pub skipped: u64,
    /// Why, for the first of them.
    pub reasons: Vec<NotImported>,
    /// Contents that belong to no clip.
    pub unused: u64,
}

/// A clip that was not imported.
#[derive(Clone, Debug)]
pub struct NotImported {
    /// The line of the list.
    pub line: u64,
    /// The id that it is said to have.
    pub id: Option<String>,
    /// Why.
    pub reason: String,
}

impl Moving {
    /// A file for an archive that is on its way in: without a name in the service's folder, gone when it is closed, and
    /// sealed with a key that is in the memory only.
    pub fn incoming_file(&self) -> std::io::Result<SealedFile> {
        let path =
            self.folder.join(format!("incoming-{}-{}", std::process::id(), self.history.stamps.next().to_bits()));
        let file = OpenOptions::new().read(true).write(true).create_new(true).mode(0o600).open(&path)?;
        fs::remove_file(&path)?;
        SealedFile::new(file).map_err(std::io::Error::other)
    }

    /// Imports an archive. Tells how far it is, and at last what it did.
    pub fn import(self: &Arc<Self>, archive: SealedFile) -> mpsc::Receiver<Progress> {
        let (sender, progress) = mpsc::channel(16);
        let (service, handle) = (self.clone(), Handle::current());
        self.background.tasks.spawn_blocking(move || {
            let mut import = Import::new(&service, &handle, &sender);
            let ended = import.run(archive);
            // Whatever ended it, what was on its way into the records is imported.
            let error = ended.and(import.file_read(usize::MAX).and_then(|()| import.finish_filing())).err();
            let _ = sender.blocking_send(Progress { read: import.read, report: Some(import.report), error });
            service.history.ledger.status_changed();
        });
        progress
    }
}

/// What a task gave.
fn joined<T>(ended: Result<T, JoinError>) -> Result<T, ImportError> {
    match ended {
        Ok(given) => Ok(given),
        Err(broken_off) if broken_off.is_panic() => std::panic::resume_unwind(broken_off.into_panic()),
        Err(_) => Err(ImportError::BrokenOff),
    }
}

struct Import<'a> {
    service: &'a Arc<Moving>,
    handle: &'a Handle,
    sender: &'a mpsc::Sender<Progress>,
    report: Report,
    read: u64,
    used: HashSet<String>,
    /// Aliases that were given to a clip.
    aliases: HashSet<String>,
    /// Clips with pictures or pages, with their lines. Their content is not asked for before there is room for it.
    aside: Aside,
    /// Those of which something is read in the cage, while others are filed.
    reading: VecDeque<InCage>,
    /// Clips that are being filed while the next ones are made ready.
    filing: Option<Filing>,
}

/// A clip of which something is read in the cage.
struct InCage {
    line: u64,
    clip: Box<Clip>,
    id: ClipId,
    formats: Vec<Format>,
    task: JoinHandle<PreparedOrNot>,
}

/// A clip that is ready to be filed, unless it has to be filed by itself.
type PreparedOrNot = Result<Option<Prepared>, CaptureError>;

impl InCage {
    fn bytes(&self) -> u64 {
        self.formats.iter().map(|format| format.data.len() as u64).sum()
    }
}

/// Clips that are being filed together.
struct Filing {
    /// The lines that they stand on.
    lines: Vec<u64>,
    ids: HashSet<ClipId>,
    task: JoinHandle<Result<(), (Vec<Prepared>, StoreError)>>,
}

impl<'a> Import<'a> {
    fn new(service: &'a Arc<Moving>, handle: &'a Handle, sender: &'a mpsc::Sender<Progress>) -> Self {
        Self {
            service,
            handle,
            sender,
            report: Report::default(),
            read: 0,
            used: HashSet::new(),
            aliases: HashSet::new(),
            aside: Aside::default(),
            reading: VecDeque::new(),
            filing: None,
        }
    }

    fn run(&mut self, file: SealedFile) -> Result<(), ImportError> {
        let mut archive = self.service.history.cage.open_archive(Box::new(Incoming(file)), LIST)?;
        let mut waiting = Vec::new();
        let ended = self.lines(&mut waiting, &mut archive);
        // Where the list breaks off, what stands before is imported.
        if !matches!(ended, Err(ImportError::BrokenOff)) {
            self.clips(waiting, &mut archive)?;
            self.finish(&mut archive)?;
        }
        ended?;
        let uses = |name: &str| name == LIST || self.used.contains(name);
        // A name that cannot be read is nobody's.
        let names = archive.names()?;
        self.report.unused = names.iter().filter(|name| !name.as_deref().is_some_and(uses)).count() as u64;
        Ok(())
    }

    /// Takes all lines; those of clips that still wait for others are in `waiting` at the end.
    fn lines(&mut self, waiting: &mut Vec<(u64, Box<Clip>)>, archive: &mut Archive) -> Result<(), ImportError> {
        let (mut number, mut bytes) = (0, 0);
        while let Some(lines) = archive.lines()? {
            for line in lines {
                if self.sender.is_closed() || self.service.background.ending.is_cancelled() {
                    return Err(ImportError::BrokenOff);
                }
                number += 1;
                bytes += line.len() as u64;
                self.line((number, bytes), &line, waiting, archive)?;
            }
        }
        Ok(())
    }

    /// Takes a line, of this number, with which the list has so many bytes. Clips wait for others.
    fn line(
        &mut self,
        (number, bytes): (u64, u64),
        line: &[u8],
        waiting: &mut Vec<(u64, Box<Clip>)>,
        contents: &mut Archive,
    ) -> Result<(), ImportError> {
        if bytes >= LONGEST_LIST {
            return Err(ImportError::Broken(format!("it is longer than {} GiB", LONGEST_LIST >> 30)));
        }
        if line.len() as u64 >= LONGEST_LINE && !line.ends_with(b"\n") {
            return Err(ImportError::Broken(format!("line {number} is longer than {LONGEST_LINE} bytes")));
        }
        if number > MOST_LINES || self.report.skipped > MOST_FAULTS {
            return Err(ImportError::Broken("too many of its lines are wrong, or there are too many".into()));
        }
        let line: Line = match serde_json::from_slice(line) {
            Ok(line) => line,
            Err(error) if number == 1 => return Err(ImportError::Broken(error.to_string())),
            Err(error) => {
                self.skip(number, None, format!("the line is not understood: {error}"));
                return Ok(());
            }
        };
        match line {
            Line::Yadori(head) if head.version > VERSION => return Err(ImportError::Newer(head.version)),
            Line::Yadori(_) => {}
            _ if number == 1 => return Err(ImportError::Broken("its first line does not say what it is".into())),
            Line::Clip(clip) => {
                waiting.push((number, clip));
                if waiting.len() == TOGETHER {
                    self.clips(std::mem::take(waiting), contents)?;
                }
            }
            // Those that are kept must be here by then.
            Line::Pins(ids) => {
                self.clips(std::mem::take(waiting), contents)?;
                self.finish(contents)?;
                self.pins(&ids)?;
            }
            Line::Drawer(drawer) => {
                self.clips(std::mem::take(waiting), contents)?;
                self.finish(contents)?;
                self.drawer(number, &drawer)?;
            }
        }
        Ok(())
    }

    fn skip(&mut self, line: u64, id: Option<&str>, reason: String) {
        self.report.skipped += 1;
        if self.report.reasons.len() < REASONS {
            let id = id.map(|id| yadori_core::preview::one_line(id, 40));
            self.report.reasons.push(NotImported { line, id, reason });
        }
    }

    /// Imports clips, which stand on these lines, together.
    fn clips(&mut self, lines: Vec<(u64, Box<Clip>)>, contents: &mut Archive) -> Result<(), ImportError> {
        let ids: Vec<ClipId> =
            lines.iter().map(|(_, clip)| ClipId::parse(&clip.id).unwrap_or(ClipId([0; 16]))).collect();
        if ids.iter().any(|id| self.is_on_its_way(id)) {
            self.finish(contents)?;
        }
        let known = self.handle.block_on(self.service.history.store.on_record(&ids))?;
        let mut known: HashMap<usize, OnRecord> = known.into_iter().map(|known| (known.place, known)).collect();
        let mut met = HashSet::new();
        let mut together = Vec::new();
        let mut bytes = 0;
        for (place, (number, clip)) in lines.into_iter().enumerate() {
            self.read += 1;
            let again = !met.insert(ids[place]);
            if again {
                self.begin_filing(std::mem::take(&mut together))?;
                self.finish(contents)?;
                bytes = 0;
            }
            let done = match known.remove(&place) {
                Some(known) if !known.tombstone => self.known(&clip, known),
                // It was deleted for good, and has a row.
                Some(_) => self.clip_by_itself(&clip, contents),
                None if again && self.live(&clip.id)?.is_some() => {
                    self.report.known += 1;
                    Ok(None)
                }
                None if is_for_cage(&clip) => {
                    self.set_aside((number, ids[place]), clip, contents)?;
                    continue;
                }
                None => self.prepare(&clip, contents),
            };
            match done {
                Ok(Some(prepared)) => {
                    bytes += clip.formats.iter().map(|format| format.size).sum::<u64>();
                    together.push((number, prepared));
                }
                Ok(None) => {}
                Err(Fault::Clip(reason)) => self.skip(number, Some(&clip.id), reason),
                Err(Fault::Store(error)) => return Err(error.into()),
            }
            if bytes > TOGETHER_BYTES {
                self.begin_filing(std::mem::take(&mut together))?;
                bytes = 0;
            }
        }
        self.read_so_far(&mut together)?;
        self.begin_filing(together)?;
        self.begin_reading(contents)?;
        let _ = self.sender.blocking_send(Progress { read: self.read, ..Progress::default() });
        Ok(())
    }

    fn known(&mut self, clip: &Clip, known: OnRecord) -> Result<Option<Prepared>, Fault> {
        for format in &clip.formats {
            self.used.insert(format!("{CONTENT}{}", format.hash));
        }
        if known.live {
            self.report.known += 1;
            return Ok(None);
        }
        let history = &self.service.history;
        let restored = self.handle.block_on(history.store.restore(&[known.number], history.stamps.next()))?;
        history.ledger.changed(restored);
        self.report.restored += 1;
        Ok(None)
    }

    /// The formats of a clip, if they are what they should be.
    fn formats(&mut self, clip: &Clip, contents: &mut Archive) -> Result<Vec<Format>, Fault> {
        let largest = self.service.history.checked_rules().rules().largest;
        let total = clip.formats.iter().fold(0u64, |total, format| total.saturating_add(format.size));
        if total > largest {
            return Err(format!("it is larger than the limit of {largest} bytes").into());
        }
        let mut formats = Vec::with_capacity(clip.formats.len());
        for line in &clip.formats {
            formats.push(Format::new(format::canonical_mime(&line.mime), self.content(line, contents)?));
        }
        Ok(formats)
    }

    fn is_on_its_way(&self, id: &ClipId) -> bool {
        self.filing.as_ref().is_some_and(|filing| filing.ids.contains(id))
            || self.reading.iter().any(|one| one.id == *id)
            || self.aside.contains(id)
    }

    /// Begins to make a clip ready to be filed.
    fn preparing(
        &mut self,
        clip: &Clip,
        contents: &mut Archive,
    ) -> Result<(ClipId, Vec<Format>, impl Future<Output = PreparedOrNot> + use<>), Fault> {
        let formats = self.formats(clip, contents)?;
        let service = self.service;
        let copy = as_copy(&service.history, &service.keeping, clip, formats.clone(), Kept::default());
        let (copy, mut by_hand, id) = self.handle.block_on(copy)?;
        // Of those that are filed together, none is asked for yet.
        by_hand.alias = by_hand.alias.filter(|alias| self.aliases.insert(alias.clone()));
        let capture = service.capture.clone();
        Ok((id, formats, async move { capture.prepare(copy, by_hand, id).await }))
    }

    /// Makes a clip ready to be filed; nothing if it was filed by itself.
    fn prepare(&mut self, clip: &Clip, contents: &mut Archive) -> Result<Option<Prepared>, Fault> {
        let (_, formats, preparing) = self.preparing(clip, contents)?;
        match self.handle.block_on(preparing)? {
            Some(prepared) => Ok(Some(prepared)),
            None => self.file_by_itself(clip, formats).map(|()| None),
        }
    }

    /// Sets a clip aside of which something is read in the cage, which takes longer than to file a hundred others. Those are
    /// filed meanwhile.
    fn set_aside(
        &mut self,
        (line, id): (u64, ClipId),
        clip: Box<Clip>,
        contents: &mut Archive,
    ) -> Result<(), ImportError> {
        self.aside.push(line, id, clip);
        self.begin_reading(contents)?;
        while self.aside.is_full() {
            self.file_read(self.reading.len().div_ceil(2))?;
            self.begin_reading(contents)?;
        }
        Ok(())
    }

    /// Begins to read in the cage as many of those that are set aside as there is room for.
    fn begin_reading(&mut self, contents: &mut Archive) -> Result<(), ImportError> {
        while self.reading.len() < TOGETHER && self.reading.iter().map(InCage::bytes).sum::<u64>() < TOGETHER_BYTES {
            let Some((line, clip)) = self.aside.pop() else { break };
            match self.preparing(&clip, contents) {
                Ok((id, formats, preparing)) => {
                    let task = self.handle.spawn(preparing);
                    self.reading.push_back(InCage { line, clip, id, formats, task });
                }
                Err(Fault::Clip(reason)) => self.skip(line, Some(&clip.id), reason),
                Err(Fault::Store(error)) => return Err(error.into()),
            }
        }
        Ok(())
    }

    /// Adds what has been read in the cage so far to what is filed together.
    fn read_so_far(&mut self, together: &mut Vec<(u64, Prepared)>) -> Result<(), ImportError> {
        while self.reading.front().is_some_and(|first| first.task.is_finished()) {
            let Some(first) = self.reading.pop_front() else { break };
            together.extend(self.read(first)?);
        }
        Ok(())
    }

    /// Begins to file the first so many of those that are read in the cage, once they are.
    fn file_read(&mut self, most: usize) -> Result<(), ImportError> {
        let mut together = Vec::new();
        let first: Vec<InCage> = self.reading.drain(..most.min(self.reading.len())).collect();
        for one in first {
            together.extend(self.read(one)?);
        }
        self.begin_filing(together)
    }

    /// Waits until one is read in the cage; nothing if it was left out, or filed by itself.
    fn read(
        &mut self,
        InCage { line, clip, formats, task, .. }: InCage,
    ) -> Result<Option<(u64, Prepared)>, ImportError> {
        let prepared = joined(self.handle.block_on(task))?;
        let done = match prepared.map_err(Fault::from) {
            Ok(None) => self.file_by_itself(&clip, formats).map(|()| None),
            prepared => prepared,
        };
        match done {
            Ok(prepared) => Ok(prepared.map(|prepared| (line, prepared))),
            Err(Fault::Clip(reason)) => {
                self.skip(line, Some(&clip.id), reason);
                Ok(None)
            }
            Err(Fault::Store(error)) => Err(error.into()),
        }
    }

    /// Waits until all that was set aside, or is on its way, is filed.
    fn finish(&mut self, contents: &mut Archive) -> Result<(), ImportError> {
        loop {
            self.begin_reading(contents)?;
            if self.reading.is_empty() {
                return self.finish_filing();
            }
            self.file_read(self.reading.len().div_ceil(2))?;
        }
    }

    fn clip_by_itself(&mut self, clip: &Clip, contents: &mut Archive) -> Result<Option<Prepared>, Fault> {
        let formats = self.formats(clip, contents)?;
        self.file_by_itself(clip, formats)?;
        Ok(None)
    }

    fn file_by_itself(&mut self, clip: &Clip, formats: Vec<Format>) -> Result<(), Fault> {
        let service = self.service;
        let parts = (&service.capture, &*service.keeping);
        self.handle.block_on(file(&service.history, parts, clip, formats, Kept::default()))?;
        self.report.added += 1;
        Ok(())
    }

    /// Begins to file what is ready, once those before are filed. Meanwhile the next ones are made ready.
    fn begin_filing(&mut self, clips: Vec<(u64, Prepared)>) -> Result<(), ImportError> {
        self.finish_filing()?;
        if clips.is_empty() {
            return Ok(());
        }
        let (lines, clips): (Vec<u64>, Vec<Prepared>) = clips.into_iter().unzip();
        let ids = clips.iter().map(Prepared::id).collect();
        let capture = self.service.capture.clone();
        let task = self.handle.spawn(async move { capture.file_prepared(clips).await });
        self.filing = Some(Filing { lines, ids, task });
        Ok(())
    }

    /// Waits until what is being filed is. If one of the clips cannot be filed, each is by itself, and that one is left out.
    fn finish_filing(&mut self) -> Result<(), ImportError> {
        let Some(Filing { lines, task, .. }) = self.filing.take() else { return Ok(()) };
        let filed = joined(self.handle.block_on(task))?;
        let Err((clips, error)) = filed else {
            self.report.added += lines.len() as u64;
            return Ok(());
        };
        tracing::debug!(%error, "clips that were to be filed together are filed one by one");
        for (line, clip) in lines.into_iter().zip(clips) {
            let id = clip.id();
            let (copy, by_hand) = clip.into_copy();
            match self.handle.block_on(self.service.capture.capture_as(copy, &by_hand, id)).map_err(Fault::from) {
                Ok(_) => self.report.added += 1,
                Err(Fault::Clip(reason)) => self.skip(line, Some(&id.to_string()), reason),
                Err(Fault::Store(error)) => return Err(error.into()),
            }
        }
        Ok(())
    }

    /// The bytes of a format, of the size and with the hash that were announced.
    fn content(&mut self, line: &FormatLine, contents: &mut Archive) -> Result<Bytes, Fault> {
        if line.hash.len() != 64 || !line.hash.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f')) {
            return Err("the hash of a content is not one".to_owned().into());
        }
        let data = match &line.text {
            Some(text) => text.clone().into_bytes(),
            None => {
                let name = format!("{CONTENT}{}", line.hash);
                let data = contents
                    .content(&name, line.size)
                    .map_err(|error| format!("the content {} {error}", &line.hash[..12]))?;
                self.used.insert(name);
                data
            }
        };
        if data.len() as u64 != line.size {
            return Err("a content is not of the size that was announced".to_owned().into());
        }
        if hex(blake3::hash(&data).as_bytes()) != line.hash {
            return Err("a content does not have the hash that was announced".to_owned().into());
        }
        Ok(data.into())
    }

    fn live(&self, id: &str) -> Result<Option<ClipRecord>, StoreError> {
        let Some(id) = ClipId::parse(id) else { return Ok(None) };
        Ok(self.handle.block_on(self.service.history.store.clip(id))?.filter(ClipRecord::is_live))
    }

    /// Pins what was pinned there and is not here, after what is pinned here, in its order.
    fn pins(&self, ids: &[String]) -> Result<(), StoreError> {
        for id in ids {
            if let Some(record) = self.live(id)?.filter(|record| record.pin.is_none()) {
                self.handle.block_on(async {
                    let _alone = self.service.keeping.changing.lock().await;
                    let place = self.service.keeping.last_pin().await?;
                    self.service.keeping.set_attributes(&[(record.number, Attribute::Pin(Some(place)))]).await
                })?;
            }
        }
        Ok(())
    }

    /// Puts what lay in a drawer there, and lies in none here, into the drawer of that name.
    fn drawer(&mut self, line: u64, drawer: &Drawer) -> Result<(), ImportError> {
        let mut records = Vec::new();
        for item in &drawer.items {
            records.push(match item {
                Item::Clip(id) => self.live(id)?.filter(|record| record.drawer.is_none()).map(Ok),
                Item::Heading(words) => Some(Err(words.clone())),
            });
        }
        if !records.iter().any(|record| matches!(record, Some(Ok(_)))) {
            return Ok(());
        }
        let made = self.handle.block_on(async {
            let _alone = self.service.keeping.changing.lock().await;
            match self.service.keeping.find_open_drawer(&drawer.name).await {
                Ok(known) => Ok((known.number, false)),
                Err(DrawerError::NoSuchDrawer(_)) => {
                    self.service.keeping.make_drawer(&drawer.name).await.map(|number| (number, true))
                }
                Err(error) => Err(error),
            }
        });
        let (number, new) = match made {
            Ok(made) => made,
            Err(error) => {
                self.skip(line, None, format!("a drawer: {error}"));
                return Ok(());
            }
        };
        for record in records.into_iter().flatten() {
            let done = match record {
                Ok(record) => self.handle.block_on(async {
                    let _alone = self.service.keeping.changing.lock().await;
                    self.service.keeping.put_records(number, &[record], None).await
                }),
                // Headings of a drawer that is here already stay as they are.
                Err(_) if !new => Ok(()),
                Err(words) => {
                    let heading = NewHeading { words, ..NewHeading::default() };
                    self.handle.block_on(self.service.keeping.head_drawer(&drawer.name, &heading)).map(drop)
                }
            };
            if let Err(error) = done {
                self.skip(
                    line,
                    None,
                    format!("a line of the drawer {}: {error}", yadori_core::preview::one_line(&drawer.name, 60)),
                );
            }
        }
        Ok(())
    }
}
