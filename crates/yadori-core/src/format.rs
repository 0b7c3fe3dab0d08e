//! The formats of one copy: bytes under MIME types, and which types are worth taking.

use bytes::Bytes;

/// Plain text in UTF-8, whatever name its owner gave it.
pub const PLAIN: &str = "text/plain;charset=utf-8";
/// HTML, in the encoding its owner chose (UTF-8, or UTF-16 as some browsers write it).
pub const HTML: &str = "text/html";
/// Rich Text Format.
pub const RTF: &str = "text/rtf";
/// A list of URIs, one on a line (RFC 2483, section 5).
pub const URI_LIST: &str = "text/uri-list";
/// The file managers' list: `copy` or `cut`, then one URI on a line.
pub const FILE_LIST: &str = "x-special/gnome-copied-files";
/// Beside a list of files: `1` when they were cut.
pub const CUT_MARK: &str = "application/x-kde-cutselection";
/// A URL and its title, one on a line, in UTF-16.
pub const TITLED_URL: &str = "text/x-moz-url";
/// Vector images.
pub const SVG: &str = "image/svg+xml";
/// Raster images that can be decoded to pixels, best first.
pub const RASTERS: [&str; 6] = ["image/png", "image/webp", "image/jpeg", "image/gif", "image/bmp", "image/tiff"];

/// Most formats of one clip. No other device takes a clip that has more.
pub const MOST: usize = 64;

/// One representation of what was copied.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Format {
    /// The MIME type, lower-case.
    pub mime: String,
    /// The bytes, exactly as the owner gave them (plain text: transcoded to UTF-8).
    pub data: Bytes,
}

impl Format {
    /// A format of the given MIME type.
    pub fn new(mime: impl Into<String>, data: impl Into<Bytes>) -> Self {
        Self { mime: mime.into(), data: data.into() }
    }

    /// Plain text.
    pub fn plain(text: impl Into<String>) -> Self {
        Self::new(PLAIN, text.into().into_bytes())
    }
}

/// The data of the format with this MIME type, if it is among `formats`.
pub fn find<'a>(formats: &'a [Format], mime: &str) -> Option<&'a Bytes> {
    formats.iter().find(|format| format.mime == mime).map(|format| &format.data)
}

/// Which of the `offered` MIME types to take: every useful one, but an uncompressed or bulky picture
/// only where no better one is offered (toolkits offer each picture in every encoding they know).
pub fn useful<'a>(offered: &[&'a str]) -> Vec<&'a str> {
    const ALWAYS: [&str; 12] = [
        PLAIN,
        HTML,
        RTF,
        URI_LIST,
        FILE_LIST,
        CUT_MARK,
        TITLED_URL,
        "image/png",
        "image/webp",
        "image/jpeg",
        "image/gif",
        SVG,
    ];
    const LAST_RESORT: [&str; 2] = ["image/bmp", "image/tiff"];
    let mut take: Vec<&str> = offered.iter().copied().filter(|mime| ALWAYS.contains(mime)).collect();
    // A mark beside nothing says nothing.
    if !take.contains(&URI_LIST) {
        take.retain(|mime| *mime != CUT_MARK);
    }
    if !take.iter().any(|mime| mime.starts_with("image/")) {
        take.extend(LAST_RESORT.iter().find_map(|mime| offered.iter().find(|offer| *offer == mime)));
    }
    take
}

/// Of more than [`MOST`] formats, keeps as many: those of types that other programs read ([`useful`]), then the first of the others,
/// all in the order in which they were.
pub fn keep_most(formats: &mut Vec<Format>) {
    if formats.len() <= MOST {
        return;
    }
    let mimes: Vec<&str> = formats.iter().map(|format| format.mime.as_str()).collect();
    let useful = useful(&mimes);
    let mut room = MOST.saturating_sub(mimes.iter().filter(|mime| useful.contains(mime)).count());
    let kept: Vec<bool> = mimes
        .iter()
        .map(|mime| {
            let is_useful = useful.contains(mime);
            let fits = is_useful || room > 0;
            room = if is_useful { room } else { room.saturating_sub(1) };
            fits
        })
        .collect();
    let mut kept = kept.into_iter();
    formats.retain(|_| kept.next().unwrap_or(false));
    formats.truncate(MOST);
}

/// The lower-case MIME type under which `name` is kept; some formats have several names.
pub fn canonical_mime(name: &str) -> String {
    let lower = name.trim().to_ascii_lowercase();
    let compact: String = lower.chars().filter(|c| !c.is_whitespace() && *c != '"').collect();
    match compact.as_str() {
        "text/plain" | "text/plain;charset=utf-8" | "text/plain;charset=utf8" | "text/plain;charset=us-ascii" => {
            PLAIN.into()
        }
        "application/rtf" | "text/richtext" => RTF.into(),
        "x-special/mate-copied-files" => FILE_LIST.into(),
        "image/jpg" | "image/pjpeg" => "image/jpeg".into(),
        "image/x-png" => "image/png".into(),
        "image/x-bmp" | "image/x-ms-bmp" | "image/x-win-bitmap" => "image/bmp".into(),
        "image/x-tiff" | "image/tif" => "image/tiff".into(),
        "image/svg" => SVG.into(),
        _ => compact,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_bulky_picture_is_taken_only_where_nothing_better_is_offered() {
        assert_eq!(useful(&["image/bmp", "image/png", "image/tiff"]), ["image/png"]);
        assert_eq!(useful(&["image/tiff", "image/bmp", "text/html"]), ["text/html", "image/bmp"]);
        assert_eq!(useful(&["image/x-icon", "application/x-private"]), Vec::<&str>::new());
    }

    #[test]
    fn of_too_many_formats_the_useful_ones_and_the_first_are_kept() {
        let mut formats: Vec<Format> =
            (0..500).map(|number| Format::new(format!("application/x-{number}"), "x")).collect();
        formats.push(Format::plain("words"));
        keep_most(&mut formats);
        let names: Vec<&str> = formats.iter().map(|format| format.mime.as_str()).collect();
        assert_eq!((names.len(), names[0], names[62], names[63]), (MOST, "application/x-0", "application/x-62", PLAIN));
        let few = formats.clone();
        keep_most(&mut formats);
        assert_eq!(formats, few);
    }

    #[test]
    fn the_many_names_of_one_type_become_one() {
        for name in ["text/plain", "text/plain; charset=UTF-8", "TEXT/PLAIN;charset=\"utf-8\""] {
            assert_eq!(canonical_mime(name), PLAIN);
        }
        assert_eq!(canonical_mime("application/rtf"), RTF);
        assert_eq!(canonical_mime("image/PNG"), "image/png");
        assert_eq!(canonical_mime("image/x-MS-bmp"), "image/bmp");
    }
}
