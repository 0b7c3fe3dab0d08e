//! Decoding pictures, within limits, and making small ones of them.

use image::codecs::{gif::GifDecoder, png::PngDecoder, webp::WebPDecoder};
use image::{AnimationDecoder, DynamicImage, ImageDecoder, ImageError, ImageFormat, ImageReader, Limits};
use std::io::Cursor;
use std::sync::LazyLock;
use thiserror::Error;
use tokio::sync::Semaphore;
use yadori_core::Format;
use yadori_core::capture::Picture;
use yadori_store::Thumbnail;

/// Most memory that decoding one picture may take: enough for 33 million pixels, an 8K screen.
const MOST_MEMORY: u64 = 160 * 1024 * 1024;

/// Longest side of a picture that is decoded.
const LONGEST_SIDE: u32 = 32_768;

/// Longest side of a small picture, in pixels: twice what the console shows, for dense screens.
const THUMBNAIL_SIDE: u32 = 320;

/// Pictures decoded at the same time: a bomb that is within the limits still costs its memory once only.
static DECODING: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(1));

/// Why a picture was not decoded.
#[derive(Debug, Error)]
pub enum PictureError {
    /// It is not what it says it is.
    #[error("{0}")]
    Broken(String),
    /// Decoding it would take too much memory.
    #[error("the picture is too large to be decoded")]
    TooLarge,
}

/// Decodes a picture, away from the tasks that must not wait. A large one is waited for. Of an animation the
/// first frame is given, but no identity: another animation may begin in the same way.
pub async fn decode(format: &Format) -> Result<(DynamicImage, Option<Picture>), PictureError> {
    let _one = DECODING.acquire().await;
    let Format { mime, data } = format.clone();
    let decoded = tokio::task::spawn_blocking(move || {
        let image = decode_now(&mime, &data)?;
        if is_animated(&mime, &data) {
            return Ok((image, None));
        }
        let rgba = image.to_rgba8();
        let picture = Picture::of_rgba(rgba.width(), rgba.height(), rgba.as_raw());
        Ok((image, Some(picture)))
    });
    decoded.await.unwrap_or_else(|error| Err(PictureError::Broken(error.to_string())))
}

fn limits() -> Limits {
    let mut limits = Limits::default();
    limits.max_alloc = Some(MOST_MEMORY);
    limits.max_image_width = Some(LONGEST_SIDE);
    limits.max_image_height = Some(LONGEST_SIDE);
    limits
}

/// Whether a picture that can be decoded has more than one frame.
fn is_animated(mime: &str, data: &[u8]) -> bool {
    let data = Cursor::new(data);
    let animated = match mime {
        "image/png" => PngDecoder::with_limits(data, limits()).and_then(|decoder| decoder.is_apng()),
        "image/webp" => WebPDecoder::new(data).map(|decoder| decoder.has_animation()),
        "image/gif" => GifDecoder::new(data).and_then(|mut decoder| {
            decoder.set_limits(limits())?;
            // Two frames are enough to know.
            Ok(decoder.into_frames().take(2).filter(Result::is_ok).count() > 1)
        }),
        _ => Ok(false),
    };
    animated.unwrap_or(false)
}

fn decode_now(mime: &str, data: &[u8]) -> Result<DynamicImage, PictureError> {
    let format =
        ImageFormat::from_mime_type(mime).ok_or_else(|| PictureError::Broken(format!("{mime} is not known")))?;
    let mut reader = ImageReader::with_format(Cursor::new(data), format);
    reader.limits(limits());
    reader.decode().map_err(|error| match error {
        ImageError::Limits(_) => PictureError::TooLarge,
        other => PictureError::Broken(other.to_string()),
    })
}

/// The size of a picture by its header, without decoding it.
pub fn dimensions(format: &Format) -> Option<(u32, u32)> {
    let kind = ImageFormat::from_mime_type(&format.mime)?;
    ImageReader::with_format(Cursor::new(&format.data), kind).into_dimensions().ok()
}

/// Makes a small picture: PNG, which keeps lettering sharp and transparency.
pub async fn thumbnail(image: DynamicImage) -> Result<Thumbnail, PictureError> {
    let made = tokio::task::spawn_blocking(move || {
        let small = if image.width().max(image.height()) > THUMBNAIL_SIDE {
            image.thumbnail(THUMBNAIL_SIDE, THUMBNAIL_SIDE)
        } else {
            image
        };
        let mut content = Vec::new();
        let small = DynamicImage::ImageRgba8(small.to_rgba8());
        small
            .write_to(&mut Cursor::new(&mut content), ImageFormat::Png)
            .map_err(|error| PictureError::Broken(error.to_string()))?;
        Ok(Thumbnail { mime: "image/png".into(), content })
    });
    made.await.unwrap_or_else(|error| Err(PictureError::Broken(error.to_string())))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn png(width: u32, height: u32) -> Format {
        let mut data = Vec::new();
        DynamicImage::new_rgb8(width, height).write_to(&mut Cursor::new(&mut data), ImageFormat::Png).unwrap();
        Format::new("image/png", data)
    }

    #[tokio::test]
    async fn a_picture_is_decoded_and_made_small() {
        let (image, picture) = decode(&png(800, 400)).await.unwrap();
        let picture = picture.unwrap();
        assert_eq!((picture.width, picture.height), (800, 400));
        let small = image::load_from_memory(&thumbnail(image).await.unwrap().content).unwrap();
        assert_eq!((small.width(), small.height()), (320, 160));
    }

    #[tokio::test]
    async fn broken_and_monstrous_pictures_are_told_apart() {
        assert!(matches!(decode(&Format::new("image/png", "not a picture")).await, Err(PictureError::Broken(_))));
        let mut truncated = png(64, 64);
        truncated.data.truncate(60);
        assert!(matches!(decode(&truncated).await, Err(PictureError::Broken(_))));
        // 40,000 × 40,000 pixels in the header of a file of a few bytes.
        let mut bomb = png(1, 1).data.to_vec();
        bomb[16..24].copy_from_slice(&[0, 0, 0x9c, 0x40, 0, 0, 0x9c, 0x40]);
        let crc = crc32(&bomb[12..29]);
        bomb[29..33].copy_from_slice(&crc.to_be_bytes());
        assert!(matches!(decode(&Format::new("image/png", bomb)).await, Err(PictureError::TooLarge)));
    }

    #[tokio::test]
    async fn animations_are_known_by_their_frames() {
        let gif = |frames: u8| {
            let mut data = Vec::new();
            let mut encoder = image::codecs::gif::GifEncoder::new(&mut data);
            for shade in 0..frames {
                let frame = image::RgbaImage::from_pixel(4, 4, image::Rgba([shade * 80, 0, 0, 255]));
                encoder.encode_frame(image::Frame::new(frame)).unwrap();
            }
            drop(encoder);
            Format::new("image/gif", data)
        };
        let (still, moving) = (decode(&gif(1)).await.unwrap(), decode(&gif(3)).await.unwrap());
        assert!(still.1.is_some() && moving.1.is_none());
        assert_eq!((moving.0.width(), moving.0.height()), (4, 4));
    }

    fn crc32(data: &[u8]) -> u32 {
        !data.iter().fold(!0u32, |crc, byte| {
            (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 })
        })
    }
}
