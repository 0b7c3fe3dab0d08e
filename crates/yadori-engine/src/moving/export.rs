//! Export: clips as an archive that can be imported again, or as text, a page, or a table.
//!
//! What is written goes out as it is made; neither the clips nor the archive are ever held whole.

use crate::clock::{now, timestamp};
use crate::history::find::FindError;
use crate::history::listing;
use crate::history::names::FindNameError;
use crate::keeping::drawers::{DrawerError, Shown};
use crate::moving::Moving;
use crate::moving::archive::{self, CONTENT, Clip, Drawer, FormatLine, Head, INLINE, Item, LIST, Line, Source};
use bytes::Bytes;
use jiff::tz::TimeZone;
use std::collections::HashSet;
use std::io::{self, BufWriter, Write};
use std::sync::Arc;
use thiserror::Error;
use tokio::runtime::Handle;
use tokio::sync::mpsc;
use yadori_core::preview::unsafe_to_print;
use yadori_core::search::{Query, When};
use yadori_core::{ClipId, Kind, format, join};
use yadori_store::{ClipRecord, FormatOfClip, Privacy, ReadClip, Store, StoreError, StoredFormat};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

/// Clips read at a time.
const BATCH: usize = 200;

/// How hard the packer tries, of 9: people wait for an archive, and a little more room is cheap.
const EFFORT: i64 = 2;

/// Bytes that are sent at a time.
const PIECE: usize = 64 * 1024;

/// Pieces that may wait for the reader.
const WAITING: usize = 8;

/// Why nothing is exported.
#[derive(Debug, Error)]
pub enum ExportError {
    /// A name leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// The query makes no sense.
    #[error(transparent)]
    Find(#[from] FindError),
    /// There is no such drawer.
    #[error(transparent)]
    Drawer(#[from] DrawerError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// An export that is under way.
pub struct Export {
    /// How many clips it has.
    pub clips: u64,
    /// How many were left out, since they look like secrets.
    pub left_out: u64,
    /// What is written.
    pub pieces: mpsc::Receiver<io::Result<Bytes>>,
}

/// The clips that are exported.
#[derive(Clone, Debug)]
pub enum Selection {
    /// All of them.
    All,
    /// Those with these names.
    Named(Vec<String>),
    /// Those that meet this query.
    Found(String),
    /// Those in this drawer.
    Drawer(String),
}

/// As what they are exported.
#[derive(Clone, Copy, Debug)]
pub enum Form {
    /// An archive that can be imported again.
    Zip,
    /// Texts.
    Text,
    /// A page.
    Html,
    /// A table.
    Csv,
}

impl Moving {
    /// Exports the clips that are asked for. What looks like a secret is never exported.
    pub async fn export(self: &Arc<Self>, selection: &Selection, form: Form) -> Result<Export, ExportError> {
        let wanted = self.selected(selection).await?;
        let (numbers, left_out): (Vec<u64>, u64) = {
            let index = self.history.ledger.read().await;
            let clips: Vec<_> = wanted.iter().filter_map(|id| index.candidate_of(*id)).collect();
            let open: Vec<u64> = clips.iter().filter(|clip| !clip.sensitive).map(|clip| clip.number).collect();
            let left_out = clips.len() - open.len();
            (open, left_out as u64)
        };
        let clips = numbers.len() as u64;
        let (sender, pieces) = mpsc::channel(WAITING);
        let (service, handle) = (self.clone(), Handle::current());
        self.background.tasks.spawn_blocking(move || {
            let mut out = Outgoing { sender: sender.clone(), piece: Vec::with_capacity(PIECE) };
            let source = Reader { service: &service, handle: &handle, numbers: numbers.into() };
            let done = match form {
                Form::Zip => source.zip(&mut out),
                Form::Text => source.text(&mut out),
                Form::Html => source.html(&mut out),
                Form::Csv => source.csv(&mut out),
            };
            if let Err(error) = done.and_then(|()| out.flush())
                && error.kind() != io::ErrorKind::BrokenPipe
            {
                tracing::warn!(%error, "an export ends early");
                let _ = sender.blocking_send(Err(error));
            }
        });
        Ok(Export { clips, left_out, pieces })
    }

    async fn selected(&self, selection: &Selection) -> Result<Vec<ClipId>, ExportError> {
        let query = match selection {
            Selection::Named(names) => {
                return Ok(self.history.find_clips(names).await?.into_iter().map(|(record, _)| record.id).collect());
            }
            Selection::Drawer(name) => {
                let drawer = self.keeping.find_open_drawer(name).await?;
                let records = self.history.store.in_drawer(drawer.number).await?;
                return Ok(records.into_iter().map(|record| record.id).collect());
            }
            Selection::Found(query) => query.as_str(),
            Selection::All => "",
        };
        let when = When { now: now(), zone: TimeZone::system() };
        let query = Query::parse(query, &when).map_err(FindError::from)?;
        let index = self.history.ledger.read().await;
        let hits =
            if query.is_empty() { index.page(None, usize::MAX) } else { index.search(&query, None, usize::MAX).0 };
        Ok(hits.into_iter().map(|hit| hit.id).collect())
    }
}

/// Sends what is written in pieces. Fails when nobody reads any more.
struct Outgoing {
    sender: mpsc::Sender<io::Result<Bytes>>,
    piece: Vec<u8>,
}

impl Write for Outgoing {
    fn write(&mut self, data: &[u8]) -> io::Result<usize> {
        let taken = data.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&data[..taken]);
        if self.piece.len() == PIECE {
            self.flush()?;
        }
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.piece.is_empty() {
            return Ok(());
        }
        let piece = std::mem::replace(&mut self.piece, Vec::with_capacity(PIECE));
        self.sender.blocking_send(Ok(piece.into())).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

/// Reads clips for a thread that may wait.
struct Reader<'a> {
    service: &'a Arc<Moving>,
    handle: &'a Handle,
    numbers: Arc<[u64]>,
}

/// Clips that are read together, and their formats.
type Batch = (Vec<Arc<ReadClip>>, Vec<FormatOfClip>);

/// A content that goes into a file of its own.
struct Content {
    clip: u64,
    place: u8,
    /// Where it is, unless it is small: then it is read again, so that they are never all held together.
    stored: Option<StoredFormat>,
    hash: [u8; 32],
}

/// A piece of a content, which follows the piece before if that is of the same content.
struct Piece {
    /// Its file in the archive.
    name: String,
    /// Whether packing makes it no smaller.
    is_packed: bool,
    bytes: Bytes,
}

/// Sends a content piece by piece, for as long as anybody takes them; nothing if it is not there any more.
async fn send_pieces(
    store: &Store,
    content: &Content,
    sender: &mpsc::Sender<io::Result<Piece>>,
) -> Result<(), StoreError> {
    let again;
    let stored = match &content.stored {
        Some(stored) => stored,
        None => {
            again = store.formats(content.clip).await?;
            let Some(stored) = again.get(usize::from(content.place)) else { return Ok(()) };
            stored
        }
    };
    // Pictures do not become smaller.
    let is_packed = stored.mime.starts_with("image/") && stored.mime != "image/bmp" && stored.mime != format::SVG;
    let name = format!("{CONTENT}{}", hex(&content.hash));
    let mut at = 0;
    loop {
        let bytes = store.content_at(stored, at).await?;
        at += bytes.len() as u64;
        if bytes.is_empty() || sender.send(Ok(Piece { name: name.clone(), is_packed, bytes })).await.is_err() {
            return Ok(());
        }
    }
}

impl Reader<'_> {
    fn wait<T>(&self, answer: impl Future<Output = Result<T, StoreError>>) -> io::Result<T> {
        self.handle.block_on(answer).map_err(io::Error::other)
    }

    /// What `read` sends. It reads on while this thread works with what came before, and waits until that is taken.
    fn ahead<T, R>(&self, read: impl FnOnce(Arc<Moving>, mpsc::Sender<T>) -> R) -> impl Iterator<Item = T>
    where
        T: Send + 'static,
        R: Future<Output = ()> + Send + 'static,
    {
        let (sender, mut given) = mpsc::channel(1);
        self.service.background.tasks.spawn_on(read(self.service.clone(), sender), self.handle);
        std::iter::from_fn(move || given.blocking_recv())
    }

    fn batches(&self) -> impl Iterator<Item = io::Result<Batch>> {
        let numbers = self.numbers.clone();
        self.ahead(|service, sender| async move {
            let store = &service.history.store;
            for batch in numbers.chunks(BATCH) {
                let read = async {
                    let clips = store.clips(batch).await?;
                    let formats = store.formats_of(&clips).await?;
                    Ok::<Batch, StoreError>((clips, formats))
                };
                if sender.send(read.await.map_err(io::Error::other)).await.is_err() {
                    break;
                }
            }
        })
    }

    fn pieces(&self, contents: Vec<Content>) -> impl Iterator<Item = io::Result<Piece>> {
        self.ahead(|service, sender| async move {
            for content in contents {
                if let Err(error) = send_pieces(&service.history.store, &content, &sender).await {
                    let _ = sender.send(Err(io::Error::other(error))).await;
                }
                if sender.is_closed() {
                    break;
                }
            }
        })
    }

    fn each(&self, mut each: impl FnMut(&ClipRecord) -> io::Result<()>) -> io::Result<()> {
        for batch in self.numbers.chunks(BATCH) {
            for record in self.wait(self.service.history.store.clips(batch))?.iter().filter(|record| record.is_live()) {
                each(record)?;
            }
        }
        Ok(())
    }

    fn words(&self, record: &ClipRecord) -> io::Result<String> {
        if let Some(text) = record.whole() {
            return Ok(text.to_owned());
        }
        let formats = self.wait(self.service.history.store.formats(record.number))?;
        Ok(self.wait(self.service.history.plain_text(record, &formats))?.unwrap_or_default())
    }

    fn zip(&self, out: &mut Outgoing) -> io::Result<()> {
        let mut zip = ZipWriter::new_stream(&mut *out);
        let packed = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Deflated)
            .compression_level(Some(EFFORT))
            .unix_permissions(0o600);
        zip.start_file(LIST, packed.large_file(true))?;
        // What is packed comes in large parts: each write costs the packer a buffer of its own, however short it is.
        let mut list = BufWriter::with_capacity(PIECE, &mut zip);
        let line = |list: &mut BufWriter<&mut ZipWriter<_>>, line: &Line| -> io::Result<()> {
            serde_json::to_writer(&mut *list, line)?;
            list.write_all(b"\n")
        };
        let head = Head {
            version: archive::VERSION,
            device: self.service.history.device.clone(),
            exported_at: timestamp(now()),
        };
        line(&mut list, &Line::Yadori(head))?;
        // Contents that go into files of their own: each once, by its hash.
        let mut contents: Vec<Content> = Vec::new();
        let mut known: HashSet<[u8; 32]> = HashSet::new();
        let mut exported: HashSet<ClipId> = HashSet::new();
        for batch in self.batches() {
            let (records, formats) = batch?;
            for record in records.iter().filter(|record| record.is_live() && record.sensitive.is_none()) {
                let mut lines = Vec::new();
                for of in formats.iter().filter(|of| of.clip == record.number) {
                    let text = of
                        .format
                        .here()
                        .filter(|data| data.len() <= INLINE)
                        .and_then(|data| std::str::from_utf8(data).ok());
                    let hash = match (of.hash, of.format.here()) {
                        (Some(hash), _) => hash,
                        (None, Some(data)) => *blake3::hash(data).as_bytes(),
                        (None, None) => continue,
                    };
                    if text.is_none() && known.insert(hash) {
                        let stored = of.format.here().is_none().then(|| of.format.clone());
                        contents.push(Content { clip: of.clip, place: of.place, stored, hash });
                    }
                    lines.push(FormatLine {
                        mime: of.format.mime.clone(),
                        size: of.format.size,
                        hash: hex(&hash),
                        text: text.map(str::to_owned),
                    });
                }
                exported.insert(record.id);
                line(&mut list, &Line::Clip(Box::new(line_of(record, lines))))?;
            }
        }
        let pinned = self.wait(self.service.history.store.pinned())?;
        let pins: Vec<String> =
            pinned.iter().filter(|record| exported.contains(&record.id)).map(|record| record.id.to_string()).collect();
        line(&mut list, &Line::Pins(pins))?;
        let shown = |drawer: &yadori_store::Drawer| matches!(drawer.privacy, None | Some(Privacy::Open));
        for drawer in self.wait(self.service.history.store.drawers())?.into_iter().filter(shown) {
            let drawer = self.drawer(&drawer.name, &exported)?;
            if !drawer.items.is_empty() {
                line(&mut list, &Line::Drawer(drawer))?;
            }
        }
        list.flush()?;
        drop(list);
        let mut written = String::new();
        for piece in self.pieces(contents) {
            let Piece { name, is_packed, bytes } = piece?;
            if name != written {
                let options = match is_packed {
                    true => packed.compression_method(CompressionMethod::Stored).compression_level(None),
                    false => packed,
                };
                zip.start_file(name.as_str(), options)?;
                written = name;
            }
            zip.write_all(&bytes)?;
        }
        zip.finish()?;
        Ok(())
    }

    fn drawer(&self, name: &str, exported: &HashSet<ClipId>) -> io::Result<Drawer> {
        let contents = self.handle.block_on(self.service.keeping.drawer(name)).map_err(io::Error::other)?;
        let mut items = Vec::new();
        for item in contents.items {
            match item {
                Shown::Heading(heading) => items.push(Item::Heading(heading)),
                Shown::Clip(clip) if exported.contains(&clip.record.id) => {
                    items.push(Item::Clip(clip.record.id.to_string()));
                }
                Shown::Clip(_) => {}
            }
        }
        if !items.iter().any(|item| matches!(item, Item::Clip(_))) {
            items.clear();
        }
        Ok(Drawer { name: contents.name, items })
    }

    fn text(&self, out: &mut Outgoing) -> io::Result<()> {
        let mut first = true;
        self.each(|record| {
            let words = self.words(record)?;
            if words.is_empty() {
                return Ok(());
            }
            let gap = if first { "" } else { "\n" };
            first = false;
            writeln!(out, "{gap}{}", words.trim_end_matches('\n'))
        })
    }

    fn html(&self, out: &mut Outgoing) -> io::Result<()> {
        write!(
            out,
            "<!doctype html>\n<meta charset=\"utf-8\">\n<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src 'unsafe-inline'; img-src data:\">\n<title>Clips of {}</title>\n<style>body{{font:1rem/1.5 serif;max-width:44rem;margin:2rem auto;padding:0 1rem}}pre{{white-space:pre-wrap;overflow-wrap:anywhere;font:inherit;margin:0}}time{{color:#666;font-size:.85rem}}article{{border-top:1px solid #ccc;padding:.75rem 0}}h2{{font-size:1rem;margin:0}}</style>\n",
            join::escaped(&self.service.history.device)
        )?;
        self.each(|record| {
            let title =
                record.title.as_ref().map(|title| format!("<h2>{}</h2>", join::escaped(title))).unwrap_or_default();
            let words: String =
                self.words(record)?.chars().filter(|c| matches!(c, '\n' | '\t') || !unsafe_to_print(*c)).collect();
            // Line ends are kept as they are within this element.
            let escaped = words.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
            let body = match record.kind {
                Kind::Link if words.trim().starts_with("http") => {
                    let address = words.trim().replace('&', "&amp;").replace('"', "&quot;").replace('<', "&lt;");
                    format!("<a href=\"{address}\" rel=\"noreferrer\">{}</a>", escaped.trim())
                }
                Kind::Image => {
                    let small = self.wait(self.service.history.store.thumbnail(record.number))?;
                    let alt = join::escaped(&listing::preview(record, None).0);
                    match small {
                        Some(small) => format!(
                            "<img alt=\"{alt}\" src=\"data:{};base64,{}\">",
                            small.mime,
                            data_encoding::BASE64.encode(&small.content)
                        ),
                        None => format!("<p>{alt}</p>"),
                    }
                }
                _ => format!("<pre>{escaped}</pre>"),
            };
            writeln!(out, "<article><time>{}</time>{title}{body}</article>", timestamp(record.life.copied.at()))
        })
    }

    fn csv(&self, out: &mut Outgoing) -> io::Result<()> {
        let mut table = csv::Writer::from_writer(out);
        table.write_record(["id", "kind", "copied_at", "application", "title", "drawer", "alias", "pinned", "text"])?;
        self.each(|record| {
            let text = self.words(record)?;
            let field = |field: &Option<String>| field.clone().unwrap_or_default();
            table.write_record([
                record.id.to_string(),
                record.kind.word().to_owned(),
                timestamp(record.life.copied.at()).to_string(),
                field(&record.source.application),
                field(&record.title),
                field(&record.drawer.as_ref().map(|drawer| drawer.name.clone())),
                field(&record.alias),
                record.pin.is_some().to_string(),
                text,
            ])?;
            Ok(())
        })?;
        table.flush()
    }
}

/// A clip as it stands in the list of an archive.
pub(crate) fn line_of(record: &ClipRecord, formats: Vec<FormatLine>) -> Clip {
    Clip {
        id: record.id.to_string(),
        kind: record.kind,
        formats,
        copied_at: timestamp(record.life.copied.at()),
        copies: record.copies,
        recalled_at: record.recalled_at.map(timestamp),
        recalls: record.recalls,
        title: record.title.clone(),
        mark: record.mark.map(|mark| mark.word().to_owned()),
        alias: record.alias.clone(),
        fills: record.fills,
        source: Source {
            application: record.source.application.clone(),
            window: record.source.window.clone(),
            page: record.source.page.clone(),
            selected: record.source.selected,
        },
    }
}

/// Bytes in hexadecimal.
pub(crate) fn hex(bytes: &[u8]) -> String {
    data_encoding::HEXLOWER.encode(bytes)
}
