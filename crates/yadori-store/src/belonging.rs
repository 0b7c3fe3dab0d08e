//! Content that another device sent is only kept for a clip if it gives the clip's id.
//!
//! What travels along is checked when it is read; what is fetched afterwards, here, as soon as all of it is there. (The
//! pixels of pictures are checked by whoever decodes them.)

use crate::content::{SEARCHED_BYTES, StoredFormat, formats_on_record, free_blob, read_blob};
use crate::store::{Store, StoreError};
use crate::write_tx::{WriteTx, next_change};
use yadori_core::belonging::{Canonical, canonical, carries};
use yadori_core::format::PLAIN;
use yadori_core::identity::IdHasher;
use yadori_core::{ClipId, Format, Kind};

/// Most bytes of a link, or of a list of files, that is checked as a whole. Larger ones are taken for lies.
const MOST_LISTED: u64 = 16 << 20;

/// Whether the content of a clip, all of which is here, is that of its id. Pictures are not decided here. The words that
/// a text is found by are set to those of its content on the way.
pub(crate) async fn is_what_it_says(tx: &mut WriteTx, clip: u64) -> Result<bool, sqlx::Error> {
    let row = sqlx::query!("SELECT id, kind, text FROM clips WHERE no = ?", clip).fetch_one(&mut **tx).await?;
    let (Some(id), Some(kind)) = (ClipId::from_slice(&row.id), Kind::from_code(row.kind)) else { return Ok(false) };
    if kind == Kind::Image {
        return Ok(true);
    }
    let formats = formats_on_record(&mut **tx, clip).await?;
    let plain = formats.iter().find(|format| format.mime == PLAIN).and_then(StoredFormat::blob);
    if let (Kind::Text, Some(blob)) = (kind, plain) {
        let mut hasher = IdHasher::new(kind);
        let mut beginning = Vec::new();
        read_blob(tx, blob, |chunk| {
            hasher.update(chunk);
            beginning.extend_from_slice(&chunk[..chunk.len().min(SEARCHED_BYTES - beginning.len())]);
        })
        .await?;
        let found_by = String::from_utf8_lossy(&beginning);
        let found_by = found_by.trim_end_matches(char::REPLACEMENT_CHARACTER);
        sqlx::query!("UPDATE clips SET text = ? WHERE no = ? AND NOT (text <=> ?)", found_by, clip, found_by)
            .execute(&mut **tx)
            .await?;
        return Ok(hasher.id() == id);
    }
    let mut whole = Vec::new();
    for format in formats {
        let data = match format.blob() {
            None => format.here().cloned().unwrap_or_default(),
            Some(blob) if carries(kind, &format.mime) => {
                if format.size > MOST_LISTED {
                    return Ok(false);
                }
                let mut content = Vec::new();
                read_blob(tx, blob, |chunk| content.extend_from_slice(chunk)).await?;
                content.into()
            }
            Some(_) => continue,
        };
        whole.push(Format::new(format.mime, data));
    }
    Ok(match canonical(kind, &whole, row.text.as_deref()) {
        Canonical::Bytes(bytes) => ClipId::of(kind, &bytes) == id,
        Canonical::None => false,
    })
}

/// Takes away the content of a clip that is not what its id says; what it was given stays. Whoever has the true content
/// will be believed. The blobs that nothing uses any more go, but for those of `except`, which are still to be used. Gives the number
/// of the change.
pub(crate) async fn drop_content(tx: &mut WriteTx, clip: u64, except: &[u64]) -> Result<u64, sqlx::Error> {
    let blobs = sqlx::query_scalar!(
        "SELECT blob_no AS `blob_no!` FROM formats WHERE clip_no = ? AND blob_no IS NOT NULL",
        clip
    )
    .fetch_all(&mut **tx)
    .await?;
    sqlx::query!("DELETE FROM formats WHERE clip_no = ?", clip).execute(&mut **tx).await?;
    sqlx::query!("DELETE FROM thumbnails WHERE clip_no = ?", clip).execute(&mut **tx).await?;
    for blob in blobs.into_iter().filter(|blob| !except.contains(blob)) {
        free_blob(tx, blob).await?;
    }
    let change = next_change(tx).await?;
    sqlx::query!(
        "UPDATE clips SET seq = ?, tombstone = TRUE, elsewhere = FALSE, text = NULL, plain = FALSE, caption = NULL, size = 0,
            width = NULL, height = NULL, text_lines = NULL, text_chars = NULL WHERE no = ?",
        change,
        clip
    )
    .execute(&mut **tx)
    .await?;
    Ok(change)
}

impl Store {
    /// Takes away the content of a clip that turned out not to be what its id says. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn drop_false_content(&self, clip: u64) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = drop_content(&mut tx, clip, &[]).await?;
        tx.commit().await?;
        Ok(change)
    }
}
