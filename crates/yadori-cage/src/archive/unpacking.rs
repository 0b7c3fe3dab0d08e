//! The worker's side of an archive: it unpacks what it is given, and gives what is asked for.

use super::{LONGEST_LINE, LONGEST_LIST, PIECE, Why, ask, byte, long, say};
use crate::wire::bytes;
use std::cell::RefCell;
use std::io::{self, BufRead, BufReader, ErrorKind, Read, Seek, SeekFrom, Write};
use std::rc::Rc;
use zip::ZipArchive;

/// Most files in an archive.
const MOST_FILES: usize = 500_000;

/// A content that becomes so many times larger is taken for a trap, unless it is small.
const MOST_TIMES: u64 = 500;
const SMALL: u64 = 1 << 20;

/// Bytes of lines that are given together, unless one is longer.
const TOGETHER: usize = 256 << 10;

/// Reads the archive that `about` tells of, its size and the name of its list, and answers until nobody asks
/// any more.
pub(crate) fn serve(input: &mut impl Read, output: &mut impl Write, about: &[u8]) -> io::Result<()> {
    let (size, list) = about.split_first_chunk().ok_or(ErrorKind::InvalidData)?;
    let list = str::from_utf8(list).map_err(|_| ErrorKind::InvalidData)?;
    let wire = Rc::new(RefCell::new(Wire { input, output }));
    let far = Far { wire: wire.clone(), size: u64::from_le_bytes(*size), at: 0, held: Vec::new(), held_at: 0 };
    let fails = |why, text: String| wire.borrow_mut().fails(why, &text);
    let mut archive = match ZipArchive::new(far) {
        Ok(archive) if archive.len() > MOST_FILES => {
            return fails(Why::NotAZip, format!("there are more than {MOST_FILES} files in it"));
        }
        Ok(archive) => archive,
        Err(zip::result::ZipError::InvalidArchive(_)) => {
            return fails(Why::NotAZip, "it is no zip file, or only a part of one".into());
        }
        Err(error) => return fails(Why::NotAZip, error.to_string()),
    };
    // One to read the list from, one for the contents.
    let mut contents = archive.clone();
    let Ok(list) = archive.by_name(list) else { return fails(Why::NoList, String::new()) };
    let mut list = BufReader::new(list.take(LONGEST_LIST));
    wire.borrow_mut().says(say::DONE)?;
    loop {
        let asked = wire.borrow_mut().command()?;
        match asked {
            None => return Ok(()),
            Some(Command::Lines) => lines(&mut list, &wire)?,
            Some(Command::Content { name, size }) => content(&mut contents, &name, size, &wire)?,
            Some(Command::Names) => {
                let mut wire = wire.borrow_mut();
                for name in contents.file_names() {
                    // Bytes that are no text are nobody's name.
                    wire.gives(name.as_deref().map_or(&[0xff][..], str::as_bytes))?;
                }
                wire.says(say::DONE)?;
            }
        }
    }
}

enum Command {
    Lines,
    Content { name: String, size: u64 },
    Names,
}

/// Gives the next lines.
fn lines<I: Read, O: Write>(list: &mut impl BufRead, wire: &RefCell<Wire<I, O>>) -> io::Result<()> {
    let mut given = 0;
    while given < TOGETHER {
        let mut line = Vec::new();
        match list.take(LONGEST_LINE).read_until(b'\n', &mut line) {
            Ok(0) => return wire.borrow_mut().says(say::LAST),
            Ok(_) => wire.borrow_mut().gives(&line)?,
            Err(error) => return wire.borrow_mut().fails(Why::Broken, &error.to_string()),
        }
        given += line.len();
    }
    wire.borrow_mut().says(say::DONE)
}

/// Gives a content, or one byte more than it should have.
fn content<I: Read, O: Write>(
    contents: &mut ZipArchive<Far<I, O>>,
    name: &str,
    size: u64,
    wire: &RefCell<Wire<I, O>>,
) -> io::Result<()> {
    let Ok(entry) = contents.by_name(name) else { return wire.borrow_mut().fails(Why::Missing, "") };
    if size > SMALL && size / entry.compressed_size().max(1) > MOST_TIMES {
        return wire.borrow_mut().fails(Why::Trap, "");
    }
    let mut entry = entry.take(size.saturating_add(1));
    let mut piece = vec![0; PIECE as usize];
    loop {
        match entry.read(&mut piece) {
            Ok(0) => return wire.borrow_mut().says(say::DONE),
            Ok(count) => wire.borrow_mut().gives(&piece[..count])?,
            Err(error) => return wire.borrow_mut().fails(Why::Broken, &error.to_string()),
        }
    }
}

/// What the worker is spoken to by.
struct Wire<I, O> {
    input: I,
    output: O,
}

impl<I: Read, O: Write> Wire<I, O> {
    /// What is asked next; nothing at the end.
    fn command(&mut self) -> io::Result<Option<Command>> {
        self.output.flush()?;
        let asked = match byte(&mut self.input) {
            Err(error) if error.kind() == ErrorKind::UnexpectedEof => return Ok(None),
            asked => asked?,
        };
        Ok(Some(match asked {
            ask::LINES => Command::Lines,
            ask::NAMES => Command::Names,
            ask::CONTENT => {
                let (size, length) = (long(&mut self.input)?, long(&mut self.input)?);
                let name = String::from_utf8(bytes(&mut self.input, length, 4096)?);
                Command::Content { name: name.map_err(|_| ErrorKind::InvalidData)?, size }
            }
            _ => return Err(ErrorKind::InvalidData.into()),
        }))
    }

    fn says(&mut self, what: u8) -> io::Result<()> {
        self.output.write_all(&[what])
    }

    fn gives(&mut self, piece: &[u8]) -> io::Result<()> {
        self.says(say::PIECE)?;
        self.output.write_all(&(piece.len() as u64).to_le_bytes())?;
        self.output.write_all(piece)
    }

    fn fails(&mut self, why: Why, text: &str) -> io::Result<()> {
        let text = &text.as_bytes()[..text.len().min(4096)];
        self.output.write_all(&[say::FAILED, why as u8])?;
        self.output.write_all(&(text.len() as u64).to_le_bytes())?;
        self.output.write_all(text)?;
        self.output.flush()
    }

    /// Bytes of the archive.
    fn needs(&mut self, at: u64, count: u64) -> io::Result<Vec<u8>> {
        self.says(say::NEED)?;
        self.output.write_all(&[at.to_le_bytes(), count.to_le_bytes()].concat())?;
        self.output.flush()?;
        let length = long(&mut self.input)?;
        bytes(&mut self.input, length, count)
    }
}

/// The archive, as the worker sees it: a piece of it is held, and others are asked for.
struct Far<I, O> {
    wire: Rc<RefCell<Wire<I, O>>>,
    size: u64,
    at: u64,
    held: Vec<u8>,
    held_at: u64,
}

impl<I, O> Clone for Far<I, O> {
    fn clone(&self) -> Self {
        Self { wire: self.wire.clone(), size: self.size, at: 0, held: Vec::new(), held_at: 0 }
    }
}

impl<I: Read, O: Write> Read for Far<I, O> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.at >= self.size || buffer.is_empty() {
            return Ok(0);
        }
        let mut within = usize::try_from(self.at.wrapping_sub(self.held_at)).unwrap_or(usize::MAX);
        if within >= self.held.len() {
            // Aligned, so that going back by little finds it held.
            self.held_at = self.at / PIECE * PIECE;
            self.held = self.wire.borrow_mut().needs(self.held_at, PIECE)?;
            within = (self.at - self.held_at) as usize;
        }
        let rest = self.held.get(within..).unwrap_or_default();
        let count = rest.len().min(buffer.len());
        buffer[..count].copy_from_slice(&rest[..count]);
        self.at += count as u64;
        Ok(count)
    }
}

impl<I, O> Seek for Far<I, O> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}
