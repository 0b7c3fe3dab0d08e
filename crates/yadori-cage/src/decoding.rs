//! Decoding pictures, within limits, and making small ones of them.

use fast_image_resize::images::Image;
use fast_image_resize::{FilterType, PixelType, ResizeAlg, ResizeOptions, Resizer};
use image::codecs::{gif::GifDecoder, png::PngDecoder, webp::WebPDecoder};
use image::{AnimationDecoder, DynamicImage, ImageDecoder, ImageError, ImageFormat, ImageReader, Limits, RgbaImage};
use std::fmt::Display;
use std::io::Cursor;
use thiserror::Error;
use yadori_core::capture::Picture;

/// Most pixels of a picture that is decoded: those of an 8K screen. Larger ones are kept by their bytes.
const MOST_PIXELS: u64 = 7680 * 4320;

/// Most memory that decoding one picture may take, as far as the decoder counts it: four bytes a pixel, and its own.
const MOST_MEMORY: u64 = 160 * 1024 * 1024;

/// Longest side of a picture that is decoded.
const LONGEST_SIDE: u32 = 32_768;

/// Longest side of a small picture, in pixels: twice what the console shows, for dense screens.
const SMALL_SIDE: u32 = 320;

/// Why a picture was not decoded.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PictureError {
    /// It is not what it says it is.
    #[error("{0}")]
    Broken(String),
    /// Decoding it would take too much memory; its size by its header, where that tells.
    #[error("the picture is too large to be decoded")]
    TooLarge(Option<(u32, u32)>),
    /// The decoder died over it, or took too long.
    #[error("{0}")]
    Died(&'static str),
}

/// A small picture: PNG, which keeps lettering sharp and transparency.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Small {
    /// Its MIME type.
    pub mime: &'static str,
    /// Its bytes.
    pub content: Vec<u8>,
}

/// What is known of a picture that is decoded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Known {
    pub width: u32,
    pub height: u32,
    /// Its identity; none for an animation.
    pub picture: Option<Picture>,
}

/// Decodes a picture. Of an animation the first frame is decoded, but has no identity: another animation may begin in the
/// same way.
pub(crate) fn decode(mime: &str, data: &[u8]) -> Result<(Known, RgbaImage), PictureError> {
    let rgba = decode_now(mime, data)?.into_rgba8();
    let (width, height) = rgba.dimensions();
    let picture = (!is_animated(mime, data)).then(|| Picture::of_rgba(width, height, rgba.as_raw()));
    Ok((Known { width, height, picture }, rgba))
}

/// Makes a small one.
pub(crate) fn small(image: RgbaImage) -> Result<Small, PictureError> {
    let small = if image.width().max(image.height()) > SMALL_SIDE { shrunk(image)? } else { image };
    let mut content = Vec::new();
    small
        .write_to(&mut Cursor::new(&mut content), ImageFormat::Png)
        .map_err(|error| PictureError::Broken(error.to_string()))?;
    Ok(Small { mime: "image/png", content })
}

/// A picture that is larger than a small one as a small one: each pixel is the mean of those in its place.
fn shrunk(image: RgbaImage) -> Result<RgbaImage, PictureError> {
    let broken = |error: &dyn Display| PictureError::Broken(error.to_string());
    let (width, height) = image.dimensions();
    let longest = f64::from(width.max(height));
    let shorter = |side: u32| ((f64::from(side) * f64::from(SMALL_SIDE) / longest).round() as u32).max(1);
    let (new_width, new_height) = (shorter(width), shorter(height));
    let image = Image::from_vec_u8(width, height, image.into_raw(), PixelType::U8x4).map_err(|error| broken(&error))?;
    let mut small = Image::new(new_width, new_height, PixelType::U8x4);
    // Transparency is taken for a colour as any other: for more, the whole picture would be needed a second time.
    let mean = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::Box)).use_alpha(false);
    Resizer::new().resize(&image, &mut small, &mean).map_err(|error| broken(&error))?;
    RgbaImage::from_raw(new_width, new_height, small.into_vec())
        .ok_or_else(|| PictureError::Broken("the small picture is not as large as it should be".into()))
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
    let size = || ImageReader::with_format(Cursor::new(data), format).into_dimensions().ok();
    let failed = |error| match error {
        ImageError::Limits(_) => PictureError::TooLarge(size()),
        other => PictureError::Broken(other.to_string()),
    };
    // By its header, before anything is allocated: what a decoder takes beside the pixels is not always counted, and a
    // picture of 16 bits a channel takes twice as much until it is turned into one of eight.
    let decoder = reader().into_decoder().map_err(failed)?;
    let (width, height) = decoder.dimensions();
    let pixels = u64::from(width) * u64::from(height);
    if pixels > MOST_PIXELS || decoder.total_bytes() > MOST_MEMORY {
        return Err(PictureError::TooLarge(Some((width, height))));
    }
    DynamicImage::from_decoder(decoder).map_err(failed)
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::Rgba;

    fn small_of(width: u32, height: u32, pixel: impl Fn(u32, u32) -> Rgba<u8>) -> RgbaImage {
        let small = small(RgbaImage::from_fn(width, height, pixel)).unwrap();
        image::load_from_memory_with_format(&small.content, ImageFormat::Png).unwrap().into_rgba8()
    }

    #[test]
    fn a_small_picture_has_the_means_of_the_pixels_that_it_stands_for() {
        let squares =
            |x: u32, y: u32| if (x + y).is_multiple_of(2) { Rgba([200, 0, 40, 255]) } else { Rgba([0, 100, 40, 55]) };
        let small = small_of(640, 320, squares);
        assert_eq!(small.dimensions(), (320, 160));
        assert!(small.pixels().all(|pixel| *pixel == Rgba([100, 50, 40, 155])), "{:?}", small.get_pixel(7, 7));
    }

    #[test]
    fn a_small_picture_has_the_shape_of_the_large_one() {
        let white = |_, _| Rgba([255; 4]);
        for (large, expected) in [
            ((LONGEST_SIDE, 1), (320, 1)),
            ((1, 1000), (1, 320)),
            ((420, 594), (226, 320)),
            ((321, 321), (320, 320)),
            ((320, 7), (320, 7)),
        ] {
            let small = small_of(large.0, large.1, white);
            assert_eq!(small.dimensions(), expected);
            assert!(small.pixels().all(|pixel| *pixel == Rgba([255; 4])));
        }
    }
}
