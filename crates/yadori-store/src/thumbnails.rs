//! Small pictures of pictures. They are made from the content and can be made again.

use crate::store::{Store, StoreError, retry_on_deadlock};

/// A small picture of a picture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Thumbnail {
    /// Its MIME type.
    pub mime: String,
    /// Its bytes.
    pub content: Vec<u8>,
}

impl Store {
    /// The thumbnail of a clip, if one was made.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn thumbnail(&self, clip: u64) -> Result<Option<Thumbnail>, StoreError> {
        let row = sqlx::query!("SELECT mime, content FROM thumbnails WHERE clip_no = ?", clip)
            .fetch_optional(&self.connections)
            .await?;
        Ok(row.map(|row| Thumbnail { mime: row.mime, content: row.content }))
    }

    /// Keeps the thumbnail of a clip, unless the clip's content has gone in the meantime.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn put_thumbnail(&self, clip: u64, thumbnail: &Thumbnail) -> Result<(), StoreError> {
        retry_on_deadlock!(self.put_thumbnail_once(clip, thumbnail))
    }

    async fn put_thumbnail_once(&self, clip: u64, thumbnail: &Thumbnail) -> Result<(), StoreError> {
        sqlx::query!(
            "REPLACE INTO thumbnails (clip_no, mime, content) SELECT no, ?, ? FROM clips WHERE no = ? AND tombstone = FALSE",
            thumbnail.mime,
            &thumbnail.content[..],
            clip
        )
        .execute(&self.connections)
        .await?;
        Ok(())
    }
}
