//! Small pictures of pictures: made at capture, when content has come from another device, or when somebody asks.

use super::History;
use yadori_cage::{Decoded, PictureError};
use yadori_core::{Format, format};
use yadori_store::{ClipRecord, StoreError, Thumbnail};

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
        match decoded.small().await {
            Ok(small) => {
                let thumbnail = Thumbnail { mime: small.mime.into(), content: small.content };
                self.store.put_thumbnail(number, &thumbnail).await?;
                Ok(Some(thumbnail))
            }
            Err(error) => {
                tracing::debug!(%error, "no thumbnail could be made");
                Ok(None)
            }
        }
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
