//! What is sealed while it is written, and opened while it is read: for files that stay, with a key that is kept elsewhere.
//!
//! In pieces, each with its length, whether it is the last, and the sealed bytes. A piece is bound to its place and to whether
//! another follows: none can be left out, put elsewhere, or cut off at the end. (STREAM: Hoang, Reyhanitabar, Rogaway and
//! Vizár, *Online Authenticated-Encryption and its Nonce-Reuse Misuse-Resistance*, 2015; here with a random nonce for each.)

use crate::{Secret, seal};
use std::io::{self, Read, Write};

/// Bytes that are sealed together.
const PIECE: usize = 1 << 20;

fn purpose(of: &[u8], number: u64, last: bool) -> Vec<u8> {
    [of, &number.to_le_bytes(), &[u8::from(last)]].concat()
}

/// Seals what is written. It is whole only when [`SealingWriter::finish`] was called.
pub struct SealingWriter<W> {
    to: W,
    key: Secret,
    purpose: &'static [u8],
    piece: Vec<u8>,
    number: u64,
}

impl<W: Write> SealingWriter<W> {
    /// One that writes to `to`. The same purpose must be given when it is opened.
    pub fn new(to: W, key: Secret, purpose: &'static [u8]) -> Self {
        Self { to, key, purpose, piece: Vec::with_capacity(PIECE), number: 0 }
    }

    /// Writes the last piece; gives back where it was written.
    ///
    /// # Errors
    /// When that fails, or the system gives no random numbers.
    pub fn finish(mut self) -> io::Result<W> {
        self.put_piece(true)?;
        Ok(self.to)
    }

    fn put_piece(&mut self, last: bool) -> io::Result<()> {
        let sealed = seal::seal(&self.key, &purpose(self.purpose, self.number, last), &self.piece)?;
        self.to.write_all(&(sealed.len() as u32).to_le_bytes())?;
        self.to.write_all(&[u8::from(last)])?;
        self.to.write_all(&sealed)?;
        self.piece.clear();
        self.number += 1;
        Ok(())
    }
}

impl<W: Write> Write for SealingWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.piece.len() == PIECE {
            self.put_piece(false)?;
        }
        let taken = bytes.len().min(PIECE - self.piece.len());
        self.piece.extend_from_slice(&bytes[..taken]);
        Ok(taken)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Opens what a [`SealingWriter`] has written. It reads nothing that is not whole: `InvalidData` says so.
pub struct OpeningReader<R> {
    from: R,
    key: Secret,
    purpose: &'static [u8],
    piece: Vec<u8>,
    at: usize,
    number: u64,
    ended: bool,
}

impl<R: Read> OpeningReader<R> {
    /// One that reads from `from`.
    pub fn new(from: R, key: Secret, purpose: &'static [u8]) -> Self {
        Self { from, key, purpose, piece: Vec::new(), at: 0, number: 0, ended: false }
    }

    /// What comes next, in one piece: as it was opened, without another copy. Empty at the end.
    ///
    /// # Errors
    /// As for reading.
    pub fn read_piece(&mut self) -> io::Result<Vec<u8>> {
        while self.at == self.piece.len() && !self.ended {
            self.next_piece()?;
        }
        let mut piece = std::mem::take(&mut self.piece);
        drop(piece.drain(..std::mem::take(&mut self.at)));
        Ok(piece)
    }

    fn next_piece(&mut self) -> io::Result<()> {
        let invalid = |what: String| io::Error::new(io::ErrorKind::InvalidData, what);
        let mut head = [0; 5];
        self.from.read_exact(&mut head)?;
        let [length @ .., last] = head;
        let (length, last) = (u32::from_le_bytes(length) as usize, last != 0);
        if length > PIECE + seal::OVERHEAD {
            return Err(invalid("a piece is too long".into()));
        }
        let mut sealed = vec![0; length];
        self.from.read_exact(&mut sealed)?;
        let purpose = purpose(self.purpose, self.number, last);
        self.piece = seal::open(&self.key, &purpose, &sealed).map_err(|error| invalid(error.to_string()))?;
        (self.at, self.ended) = (0, last);
        self.number += 1;
        Ok(())
    }
}

impl<R: Read> Read for OpeningReader<R> {
    fn read(&mut self, bytes: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() && !self.ended {
            self.next_piece()?;
        }
        let taken = bytes.len().min(self.piece.len() - self.at);
        bytes[..taken].copy_from_slice(&self.piece[self.at..][..taken]);
        self.at += taken;
        Ok(taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sealed(key: &Secret, plain: &[u8]) -> Vec<u8> {
        let mut writer = SealingWriter::new(Vec::new(), key.clone(), b"test");
        writer.write_all(plain).unwrap();
        writer.finish().unwrap()
    }

    fn opened(key: &Secret, sealed: &[u8], purpose: &'static [u8]) -> io::Result<Vec<u8>> {
        let mut plain = Vec::new();
        OpeningReader::new(sealed, key.clone(), purpose).read_to_end(&mut plain).map(|_| plain)
    }

    #[test]
    fn it_is_opened_whole_or_not_at_all() {
        let key = Secret::random().unwrap();
        for length in [0, 1, PIECE - 1, PIECE, PIECE + 1, 2 * PIECE + 7] {
            let plain: Vec<u8> = (0..length).map(|at| at as u8).collect();
            let whole = sealed(&key, &plain);
            assert!(opened(&key, &whole, b"test").unwrap() == plain);
            // The same in pieces, after a beginning that was read.
            let mut opening = OpeningReader::new(whole.as_slice(), key.clone(), b"test");
            let mut come = vec![0; length.min(3)];
            opening.read_exact(&mut come).unwrap();
            while let Some(piece) = Some(opening.read_piece().unwrap()).filter(|piece| !piece.is_empty()) {
                come.extend(piece);
            }
            assert!(come == plain && opening.read_piece().unwrap().is_empty());
            assert!(opened(&key, &whole, b"rest").is_err());
            assert!(opened(&Secret::random().unwrap(), &whole, b"test").is_err());
            for cut in [0, 3, whole.len() - 1] {
                assert!(opened(&key, &whole[..cut], b"test").is_err());
            }
        }
    }

    #[test]
    fn pieces_cannot_be_left_out_or_put_elsewhere() {
        let key = Secret::random().unwrap();
        let whole = sealed(&key, &vec![7; 3 * PIECE]);
        let piece = PIECE + seal::OVERHEAD + 5;
        let [first, second, last] = [0, 1, 2].map(|nth| &whole[nth * piece..(nth + 1) * piece]);
        assert!(opened(&key, &[first, second, last].concat(), b"test").is_ok());
        for order in [[second, first, last].concat(), [first, last].concat(), [first, second].concat()] {
            assert!(opened(&key, &order, b"test").is_err());
        }
        let mut ended = [first, second].concat();
        ended[piece + 4] = 1;
        assert!(opened(&key, &ended, b"test").is_err(), "it only says that it is the last");
    }
}
