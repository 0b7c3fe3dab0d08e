//! An entry as a row: the digit, the time, and what was copied, as high as it has to be.

use crate::accessible;
use crate::entries::{Entry, marked_up, remarks, spoken, time};
use crate::lines::Lines;
use crate::look::Colours;
use gtk4::prelude::*;
use gtk4::{Align, Label, ListBoxRow, Orientation, Picture, gdk, glib, pango};
use jiff::Timestamp;
use yadori_api::{Clip, Kind};

/// Lines of a text that are shown.
const LINES: i32 = 3;

/// Largest size of a picture in a row, in pixels.
const WIDEST: f64 = 300.0;
const HIGHEST: f64 = 110.0;

fn label(text: &str, class: &str) -> Label {
    let label = Label::builder().label(text).xalign(0.0).build();
    label.add_css_class(class);
    label
}

/// What the name of a row with a heading above it begins with.
const HEADED: &str = "below ";

/// The heading above a row, if there is one. It is no clip, and cannot be chosen.
pub fn heading(row: &ListBoxRow) -> Option<Label> {
    let heading = label(row.widget_name().strip_prefix(HEADED)?, "heading");
    heading.set_ellipsize(pango::EllipsizeMode::End);
    Some(heading)
}

/// The size of a picture in a row, at its proportions.
fn size(width: u32, height: u32) -> (i32, i32) {
    let (width, height) = (f64::from(width.max(1)), f64::from(height.max(1)));
    let scale = (WIDEST / width).min(HIGHEST / height).min(1.0);
    ((width * scale).round().max(1.0) as i32, (height * scale).round().max(1.0) as i32)
}

/// The picture of a clip, empty until it has come.
fn picture(clip: &Clip, texture: Option<&gdk::Texture>) -> Picture {
    let picture =
        Picture::builder().halign(Align::Start).can_shrink(true).content_fit(gtk4::ContentFit::Contain).build();
    let (width, height) = size(clip.width.unwrap_or(64), clip.height.unwrap_or(64));
    picture.set_size_request(width, height);
    picture.set_alternative_text(Some(clip.title.as_deref().or(clip.caption.as_deref()).unwrap_or("picture")));
    picture.set_paintable(texture);
    picture
}

/// A row, and the picture in it that has still to come.
pub fn row(
    entry: &Entry,
    texture: Option<&gdk::Texture>,
    chosen: bool,
    colours: Colours,
) -> (ListBoxRow, Option<Picture>) {
    let now = Timestamp::now();
    let clip = &entry.clip;
    // How wide the columns are is said by the style: widths in characters have the font measured for every row.
    let digit = Label::builder().label(if chosen { "✓" } else { &entry.label }).valign(Align::Start).build();
    digit.add_css_class("digit");
    let at = Label::builder().label(time(clip.copied_at, now)).xalign(0.0).valign(Align::Start).build();
    at.add_css_class("time");

    let what = gtk4::Box::new(Orientation::Vertical, 2);
    what.set_hexpand(true);
    if let Some(title) = clip.title.as_ref().or(clip.caption.as_ref()) {
        what.append(&Lines::new(&glib::markup_escape_text(title), 1, "title"));
    }
    let mut missing = None;
    if clip.kind == Kind::Image && clip.sensitive.is_none() {
        let picture = picture(clip, texture);
        what.append(&picture);
        missing = texture.is_none().then_some(picture);
    } else {
        what.append(&Lines::new(&marked_up(clip, colours.mark), LINES, "text"));
    }
    let remarks = remarks(clip);
    if !remarks.is_empty() {
        what.append(&Lines::new(&glib::markup_escape_text(&remarks), 1, "remark"));
    }

    let line = gtk4::Box::new(Orientation::Horizontal, 8);
    line.append(&digit);
    line.append(&at);
    line.append(&what);
    let row = ListBoxRow::builder().child(&line).build();
    if let Some(heading) = &entry.heading {
        row.set_widget_name(&format!("{HEADED}{heading}"));
    }
    if entry.dealt {
        row.add_css_class("dealt");
    }
    let spoken = spoken(entry, now);
    let spoken = if chosen { format!("marked, {spoken}") } else { spoken };
    accessible::name(&row, &spoken);
    (row, missing)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pictures_keep_their_proportions_and_are_never_blown_up() {
        assert_eq!(size(40, 20), (40, 20));
        assert_eq!(size(3000, 1000), (300, 100));
        assert_eq!(size(100, 4000), (3, 110));
        assert_eq!(size(0, 0), (1, 1));
    }
}
