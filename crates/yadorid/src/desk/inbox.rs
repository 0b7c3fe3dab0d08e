//! Copies that are made while the history is locked, sealed to a public key: whoever reads the disk reads none of them. They
//! are filed when the history is unlocked.
//!
//! The file holds one after the other: four bytes with its length (big-endian), and a box.

use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;
use yadori_core::capture::Copy;
use yadori_core::{Format, Source};
use yadori_files::Places;
use yadori_vault::{Secret, boxes};

/// What the boxes are for.
const PURPOSE: &[u8] = b"yadori 2026-11 copy while locked";

/// Most bytes that wait.
const MOST: u64 = 256 << 20;

/// A copy, as it is sealed.
#[derive(Serialize, Deserialize)]
struct Sealed {
    formats: Vec<(String, String)>,
    application: Option<String>,
    window: Option<String>,
    page: Option<String>,
    selected: bool,
}

/// The file.
pub(super) struct Inbox {
    path: PathBuf,
    /// Written and read by one at a time.
    alone: Mutex<()>,
}

impl Inbox {
    pub fn new(places: &Places) -> Self {
        Self { path: places.data.join("inbox"), alone: Mutex::new(()) }
    }

    /// Seals a copy. One that cannot be is not kept, and the log says so.
    pub fn seal(&self, to: [u8; 32], copy: &Copy) {
        let Source { application, window, page, selected } = copy.source.clone();
        let formats = copy.formats.iter();
        let formats = formats.map(|format| (format.mime.clone(), data_encoding::BASE64.encode(&format.data))).collect();
        let sealed = Sealed { formats, application, window, page, selected };
        let plain = zeroize::Zeroizing::new(serde_json::to_vec(&sealed).unwrap_or_default());
        let sealed = boxes::seal_to(to, PURPOSE, &plain).map_err(io::Error::other);
        if let Err(error) = sealed.and_then(|sealed| self.append(&sealed)) {
            tracing::error!(%error, "a copy that was made while the history is locked is not kept");
        }
    }

    fn append(&self, sealed: &[u8]) -> io::Result<()> {
        let _alone = self.alone.lock();
        let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(&self.path)?;
        let before = file.metadata()?.len();
        if before + sealed.len() as u64 > MOST {
            return Err(io::Error::other("too much waits to be filed already"));
        }
        let length = u32::try_from(sealed.len()).map_err(io::Error::other)?;
        let written = file.write_all(&[&length.to_be_bytes()[..], sealed].concat()).and_then(|()| file.sync_data());
        if written.is_err() {
            // A half of one would hide those after it.
            let _ = file.set_len(before);
        }
        written
    }

    /// Opens what waits, and what it takes to remove it when it is filed.
    pub fn open(&self, secret: &Secret) -> Vec<Copy> {
        let _alone = self.alone.lock();
        let Ok(mut file) = File::open(&self.path) else { return Vec::new() };
        let mut copies = Vec::new();
        let mut length = [0; 4];
        while file.read_exact(&mut length).is_ok() {
            let mut sealed = Vec::new();
            let wanted = u64::from(u32::from_be_bytes(length)).min(MOST);
            if (&mut file).take(wanted).read_to_end(&mut sealed).is_err() {
                break;
            }
            match boxes::open(secret, PURPOSE, &sealed).ok().and_then(|plain| read(&plain)) {
                Some(copy) => copies.push(copy),
                None => tracing::warn!("a copy that was made while the history was locked cannot be read"),
            }
        }
        copies
    }

    /// What waited is filed.
    pub fn clear(&self) {
        let _alone = self.alone.lock();
        if let Err(error) = std::fs::remove_file(&self.path)
            && error.kind() != io::ErrorKind::NotFound
        {
            tracing::warn!(%error, "copies that were filed are filed again at the next unlock");
        }
    }
}

fn read(plain: &[u8]) -> Option<Copy> {
    let Sealed { formats, application, window, page, selected } = serde_json::from_slice(plain).ok()?;
    let format =
        |(mime, data): (String, String)| Some(Format::new(mime, data_encoding::BASE64.decode(data.as_bytes()).ok()?));
    let formats = formats.into_iter().map(format).collect::<Option<_>>()?;
    Some(Copy { formats, source: Source { application, window, page, selected } })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn copies_wait_sealed_and_in_their_order() {
        let home = tempfile::tempdir().unwrap();
        let places = Places::under(home.path());
        yadori_files::private_folder(&places.data).unwrap();
        let inbox = Inbox::new(&places);
        let (secret, other) = (Secret::random().unwrap(), Secret::random().unwrap());
        let source = Source { application: Some("Letters".into()), ..Source::default() };
        let copy = |text: &'static str| Copy { formats: vec![Format::new("text/plain", text)], source: source.clone() };
        for text in ["load-in 14:30", "the lamp is blown"] {
            inbox.seal(boxes::public(&secret), &copy(text));
        }
        let raw = std::fs::read(&inbox.path).unwrap();
        assert!(!raw.windows(4).any(|window| window == b"lamp"));
        let texts = |copies: Vec<Copy>| copies.into_iter().map(|copy| copy.formats[0].data.clone()).collect::<Vec<_>>();
        assert_eq!(texts(inbox.open(&secret)), ["load-in 14:30", "the lamp is blown"]);
        assert!(inbox.open(&other).is_empty());
        std::fs::write(&inbox.path, &raw[..raw.len() - 3]).unwrap();
        assert_eq!(texts(inbox.open(&secret)), ["load-in 14:30"]);
        inbox.clear();
        assert!(inbox.open(&secret).is_empty());
    }
}
