//! Archives are unpacked by a worker of their own, which sees no more of them than the bytes that it asks for.
//!
//! An archive lies in the service, sealed; the worker asks for pieces of it as it needs them, and gives what it finds: the
//! lines of a list, and single contents. What it gives is checked by whoever asked.
//!
//! * `unpacking`: the worker's side

mod unpacking;

pub(crate) use unpacking::serve;

use crate::cage::{Cage, Killer, PATIENCE, Worker};
use crate::wire::{self, bytes};
use std::io::{self, BufReader, ErrorKind, Read, Write};
use std::path::PathBuf;
use thiserror::Error;

/// Longest line of the list, in bytes.
pub const LONGEST_LINE: u64 = 8 << 20;

/// Longest list, in bytes once it is unpacked.
pub const LONGEST_LIST: u64 = 4 << 30;

/// Bytes that are asked for at once.
const PIECE: u64 = 128 << 10;

/// Most bytes that a worker, which may be in strange hands, can have taken from it in one answer besides a content.
const MOST_ANSWERED: u64 = 64 << 20;

/// What lies somewhere, and is read piece by piece.
pub trait ReadAt: Send {
    /// How many bytes it has.
    fn size(&self) -> u64;

    /// Reads bytes from there on. Gives how many; fewer only at its end.
    ///
    /// # Errors
    /// When it cannot be read.
    fn read_at(&self, buffer: &mut [u8], at: u64) -> io::Result<usize>;
}

/// Why an archive cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ArchiveError {
    /// It is no zip, or one that is not understood.
    #[error("{0}")]
    NotAZip(String),
    /// The list is not in it.
    #[error("it has no list")]
    NoList,
    /// The list cannot be read on.
    #[error("{0}")]
    Broken(String),
    /// The worker died over it, or took too long.
    #[error("the decoder died over it, or took too long")]
    Died,
}

/// Why one content of an archive is not given.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ContentError {
    /// It is not there.
    #[error("is missing")]
    Missing,
    /// It is small in the archive and huge outside.
    #[error("is packed so tightly that it looks like a trap")]
    Trap,
    /// It is damaged, or the worker died over it.
    #[error("cannot be read: {0}")]
    Unreadable(String),
}

/// What the worker is asked. Numbers are little-endian.
mod ask {
    pub const LINES: u8 = b'l';
    pub const CONTENT: u8 = b'c';
    pub const NAMES: u8 = b'n';
}

/// What the worker says.
mod say {
    /// It needs bytes of the archive: where (eight bytes), and how many (eight).
    pub const NEED: u8 = 0;
    /// A piece of the answer, with its length (eight bytes) before it.
    pub const PIECE: u8 = 1;
    /// The end of the answer.
    pub const DONE: u8 = 2;
    /// The end of an answer after which there is nothing more.
    pub const LAST: u8 = 3;
    /// Why there is no answer: a [`Why`](super::Why), and a text with its length before it.
    pub const FAILED: u8 = 4;
}

/// Why there is no answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
enum Why {
    NotAZip,
    NoList,
    Broken,
    Missing,
    Trap,
    Died,
}

impl Why {
    /// As the worker says it; it cannot say that it died.
    fn of(byte: u8) -> Self {
        [Self::NotAZip, Self::NoList, Self::Broken, Self::Missing, Self::Trap]
            .into_iter()
            .find(|why| *why as u8 == byte)
            .unwrap_or(Self::Broken)
    }
}

/// Why, in the worker's words.
struct Failure(Why, String);

impl From<Failure> for ArchiveError {
    fn from(Failure(why, text): Failure) -> Self {
        match why {
            Why::NotAZip => Self::NotAZip(text),
            Why::NoList => Self::NoList,
            Why::Died => Self::Died,
            Why::Broken | Why::Missing | Why::Trap => Self::Broken(text),
        }
    }
}

impl From<Failure> for ContentError {
    fn from(Failure(why, text): Failure) -> Self {
        match why {
            Why::Missing => Self::Missing,
            Why::Trap => Self::Trap,
            Why::Died => Self::Unreadable(ArchiveError::Died.to_string()),
            Why::Broken | Why::NotAZip | Why::NoList => Self::Unreadable(text),
        }
    }
}

/// An archive that is being read.
pub struct Archive {
    source: Box<dyn ReadAt>,
    reader: Reader,
    ended: bool,
}

/// Who unpacks it.
enum Reader {
    Worker(Worker),
    /// A thread of this process.
    Here {
        input: io::PipeWriter,
        output: BufReader<io::PipeReader>,
    },
}

impl Cage {
    /// Opens an archive in which a file of the name `list` has a line for everything in it. It blocks, and so does all that is
    /// asked of it.
    ///
    /// # Errors
    /// When it is no archive, or has no such list.
    pub fn open_archive(&self, source: Box<dyn ReadAt>, list: &str) -> Result<Archive, ArchiveError> {
        let opened = match self.program() {
            Some(program) => Archive::in_worker(program),
            None => Archive::here(),
        };
        let reader = opened.map_err(|_| ArchiveError::Died)?;
        let mut archive = Archive { source, reader, ended: false };
        let about = [&archive.source.size().to_le_bytes(), list.as_bytes()].concat();
        let head = wire::request_head(wire::ARCHIVE, &about);
        archive.ask(&[&head, wire::ARCHIVE.as_bytes(), &about], MOST_ANSWERED, |_| {})?;
        Ok(archive)
    }
}

impl Archive {
    fn in_worker((program, arguments): &(PathBuf, Vec<String>)) -> io::Result<Reader> {
        Worker::start(program, arguments).map(Reader::Worker)
    }

    fn here() -> io::Result<Reader> {
        let (theirs, input) = io::pipe()?;
        let (output, mut says) = io::pipe()?;
        std::thread::Builder::new().name("archive".into()).spawn(move || {
            let mut theirs = BufReader::new(theirs);
            if let Ok(Some((_, about))) = wire::read_request(&mut theirs) {
                let _ = serve(&mut theirs, &mut says, &about);
            }
        })?;
        Ok(Reader::Here { input, output: BufReader::new(output) })
    }

    /// The next lines of the list, each with what ends it; none when there are no more. One that is longer than [`LONGEST_LINE`]
    /// is cut off there.
    ///
    /// # Errors
    /// When the list breaks off.
    pub fn lines(&mut self) -> Result<Option<Vec<Vec<u8>>>, ArchiveError> {
        if self.ended {
            return Ok(None);
        }
        let mut lines = Vec::new();
        self.ended = self.ask(&[&[ask::LINES]], MOST_ANSWERED, |line| lines.push(line))?;
        Ok(Some(lines).filter(|lines| !lines.is_empty()))
    }

    /// The content of this name, which should have so many bytes. If it has more, one more is given.
    ///
    /// # Errors
    /// When it is not there, or cannot be read.
    pub fn content(&mut self, name: &str, size: u64) -> Result<Vec<u8>, ContentError> {
        let mut content = Vec::new();
        let asked = [&[ask::CONTENT][..], &size.to_le_bytes(), &(name.len() as u64).to_le_bytes(), name.as_bytes()];
        self.ask(&asked, size + 1, |piece| {
            if content.is_empty() {
                content = piece;
            } else {
                content.extend(piece);
            }
        })?;
        Ok(content)
    }

    /// The names of all files in it; none for one that cannot be read.
    ///
    /// # Errors
    /// When the worker died.
    pub fn names(&mut self) -> Result<Vec<Option<String>>, ArchiveError> {
        let mut names = Vec::new();
        self.ask(&[&[ask::NAMES]], MOST_ANSWERED, |name| names.push(String::from_utf8(name).ok()))?;
        Ok(names)
    }

    /// Asks, and takes what is answered. Tells whether that was the last.
    fn ask(&mut self, asked: &[&[u8]], most: u64, take: impl FnMut(Vec<u8>)) -> Result<bool, Failure> {
        let source = &*self.source;
        let talked = match &mut self.reader {
            Reader::Worker(worker) => {
                // It is killed if it takes too long; what waits for it then sees its end.
                let _killer = Killer::new(worker.child.id(), PATIENCE);
                talk(&mut worker.input, &mut worker.output, source, (asked, most), take)
            }
            Reader::Here { input, output } => talk(input, output, source, (asked, most), take),
        };
        talked.unwrap_or_else(|error| {
            tracing::warn!(%error, "the decoder died over an archive");
            Err(Failure(Why::Died, String::new()))
        })
    }
}

/// Asks the worker, gives it what it needs, and takes what it answers.
fn talk(
    to: &mut impl Write,
    from: &mut impl Read,
    source: &dyn ReadAt,
    (asked, most): (&[&[u8]], u64),
    mut take: impl FnMut(Vec<u8>),
) -> io::Result<Result<bool, Failure>> {
    to.write_all(&asked.concat())?;
    let mut left = most;
    loop {
        match byte(from)? {
            say::NEED => {
                let (at, count) = (long(from)?, long(from)?);
                let mut piece = vec![0; usize::try_from(count.min(PIECE)).unwrap_or(0)];
                let read = source.read_at(&mut piece, at)?;
                piece.truncate(read);
                to.write_all(&(read as u64).to_le_bytes())?;
                to.write_all(&piece)?;
            }
            say::PIECE => {
                let length = long(from)?;
                left = left.checked_sub(length).ok_or(ErrorKind::InvalidData)?;
                take(bytes(from, length, most)?);
            }
            say::DONE => return Ok(Ok(false)),
            say::LAST => return Ok(Ok(true)),
            say::FAILED => {
                let why = Why::of(byte(from)?);
                let length = long(from)?;
                let text = String::from_utf8_lossy(&bytes(from, length, 4096)?).into_owned();
                return Ok(Err(Failure(why, yadori_core::preview::one_line(&text, 200))));
            }
            _ => return Err(ErrorKind::InvalidData.into()),
        }
    }
}

fn byte(from: &mut impl Read) -> io::Result<u8> {
    let mut byte = [0];
    from.read_exact(&mut byte)?;
    Ok(byte[0])
}

fn long(from: &mut impl Read) -> io::Result<u64> {
    let mut long = [0; 8];
    from.read_exact(&mut long)?;
    Ok(u64::from_le_bytes(long))
}

#[cfg(test)]
mod tests {
    use super::*;
    use zip::ZipWriter;
    use zip::write::SimpleFileOptions;

    struct Bytes(Vec<u8>);

    impl ReadAt for Bytes {
        fn size(&self) -> u64 {
            self.0.len() as u64
        }

        fn read_at(&self, buffer: &mut [u8], at: u64) -> io::Result<usize> {
            let mut rest = &self.0[(at as usize).min(self.0.len())..];
            rest.read(buffer)
        }
    }

    fn archive(files: &[(&str, &[u8])]) -> Vec<u8> {
        let mut zip = ZipWriter::new(io::Cursor::new(Vec::new()));
        for (name, content) in files {
            zip.start_file(*name, SimpleFileOptions::default()).unwrap();
            zip.write_all(content).unwrap();
        }
        zip.finish().unwrap().into_inner()
    }

    fn open(bytes: Vec<u8>) -> Result<Archive, ArchiveError> {
        Cage::none().open_archive(Box::new(Bytes(bytes)), "list")
    }

    fn all_lines(archive: &mut Archive) -> Result<Vec<Vec<u8>>, ArchiveError> {
        let mut all = Vec::new();
        while let Some(lines) = archive.lines()? {
            all.extend(lines);
        }
        Ok(all)
    }

    #[test]
    fn lines_contents_and_names_are_given_in_any_order() {
        let long = [&vec![b'x'; 3 * PIECE as usize][..], b"\n"].concat();
        let many: Vec<u8> = (0..40_000).flat_map(|n| format!("{n}\n").into_bytes()).collect();
        let list = [&long[..], &many, b"without an end"].concat();
        let poster: Vec<u8> = (0..900_000u32).flat_map(|n| n.wrapping_mul(2_654_435_761).to_le_bytes()).collect();
        let mut archive =
            open(archive(&[("content/1", &poster), ("list", &list), ("content/2", b""), ("content/3", b"load-in")]))
                .unwrap();
        assert_eq!(archive.content("content/1", poster.len() as u64).unwrap(), poster);
        let first = archive.lines().unwrap().unwrap();
        assert_eq!(first[0], long);
        assert_eq!(archive.content("content/3", 7).unwrap(), b"load-in");
        let rest = all_lines(&mut archive).unwrap();
        assert_eq!([first, rest].concat().concat(), list);
        assert_eq!(archive.lines(), Ok(None));
        assert_eq!(archive.content("content/2", 0).unwrap(), b"");
        // One byte more tells that it is too long.
        assert_eq!(archive.content("content/3", 3).unwrap(), b"load");
        assert_eq!(archive.content("content/4", 3), Err(ContentError::Missing));
        let names: Vec<_> = archive.names().unwrap().into_iter().flatten().collect();
        assert_eq!(names, ["content/1", "list", "content/2", "content/3"]);
    }

    #[test]
    fn what_is_no_archive_or_a_trap_is_said_to_be() {
        assert!(matches!(open(b"a letter".to_vec()), Err(ArchiveError::NotAZip(_))));
        assert!(matches!(open(Vec::new()), Err(ArchiveError::NotAZip(_))));
        assert!(matches!(open(archive(&[("another", b"x")])), Err(ArchiveError::NoList)));
        let zeros = vec![0; 4 << 20];
        let mut trap = open(archive(&[("list", b""), ("content/0", &zeros)])).unwrap();
        assert_eq!(trap.content("content/0", zeros.len() as u64), Err(ContentError::Trap));
        assert_eq!(trap.lines(), Ok(None));
    }

    /// Whatever byte is damaged, the answer is an answer or an error, and never a wrong content of the right size unnoticed by
    /// its checksum.
    #[test]
    fn damaged_archives_are_read_or_refused() {
        let whole = archive(&[("list", b"one\ntwo\n"), ("content/0", b"the stalls open at noon")]);
        for at in 0..whole.len() {
            let mut damaged = whole.clone();
            damaged[at] ^= 0x41;
            let Ok(mut archive) = open(damaged) else { continue };
            let _ = all_lines(&mut archive);
            if let Ok(content) = archive.content("content/0", 23) {
                assert!(content == b"the stalls open at noon" || content.len() != 23, "damaged at {at}: {content:?}");
            }
        }
    }
}
