//! Where an instance keeps its files, and how they are written: readable by their owner alone, and whole or not at all.

mod opening;
mod places;

pub use opening::{opener, way_in};
pub use places::Places;

use std::fs::{self, DirBuilder, Permissions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;
use tempfile::NamedTempFile;

/// Makes a folder that its owner alone can enter (0700), with those above it. One that is there becomes so.
///
/// # Errors
/// When it cannot be made, or belongs to somebody else.
pub fn private_folder(path: &Path) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(path)?;
    fs::set_permissions(path, Permissions::from_mode(0o700))
}

/// Writes a file that its owner alone can read (0600). It appears under its name when it is whole and on the disk, in place of
/// one that was there.
///
/// # Errors
/// When it cannot be written; what was there is unchanged then.
pub fn write_private(path: &Path, content: &[u8]) -> io::Result<()> {
    write_private_with(path, |file| file.write_all(content))
}

/// The same with what `write` writes.
///
/// # Errors
/// Those of `write`, and when it cannot be written.
pub fn write_private_with<T, E: From<io::Error>>(
    path: &Path,
    write: impl FnOnce(&mut fs::File) -> Result<T, E>,
) -> Result<T, E> {
    let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let mut growing = NamedTempFile::new_in(folder)?;
    let done = write(growing.as_file_mut())?;
    growing.as_file().sync_all()?;
    growing.persist(path).map_err(|error| error.error)?;
    Ok(done)
}

/// Writes over a file and removes it. What a file system's journal, a snapshot or a disk of flash memory keeps is beyond us.
///
/// # Errors
/// When it is not there, or the disk refuses.
pub fn wipe(path: &Path) -> io::Result<()> {
    static PIECE: [u8; 1 << 16] = [0; 1 << 16];
    let mut file = fs::OpenOptions::new().write(true).open(path)?;
    let mut left = file.metadata()?.len();
    while left > 0 {
        let count = left.min(PIECE.len() as u64);
        file.write_all(&PIECE[..count as usize])?;
        left -= count;
    }
    file.sync_data()?;
    fs::remove_file(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_whole_and_private_or_as_it_was() {
        let folder = tempfile::tempdir().unwrap();
        let inner = folder.path().join("a/b");
        private_folder(&inner).unwrap();
        assert_eq!(fs::metadata(&inner).unwrap().permissions().mode() & 0o777, 0o700);
        let path = inner.join("key");
        write_private(&path, b"first").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        let failed = write_private_with(&path, |file| {
            file.write_all(b"second")?;
            Err::<(), _>(io::Error::other("the source broke off"))
        });
        assert!(failed.is_err());
        assert_eq!(fs::read(&path).unwrap(), b"first");
        assert_eq!(fs::read_dir(&inner).unwrap().count(), 1, "nothing half written is left");
    }
}
