//! Small pictures of pictures. They are made from the content and can be made again.

use crate::store::{Store, StoreError, retry_on_deadlock};
use sqlx::{Executor, MySql};

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

    /// Keeps the thumbnails of clips, of all or of none; but not those of clips whose content has gone in the meantime.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn put_thumbnails(&self, thumbnails: &[(u64, Thumbnail)]) -> Result<(), StoreError> {
        match thumbnails {
            [] => Ok(()),
            [(clip, thumbnail)] => retry_on_deadlock!(put(&self.connections, *clip, thumbnail)),
            many => retry_on_deadlock!(self.put_many_once(many)),
        }
    }

    async fn put_many_once(&self, thumbnails: &[(u64, Thumbnail)]) -> Result<(), StoreError> {
        // Each statement locks its clip to the end: nobody else writes meanwhile, who could want them in another order.
        let mut tx = self.begin_notes(&[]).await?;
        for (clip, thumbnail) in thumbnails {
            put(&mut *tx, *clip, thumbnail).await?;
        }
        Ok(tx.commit().await?)
    }
}

async fn put<'e>(
    database: impl Executor<'e, Database = MySql>,
    clip: u64,
    thumbnail: &Thumbnail,
) -> Result<(), StoreError> {
    sqlx::query!(
        "REPLACE INTO thumbnails (clip_no, mime, content) SELECT no, ?, ? FROM clips WHERE no = ? AND tombstone = FALSE",
        thumbnail.mime,
        &thumbnail.content[..],
        clip
    )
    .execute(database)
    .await?;
    Ok(())
}
