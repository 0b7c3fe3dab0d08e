//! A database that was built beside another takes its place.
//!
//! It can be killed at any point; [`recover`] goes on from what it finds:
//!
//! | `database` | `.next` | `.old` | what happened | what is done |
//! | --- | --- | --- | --- | --- |
//! | there | | | nothing, or all | nothing |
//! | there | there | | the new one is not whole | it is removed |
//! | | there | there | the new one is whole | it takes its place |
//! | there | | there | it has taken it | the old one is wiped |

use super::orphans;
use rustix::process::Signal;
use std::fs::{self, File};
use std::io;
use std::path::{Path, PathBuf};

/// Where the new database grows.
pub(super) fn next(folder: &Path) -> PathBuf {
    beside(folder, ".next")
}

fn beside(folder: &Path, end: &str) -> PathBuf {
    let mut path = folder.as_os_str().to_owned();
    path.push(end);
    path.into()
}

/// Puts in order what was left by a change of the key that was broken off. To be called before the server is started.
///
/// # Errors
/// When the disk refuses.
pub fn recover(folder: &Path) -> io::Result<()> {
    let [next, old] = [".next", ".old"].map(|end| beside(folder, end));
    if next.exists() {
        if folder.exists() {
            orphans::of(&next).iter().for_each(|orphan| orphan.end(Signal::KILL));
            fs::remove_dir_all(&next)?;
        } else {
            fs::rename(&next, folder)?;
        }
    }
    if old.exists() {
        if folder.exists() {
            wipe(&old)?;
        } else {
            fs::rename(&old, folder)?;
        }
    }
    Ok(())
}

/// The new database takes the place of the old one, which is beside then: see [`wipe_old`]. It must be whole on the disk, and
/// no server run in either.
pub(super) fn swap(folder: &Path) -> io::Result<()> {
    fs::rename(folder, beside(folder, ".old"))?;
    fs::rename(next(folder), folder)?;
    sync_folder(folder.parent().unwrap_or(folder))
}

/// The old one is back in its place.
pub(super) fn swap_back(folder: &Path) -> io::Result<()> {
    fs::rename(folder, next(folder))?;
    fs::rename(beside(folder, ".old"), folder)?;
    fs::remove_dir_all(next(folder))
}

/// Writes over the database whose place was taken, and removes it.
pub(super) fn wipe_old(folder: &Path) -> io::Result<()> {
    wipe(&beside(folder, ".old"))
}

/// Has everything in a folder written to the disk.
pub(super) fn sync(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            sync(&entry.path())?;
        } else if entry.file_type()?.is_file() {
            File::open(entry.path())?.sync_all()?;
        }
    }
    sync_folder(folder)
}

fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Writes over everything in a folder, and removes it.
pub(super) fn wipe(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            wipe(&entry.path())?;
            continue;
        }
        if entry.file_type()?.is_file() {
            yadori_files::wipe(&entry.path())?;
        } else {
            fs::remove_file(entry.path())?;
        }
    }
    fs::remove_dir(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is there after a start, of the three folders with a file in each.
    fn after(there: [bool; 3]) -> Vec<(String, String)> {
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join("database");
        for (end, there) in ["", ".next", ".old"].into_iter().zip(there) {
            if there {
                fs::create_dir_all(beside(&folder, end).join("data")).unwrap();
                fs::write(beside(&folder, end).join("data/who"), end).unwrap();
            }
        }
        recover(&folder).unwrap();
        recover(&folder).unwrap();
        let mut left: Vec<_> = fs::read_dir(home.path())
            .unwrap()
            .map(|entry| {
                let path = entry.unwrap().path();
                let name = path.file_name().unwrap().to_string_lossy().into_owned();
                (name, fs::read_to_string(path.join("data/who")).unwrap())
            })
            .collect();
        left.sort();
        left
    }

    #[test]
    fn whatever_was_broken_off_one_whole_database_is_left() {
        let only = |who: &str| vec![("database".to_owned(), who.to_owned())];
        assert_eq!(after([false, false, false]), vec![]);
        assert_eq!(after([true, false, false]), only(""));
        assert_eq!(after([true, true, false]), only(""));
        assert_eq!(after([false, true, true]), only(".next"));
        assert_eq!(after([true, false, true]), only(""));
        assert_eq!(after([false, false, true]), only(".old"));
    }
}
