//! The sample history: a touring puppet theatre in autumn. Everything in it is made up.

use image::{DynamicImage, ImageFormat, Rgba, RgbaImage};
use jiff::{Timestamp, ToSpan};
use serde::Deserialize;
use std::io::Cursor;
use yadori_api::AddQuery;

/// A line of `demo/history.ndjson`.
#[derive(Clone, Debug, Deserialize)]
pub struct Sample {
    /// How long before now it was copied.
    pub minutes_ago: i64,
    /// `text` if not given, `files`, or `picture`, which is drawn.
    #[serde(default)]
    pub kind: Option<String>,
    /// The words; for a picture, what it shows.
    pub text: String,
    /// The application.
    pub application: Option<String>,
    /// The window's title.
    pub window: Option<String>,
    /// The clip's title.
    pub title: Option<String>,
    /// The drawer that it lies in.
    #[serde(default)]
    pub drawer: Option<String>,
    /// Its alias.
    #[serde(default)]
    pub alias: Option<String>,
    /// Its colour mark.
    #[serde(default)]
    pub mark: Option<String>,
    /// Whether it is pinned.
    #[serde(default)]
    pub pin: bool,
    /// Whether its placeholders are filled in.
    #[serde(default)]
    pub fill: bool,
}

impl Sample {
    /// Reads the file's contents.
    ///
    /// # Errors
    /// When a line is not right.
    pub fn read_all(text: &str) -> Result<Vec<Self>, serde_json::Error> {
        text.lines().map(serde_json::from_str).collect()
    }

    /// What to send to the service: the attributes, the MIME type and the content.
    pub fn to_add(&self, now: Timestamp) -> (AddQuery, &'static str, Vec<u8>) {
        let attributes = AddQuery {
            title: self.title.clone(),
            copied_at: Some(now - self.minutes_ago.minutes()),
            application: self.application.clone(),
            window: self.window.clone(),
            pin: self.pin,
            drawer: self.drawer.clone(),
            mark: self.mark.as_deref().and_then(yadori_api::Colour::from_word),
            alias: self.alias.clone(),
            fill: self.fill,
        };
        match self.kind.as_deref() {
            Some("files") => (attributes, "text/uri-list", self.text.clone().into_bytes()),
            Some("picture") => (attributes, "image/png", poster(&self.text)),
            _ => (attributes, "text/plain;charset=utf-8", self.text.clone().into_bytes()),
        }
    }
}

/// Draws a poster: a lantern before a sky, in colours that come from its name. Always the same for a name.
pub fn poster(name: &str) -> Vec<u8> {
    let seed = name.bytes().fold(2_166_136_261u32, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(16_777_619));
    let hue = |shift: u32, low: u32| (seed.rotate_left(shift) % 120 + low) as f32;
    let (top, bottom) = ([hue(3, 10), hue(7, 20), hue(11, 60)], [hue(13, 90), hue(17, 60), hue(19, 40)]);
    let (width, height) = (420u32, 594u32);
    let (moon_x, moon_y) = ((seed % 260 + 80) as f32, (seed / 7 % 120 + 80) as f32);
    let mut canvas = RgbaImage::new(width, height);
    for (x, y, pixel) in canvas.enumerate_pixels_mut() {
        let (fx, fy) = (x as f32, y as f32);
        let depth = fy / height as f32;
        let mut colour: [f32; 3] =
            std::array::from_fn(|channel| top[channel] * (1.0 - depth) + bottom[channel] * depth);
        let moon = ((fx - moon_x).powi(2) + (fy - moon_y).powi(2)).sqrt();
        if moon < 44.0 {
            colour = [244.0, 232.0, 190.0];
        }
        let hill = 430.0 + 38.0 * (fx / 67.0 + (seed % 7) as f32).sin() + 16.0 * (fx / 23.0).sin();
        if fy > hill {
            colour = [24.0, 26.0, 34.0];
        }
        // The lantern: a post, a frame, and its light.
        let (lx, ly) = ((fx - 210.0).abs(), fy - 330.0);
        let glow = 1.0 - ((lx.powi(2) + ly.powi(2)).sqrt() / 170.0).min(1.0);
        colour = std::array::from_fn(|channel| colour[channel] + glow * [150.0, 110.0, 30.0][channel]);
        if lx < 4.0 && fy > 375.0 || (lx < 34.0 && ly.abs() < 48.0 && (lx > 28.0 || ly.abs() > 42.0)) {
            colour = [18.0, 16.0, 20.0];
        }
        *pixel = Rgba([colour[0].min(255.0) as u8, colour[1].min(255.0) as u8, colour[2].min(255.0) as u8, 255]);
    }
    let mut png = Vec::new();
    // Writing to memory does not fail.
    let _ = DynamicImage::ImageRgba8(canvas).write_to(&mut Cursor::new(&mut png), ImageFormat::Png);
    png
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_sample_history_is_readable_and_its_posters_are_pictures() {
        let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/history.ndjson")).unwrap();
        let samples = Sample::read_all(&text).unwrap();
        assert!(samples.len() > 100);
        let picture = samples.iter().find(|sample| sample.kind.as_deref() == Some("picture")).unwrap();
        let drawn = image::load_from_memory(&picture.to_add(Timestamp::now()).2).unwrap();
        assert_eq!((drawn.width(), drawn.height()), (420, 594));
        assert_eq!(poster("a"), poster("a"));
        assert_ne!(poster("a"), poster("b"));
    }
}
