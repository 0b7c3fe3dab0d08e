//! The browsers that were let in, on the disk: while the history is locked the records cannot be asked. Only hashes are kept,
//! by which nobody is let in.

use crate::http::auth::Remembered;
use std::path::PathBuf;
use yadori_core::MillisSinceEpoch;
use yadori_files::Places;

fn path(places: &Places) -> PathBuf {
    places.data.join("browsers.json")
}

/// Writes them down.
pub(crate) fn write(places: &Places, browsers: &[Remembered]) {
    let hex = |hash: &[u8; 32]| data_encoding::HEXLOWER.encode(hash);
    let lines: Vec<_> = browsers.iter().map(|(key, path, until)| (hex(key), hex(path), until.0)).collect();
    let written = yadori_files::write_private(&path(places), &serde_json::to_vec(&lines).unwrap_or_default());
    if let Err(error) = written {
        tracing::warn!(%error, "the browsers that were let in could not be noted");
    }
}

/// Reads them; none if there is no such file.
pub(crate) fn read(places: &Places) -> Vec<Remembered> {
    let hash = |text: String| data_encoding::HEXLOWER.decode(text.as_bytes()).ok()?.try_into().ok();
    let text = std::fs::read(path(places)).unwrap_or_default();
    let lines: Vec<(String, String, u64)> = serde_json::from_slice(&text).unwrap_or_default();
    lines
        .into_iter()
        .filter_map(|(key, path, until)| Some((hash(key)?, hash(path)?, MillisSinceEpoch(until))))
        .collect()
}
