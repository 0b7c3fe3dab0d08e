//! The server encrypts what it writes, with a key that is on no disk.
//!
//! The key reaches the server through a file in memory that it inherits (memfd_create(2)), and is wiped there as soon as
//! the server has read it. Tables, the log, temporary and internal files are encrypted (AES-256; MariaDB's
//! `file_key_management`). Which key a folder is encrypted with is told by a file beside, which holds the key's id.

use rustix::fs::{MemfdFlags, ftruncate, memfd_create};
use std::fs::File;
use std::io;
use std::os::fd::{AsRawFd, RawFd};
use std::os::unix::fs::FileExt;
use std::path::Path;
use yadori_vault::{KeyId, Secret};
use zeroize::Zeroizing;

/// The file that holds the id of the key.
pub(super) const KEY_ID: &str = "key";

/// For what the database's key is derived from the data key.
const PURPOSE: &str = "yadori 2026-11 database";

/// A key, where a server can read it while it starts. It is wiped when this is dropped.
pub(super) struct KeyInMemory(File);

impl KeyInMemory {
    pub fn new(key: &Secret) -> io::Result<Self> {
        let file = File::from(memfd_create("yadori", MemfdFlags::CLOEXEC)?);
        let digits = Zeroizing::new(data_encoding::HEXLOWER.encode(key.derive(PURPOSE).bytes()));
        file.write_all_at(Zeroizing::new(format!("1;{}\n", &*digits)).as_bytes(), 0)?;
        Ok(Self(file))
    }

    pub fn descriptor(&self) -> RawFd {
        self.0.as_raw_fd()
    }

    pub fn options(&self) -> [String; 9] {
        [
            "--plugin-load-add=file_key_management".into(),
            format!("--file-key-management-filename=/proc/self/fd/{}", self.descriptor()),
            "--innodb-encrypt-tables=FORCE".into(),
            "--innodb-encrypt-log=ON".into(),
            "--innodb-encrypt-temporary-tables=ON".into(),
            "--encrypt-tmp-files=ON".into(),
            "--aria-encrypt-tables=ON".into(),
            // For what was written before the tables were set up.
            "--innodb-encryption-threads=1".into(),
            // Nothing is encrypted anew by itself: there is one version of the key.
            "--innodb-encryption-rotate-key-age=0".into(),
        ]
    }
}

impl Drop for KeyInMemory {
    fn drop(&mut self) {
        let _ = self.0.write_all_at(&[0; 80], 0);
        let _ = ftruncate(&self.0, 0);
    }
}

/// The id of the key that the database in `folder` is encrypted with; none if it is not.
pub(super) fn key_id(folder: &Path) -> io::Result<Option<String>> {
    match std::fs::read_to_string(folder.join(KEY_ID)) {
        Ok(id) => Ok(Some(id.trim().to_owned())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// Notes the id of the key that the database in `folder` is encrypted with.
pub(super) fn note_key_id(folder: &Path, key: &Secret) -> io::Result<()> {
    yadori_files::write_private(&folder.join(KEY_ID), format!("{}\n", KeyId::of(key)).as_bytes())
}
