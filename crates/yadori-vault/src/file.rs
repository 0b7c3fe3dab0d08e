//! A large file that is written once, from its beginning to its end, and then read at any place.
//!
//! Its key is random and never leaves the memory: what is left of the file, should the program be killed, is noise.

use crate::seal::cipher;
use crate::secret::Secret;
use chacha20poly1305::XNonce;
use chacha20poly1305::aead::AeadInPlace;
use std::fs::File;
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use zeroize::Zeroizing;

/// Bytes that are sealed together.
const CHUNK: usize = 64 * 1024;

/// Bytes that each chunk takes more: the tag of Poly1305.
const TAG: usize = 16;

/// A sealed file. Each chunk has its number as its nonce: the key is used for this file only, and no chunk is sealed twice.
pub struct SealedFile {
    file: File,
    key: Secret,
    /// What is not sealed yet, less than a chunk.
    rest: Zeroizing<Vec<u8>>,
    /// Chunks that are.
    chunks: u64,
}

impl SealedFile {
    /// An empty one in `file`, which is open for reading and writing, and best has no name.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn new(file: File) -> Result<Self, getrandom::Error> {
        let rest = Zeroizing::new(Vec::with_capacity(CHUNK));
        Ok(Self { file, key: Secret::random()?, rest, chunks: 0 })
    }

    /// Bytes that were written.
    pub fn len(&self) -> u64 {
        self.chunks * CHUNK as u64 + self.rest.len() as u64
    }

    /// Whether nothing was written.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Reads from a place on. Gives the number of bytes, 0 at the end.
    ///
    /// # Errors
    /// When the file cannot be read, or was changed by somebody.
    pub fn read_at(&self, buffer: &mut [u8], at: u64) -> io::Result<usize> {
        let (number, within) = (at / CHUNK as u64, (at % CHUNK as u64) as usize);
        let take = |chunk: &[u8], buffer: &mut [u8]| {
            let rest = chunk.get(within..).unwrap_or_default();
            let count = rest.len().min(buffer.len());
            buffer[..count].copy_from_slice(&rest[..count]);
            count
        };
        if number >= self.chunks {
            return Ok(if number == self.chunks { take(&self.rest, buffer) } else { 0 });
        }
        let mut chunk = Zeroizing::new(vec![0; CHUNK + TAG]);
        self.file.read_exact_at(&mut chunk, number * (CHUNK + TAG) as u64)?;
        let (content, tag) = chunk.split_at_mut(CHUNK);
        let tag: [u8; TAG] = tag.try_into().unwrap_or_default();
        cipher(&self.key)
            .decrypt_in_place_detached(&nonce(number), &[], content, &tag.into())
            .map_err(|_| io::Error::new(io::ErrorKind::InvalidData, "a file of the service was changed by somebody"))?;
        Ok(take(content, buffer))
    }

    fn seal_rest(&mut self) -> io::Result<()> {
        let tag = cipher(&self.key)
            .encrypt_in_place_detached(&nonce(self.chunks), &[], &mut self.rest)
            .map_err(|_| io::Error::other("a chunk was not sealed"))?;
        self.file.write_all_at(&self.rest, self.chunks * (CHUNK + TAG) as u64)?;
        self.file.write_all_at(&tag, self.chunks * (CHUNK + TAG) as u64 + CHUNK as u64)?;
        self.chunks += 1;
        self.rest.clear();
        Ok(())
    }
}

fn nonce(number: u64) -> XNonce {
    let mut nonce = [0; 24];
    nonce[..8].copy_from_slice(&number.to_le_bytes());
    nonce.into()
}

impl Write for SealedFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let count = bytes.len().min(CHUNK - self.rest.len());
        self.rest.extend_from_slice(&bytes[..count]);
        if self.rest.len() == CHUNK {
            self.seal_rest()?;
        }
        Ok(count)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::io::{Read, Seek};

    fn file() -> File {
        let path = std::env::temp_dir().join(format!(
            "yadori-sealed-{}-{:?}",
            std::process::id(),
            std::thread::current().id()
        ));
        let file = File::options().read(true).write(true).create(true).truncate(true).open(&path).unwrap();
        std::fs::remove_file(path).unwrap();
        file
    }

    #[test]
    fn nothing_of_the_content_is_on_the_disk_and_a_change_is_noticed() {
        let file = file();
        let mut sealed = SealedFile::new(file.try_clone().unwrap()).unwrap();
        sealed.write_all(&b"the lamp is blown ".repeat(10_000)).unwrap();
        let mut raw = Vec::new();
        let mut reader = file.try_clone().unwrap();
        reader.rewind().unwrap();
        reader.read_to_end(&mut raw).unwrap();
        assert!(raw.len() >= 2 * CHUNK && !raw.windows(4).any(|window| window == b"lamp"));
        file.write_all_at(&[raw[5] ^ 1], 5).unwrap();
        assert_eq!(sealed.read_at(&mut [0; 8], 0).unwrap_err().kind(), io::ErrorKind::InvalidData);
        assert_eq!(sealed.read_at(&mut [0; 8], CHUNK as u64).unwrap(), 8);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(32))]
        #[test]
        fn what_is_written_is_read_at_any_place(pieces in prop::collection::vec(0usize..90_000, 0..6), at in 0u64..300_000, count in 0usize..200_000) {
            let mut sealed = SealedFile::new(file()).unwrap();
            let mut plain = Vec::new();
            for (number, piece) in pieces.into_iter().enumerate() {
                let piece: Vec<u8> = (0..piece).map(|byte| (byte * (number + 3)) as u8).collect();
                sealed.write_all(&piece).unwrap();
                plain.extend(piece);
            }
            prop_assert_eq!(sealed.len(), plain.len() as u64);
            let mut read = Vec::new();
            while read.len() < count {
                let mut buffer = vec![0; count - read.len()];
                let got = sealed.read_at(&mut buffer, at + read.len() as u64).unwrap();
                if got == 0 {
                    break;
                }
                read.extend_from_slice(&buffer[..got]);
            }
            let from = (at as usize).min(plain.len());
            prop_assert_eq!(&read[..], &plain[from..(from + count).min(plain.len())]);
        }
    }
}
