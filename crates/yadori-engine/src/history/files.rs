//! The files of a list of files, and whether they are still there.

use crate::history::History;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt;
use std::time::Duration;
use yadori_core::{Format, Kind, files, format};
use yadori_store::{ClipRecord, StoreError, StoredFormat};

/// Most files that are looked for.
const MOST: usize = 1000;

/// How long a disk may take. One on a network may not answer at all.
const PATIENCE: Duration = Duration::from_millis(700);

/// A file of a list of files.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ListedFile {
    /// Its URI.
    pub uri: String,
    /// Its path, for reading.
    pub path: String,
    /// Whether it is gone; nothing where that cannot be found out.
    pub missing: Option<bool>,
}

impl History {
    /// The files of a clip, if it is a list of files.
    pub async fn files_of(&self, record: &ClipRecord, formats: &[StoredFormat]) -> Result<Vec<ListedFile>, StoreError> {
        if record.kind != Kind::Files {
            return Ok(Vec::new());
        }
        let lists = [format::FILE_LIST, format::URI_LIST, format::PLAIN];
        let lists: Vec<StoredFormat> =
            formats.iter().filter(|stored| lists.contains(&stored.mime.as_str())).cloned().collect();
        Ok(look_for(&self.whole_formats(&lists).await?).await)
    }
}

/// The files that these formats list.
pub async fn look_for(formats: &[Format]) -> Vec<ListedFile> {
    let mut uris = files::listed(formats).unwrap_or_default();
    uris.truncate(MOST);
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let paths: Vec<Option<Vec<u8>>> = uris.iter().map(|uri| files::local_path(uri, &host)).collect();
    // A disk that does not answer costs this thread only.
    let (told, found) = tokio::sync::oneshot::channel();
    std::thread::spawn(move || {
        let missing = |path: &Vec<u8>| match std::fs::symlink_metadata(OsStr::from_bytes(path)) {
            Ok(_) => Some(false),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Some(true),
            Err(error) if error.kind() == std::io::ErrorKind::NotADirectory => Some(true),
            Err(_) => None,
        };
        let _ = told.send(paths.iter().map(|path| path.as_ref().and_then(missing)).collect::<Vec<_>>());
    });
    let found = tokio::time::timeout(PATIENCE, found).await.ok().and_then(Result::ok);
    let mut found = found.unwrap_or_default().into_iter();
    let file = |uri: String| ListedFile { path: files::path(&uri), missing: found.next().flatten(), uri };
    uris.into_iter().map(file).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn what_is_gone_or_elsewhere_is_told_apart() {
        let here = std::env::current_exe().unwrap();
        let list = format!(
            "copy\n{}\n{}/no%0Asuch\nfile://another-machine/srv",
            files::uri(here.as_os_str().as_bytes()),
            files::uri(here.parent().unwrap().as_os_str().as_bytes()),
        );
        let found = look_for(&[Format::new(format::FILE_LIST, list)]).await;
        assert_eq!(found.iter().map(|file| file.missing).collect::<Vec<_>>(), [Some(false), Some(true), None]);
        assert!(found[1].path.ends_with("/no↵such"));
    }
}
