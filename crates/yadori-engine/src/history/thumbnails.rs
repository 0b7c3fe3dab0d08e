//! Small pictures of pictures: made at capture, when content has come from another device, or when somebody asks.

use super::History;
use yadori_cage::{Decoded, PictureError};
use yadori_core::{Format, format};
use yadori_store::{ClipRecord, StoreError, Thumbnail};

/// Thumbnails that are put on record together, in bytes.
const TOGETHER_BYTES: usize = 1 << 20;

/// The thumbnail of a decoded picture, if one can be made.
async fn small(decoded: Decoded) -> Option<Thumbnail> {
    match decoded.small().await {
        Ok(small) => Some(Thumbnail { mime: small.mime.into(), content: small.content }),
        Err(error) => {
            tracing::debug!(%error, "no thumbnail could be made");
            None
        }
    }
}

impl History {
    /// Reads and decodes the picture of a clip; nothing if it has none that could be decoded.
    ///
    /// # Errors
    /// When the database does not answer, or some of the content is on another device.
    pub(crate) async fn decode_picture(
        &self,
        number: u64,
    ) -> Result<Option<(Format, Result<Decoded, PictureError>)>, StoreError> {
        let formats = self.store.formats(number).await?;
        let raster = formats.iter().find(|stored| format::RASTERS.contains(&stored.mime.as_str()));
        let Some(stored) = raster else { return Ok(None) };
        let raster = Format::new(stored.mime.clone(), self.store.content(stored).await?);
        let decoded = self.cage.decode(&raster).await;
        Ok(Some((raster, decoded)))
    }

    /// Keeps the thumbnail of a decoded picture; nothing if none can be made.
    ///
    /// # Errors
    /// When the database does not answer.
    pub(crate) async fn keep_thumbnail(&self, number: u64, decoded: Decoded) -> Result<Option<Thumbnail>, StoreError> {
        let made: Vec<_> = small(decoded).await.map(|small| (number, small)).into_iter().collect();
        self.store.put_thumbnails(&made).await?;
        Ok(made.into_iter().next().map(|(_, small)| small))
    }

    /// Keeps the thumbnails of decoded pictures, those that can be made, and many of them together.
    ///
    /// # Errors
    /// When the database does not answer.
    pub(crate) async fn keep_thumbnails(&self, pictures: Vec<(u64, Decoded)>) -> Result<(), StoreError> {
        let (mut made, mut bytes) = (Vec::new(), 0);
        for (number, decoded) in pictures {
            let Some(small) = small(decoded).await else { continue };
            bytes += small.content.len();
            made.push((number, small));
            if bytes > TOGETHER_BYTES {
                self.store.put_thumbnails(&std::mem::take(&mut made)).await?;
                bytes = 0;
            }
        }
        self.store.put_thumbnails(&made).await
    }

    /// The thumbnail of a clip, made now if it was not; nothing if it has no picture that can be decoded.
    ///
    /// # Errors
    /// When the database does not answer, or some of the content is on another device.
    pub async fn thumbnail(&self, record: &ClipRecord) -> Result<Option<Thumbnail>, StoreError> {
        if record.kind != yadori_core::Kind::Image {
            return Ok(None);
        }
        if let Some(thumbnail) = self.store.thumbnail(record.number).await? {
            return Ok(Some(thumbnail));
        }
        match self.decode_picture(record.number).await? {
            Some((_, Ok(decoded))) => self.keep_thumbnail(record.number, decoded).await,
            _ => Ok(None),
        }
    }
}
