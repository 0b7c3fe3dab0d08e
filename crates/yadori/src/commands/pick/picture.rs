//! A picture in a terminal: two pixels in each cell, the upper one as the colour of a half block, the lower one behind it.

use ratatui::style::{Color, Style};
use ratatui::text::{Line, Span};

/// Cells that a picture takes at most.
pub const WIDEST: u32 = 60;
pub const HIGHEST: u32 = 6;

/// Less than this, and a pixel is seen through.
const SEEN: u8 = 128;

/// Whether the terminal says that it has all colours, and nobody has said that they want none.
pub fn can_be_shown() -> bool {
    let all = std::env::var("COLORTERM").is_ok_and(|value| value == "truecolor" || value == "24bit");
    all && std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
}

/// A picture as lines that fit into so many columns; nothing if it cannot be read.
pub fn lines(content: &[u8], columns: u32) -> Vec<Line<'static>> {
    let Ok(picture) = image::load_from_memory(content) else { return Vec::new() };
    let columns = columns.min(WIDEST);
    if columns == 0 {
        return Vec::new();
    }
    let fits = picture.width() <= columns && picture.height() <= HIGHEST * 2;
    let picture = if fits { picture } else { picture.thumbnail(columns, HIGHEST * 2) };
    let picture = picture.into_rgba8();
    let colour = |x: u32, y: u32| match picture.get_pixel_checked(x, y) {
        Some(pixel) if pixel.0[3] >= SEEN => Color::Rgb(pixel.0[0], pixel.0[1], pixel.0[2]),
        _ => Color::Reset,
    };
    let cell = |x: u32, y: u32| match (colour(x, y), colour(x, y + 1)) {
        (Color::Reset, Color::Reset) => Span::raw(" "),
        // What is seen through is the ground, whatever colour that has.
        (Color::Reset, lower) => Span::styled("▄", Style::new().fg(lower)),
        (upper, lower) => Span::styled("▀", Style::new().fg(upper).bg(lower)),
    };
    (0..picture.height())
        .step_by(2)
        .map(|y| (0..picture.width()).map(|x| cell(x, y)).collect::<Vec<_>>().into())
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use image::{ImageFormat, Rgba, RgbaImage};
    use std::io::Cursor;

    fn png(width: u32, height: u32, colour: impl Fn(u32, u32) -> [u8; 4]) -> Vec<u8> {
        let mut content = Vec::new();
        let picture = RgbaImage::from_fn(width, height, |x, y| Rgba(colour(x, y)));
        picture.write_to(&mut Cursor::new(&mut content), ImageFormat::Png).unwrap();
        content
    }

    #[test]
    fn two_pixels_share_a_cell_and_what_is_transparent_is_the_ground() {
        let content = png(2, 3, |x, y| if x == 1 && y != 1 { [9, 8, 7, 0] } else { [1, 2, y as u8, 255] });
        let lines = lines(&content, 40);
        let shown: Vec<String> = lines.iter().map(ToString::to_string).collect();
        assert_eq!(shown, ["▀▄", "▀ "]);
        assert_eq!(lines[0].spans[0].style, Style::new().fg(Color::Rgb(1, 2, 0)).bg(Color::Rgb(1, 2, 1)));
        assert_eq!(lines[1].spans[0].style, Style::new().fg(Color::Rgb(1, 2, 2)).bg(Color::Reset));
    }

    #[test]
    fn a_picture_keeps_its_proportions_and_fits() {
        let wide = lines(&png(600, 100, |_, _| [1, 1, 1, 255]), 30);
        assert_eq!((wide.len(), wide[0].width()), (3, 30));
        let high = lines(&png(10, 900, |_, _| [1, 1, 1, 255]), 30);
        assert_eq!((high.len(), high[0].width()), (HIGHEST as usize, 1));
        assert!(lines(b"no picture", 30).is_empty() && lines(&png(1, 1, |_, _| [0; 4]), 0).is_empty());
    }
}
