//! Decoding pictures, within limits, and making small ones of them.

use image::codecs::{gif::GifDecoder, png::PngDecoder, webp::WebPDecoder};
use image::{AnimationDecoder, DynamicImage, ImageDecoder, ImageError, ImageFormat, ImageReader, Limits};
use std::io::Cursor;
use std::sync::LazyLock;
use thiserror::Error;
use tokio::sync::{Semaphore, oneshot};
use yadori_core::Format;
use yadori_core::capture::Picture;
use yadori_store::Thumbnail;

/// Most pixels of a picture that is decoded: those of an 8K screen. Larger ones are kept by their bytes.
const MOST_PIXELS: u64 = 7680 * 4320;

/// Most memory that decoding one picture may take, as far as the decoder counts it: four bytes a pixel, and its own.
const MOST_MEMORY: u64 = 160 * 1024 * 1024;

/// Longest side of a picture that is decoded.
const LONGEST_SIDE: u32 = 32_768;

/// Longest side of a small picture, in pixels: twice what the console shows, for dense screens.
const THUMBNAIL_SIDE: u32 = 320;

/// Pictures decoded at the same time: a bomb that is within the limits still costs its memory once only, the small
/// picture that is made of it included.
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

/// What is known of a picture once it is decoded. Its pixels are gone by then, or soon.
#[derive(Debug)]
pub struct Decoded {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// Its identity; none for an animation.
    pub picture: Option<Picture>,
    thumbnail: oneshot::Receiver<Result<Thumbnail, PictureError>>,
}

impl Decoded {
    /// The small picture: PNG, which keeps lettering sharp and transparency.
    pub async fn thumbnail(self) -> Result<Thumbnail, PictureError> {
        self.thumbnail.await.unwrap_or_else(|_| Err(PictureError::Broken("it was given up".into())))
    }
}

/// Decodes a picture, away from the tasks that must not wait. A large one is waited for. Of an animation the
/// first frame is decoded, but has no identity: another animation may begin in the same way.
///
/// Gives what is known as soon as it is; the small picture is made afterwards. Only then is the next picture decoded, so
/// that never the pixels of two are in memory.
pub async fn decode(format: &Format) -> Result<Decoded, PictureError> {
    let only = DECODING.acquire().await;
    let Format { mime, data } = format.clone();
    let (known, knowing) = oneshot::channel();
    tokio::task::spawn_blocking(move || {
        let _only = only;
        let image = match decode_now(&mime, &data) {
            Ok(image) => image,
            Err(error) => return drop(known.send(Err(error))),
        };
        let rgba = image.into_rgba8();
        let (width, height) = rgba.dimensions();
        let picture = (!is_animated(&mime, &data)).then(|| Picture::of_rgba(width, height, rgba.as_raw()));
        let (made, thumbnail) = oneshot::channel();
        if known.send(Ok(Decoded { width, height, picture, thumbnail })).is_ok() {
            let _ = made.send(small(DynamicImage::ImageRgba8(rgba)));
        }
    });
    knowing.await.unwrap_or_else(|_| Err(PictureError::Broken("the decoder failed over it".into())))
}

fn small(image: DynamicImage) -> Result<Thumbnail, PictureError> {
    let small = if image.width().max(image.height()) > THUMBNAIL_SIDE {
        image.thumbnail(THUMBNAIL_SIDE, THUMBNAIL_SIDE)
    } else {
        image
    };
    let mut content = Vec::new();
    small
        .write_to(&mut Cursor::new(&mut content), ImageFormat::Png)
        .map_err(|error| PictureError::Broken(error.to_string()))?;
    Ok(Thumbnail { mime: "image/png".into(), content })
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
    let reader = || {
        let mut reader = ImageReader::with_format(Cursor::new(data), format);
        reader.limits(limits());
        reader
    };
    let failed = |error| match error {
        ImageError::Limits(_) => PictureError::TooLarge,
        other => PictureError::Broken(other.to_string()),
    };
    // By its header, before anything is allocated: what a decoder takes beside the pixels is not always counted, and a
    // picture of 16 bits a channel takes twice as much until it is turned into one of eight.
    let decoder = reader().into_decoder().map_err(failed)?;
    let (width, height) = decoder.dimensions();
    let pixels = u64::from(width) * u64::from(height);
    if pixels > MOST_PIXELS || decoder.total_bytes() > MOST_MEMORY {
        return Err(PictureError::TooLarge);
    }
    DynamicImage::from_decoder(decoder).map_err(failed)
}

/// The size of a picture by its header, without decoding it.
pub fn dimensions(format: &Format) -> Option<(u32, u32)> {
    let kind = ImageFormat::from_mime_type(&format.mime)?;
    ImageReader::with_format(Cursor::new(&format.data), kind).into_dimensions().ok()
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
        let decoded = decode(&png(800, 400)).await.unwrap();
        let picture = decoded.picture.clone().unwrap();
        assert_eq!((picture.width, picture.height), (800, 400));
        let small = image::load_from_memory(&decoded.thumbnail().await.unwrap().content).unwrap();
        assert_eq!((small.width(), small.height()), (320, 160));
    }

    #[tokio::test]
    async fn broken_and_monstrous_pictures_are_told_apart() {
        assert!(matches!(decode(&Format::new("image/png", "not a picture")).await, Err(PictureError::Broken(_))));
        let mut truncated = png(64, 64);
        truncated.data.truncate(60);
        assert!(matches!(decode(&truncated).await, Err(PictureError::Broken(_))));
        // 40,000 × 40,000 pixels, and 30,000 × 5,000, in the header of a file of a few bytes.
        for (width, height) in [(40_000u32, 40_000u32), (30_000, 5_000)] {
            let mut bomb = png(1, 1).data.to_vec();
            bomb[16..20].copy_from_slice(&width.to_be_bytes());
            bomb[20..24].copy_from_slice(&height.to_be_bytes());
            let crc = crc32(&bomb[12..29]);
            bomb[29..33].copy_from_slice(&crc.to_be_bytes());
            assert!(matches!(decode(&Format::new("image/png", bomb)).await, Err(PictureError::TooLarge)));
        }
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
        assert!(decode(&gif(1)).await.unwrap().picture.is_some());
        let moving = decode(&gif(3)).await.unwrap();
        assert!(moving.picture.is_none());
        assert_eq!((moving.width, moving.height), (4, 4));
    }

    fn crc32(data: &[u8]) -> u32 {
        !data.iter().fold(!0u32, |crc, byte| {
            (0..8).fold(crc ^ u32::from(*byte), |crc, _| if crc & 1 == 1 { crc >> 1 ^ 0xedb8_8320 } else { crc >> 1 })
        })
    }
}
