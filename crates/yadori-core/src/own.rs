//! The formats that a program keeps for itself: what makes a recall paste what the program itself would have pasted.
//!
//! Everything that an owner offers is kept, but for what [`NOT_KEPT`] names, with the reason: protocol, conversions that
//! any program can make again, and what only has a meaning within the process that offers it.

use crate::format::{self, Format};
use crate::link;

/// Most bytes of a program's own formats that are kept beside the main ones: 8 MiB.
pub const MOST_BYTES: u64 = 8 << 20;

/// Most own formats of one copy. LibreOffice offers some twenty in all.
pub const MOST: usize = 32;

/// Longest name of a format, in bytes. LibreOffice describes its objects in some 300.
pub const LONGEST_NAME: usize = 500;

/// What is not kept: beginnings of names in lower case, and why.
pub const NOT_KEPT: [(&str, &str); 26] = [
    ("targets", "protocol: the list of names itself (ICCCM, section 2.6.2)"),
    ("multiple", "protocol: several at once"),
    ("timestamp", "protocol: when the selection was taken"),
    ("save_targets", "protocol: what a manager is asked"),
    ("delete", "protocol: a side effect"),
    ("insert_", "protocol: a side effect"),
    ("atom", "protocol"),
    ("integer", "protocol"),
    ("string", "plain text, which is kept as UTF-8"),
    ("text", "plain text under a name that X11 has for it, or a type of text that is kept by its own name"),
    ("utf8_string", "plain text"),
    ("compound_text", "plain text"),
    ("c_string", "plain text"),
    ("pixmap", "a number that has a meaning for the X server only"),
    ("bitmap", "a number that has a meaning for the X server only"),
    ("drawable", "a number that has a meaning for the X server only"),
    ("colormap", "a number that has a meaning for the X server only"),
    ("image/", "the same picture in another encoding: the best of them is kept"),
    ("application/x-qt-image", "the same picture in another encoding"),
    ("application/x-qt-windows-mime", "the same in the encoding of another system"),
    ("application/x-libreoffice-internal-id", "the number of a process"),
    ("application/x-libreoffice-tsvc", "the text of the cells, which is kept as plain text"),
    ("chromium/x-renderer-taint", "a mark within the browser that copied"),
    ("chromium/x-source-url", "kept as the page that it is from"),
    ("x-kde-passwordmanagerhint", "whether it is a secret, which is asked before anything else"),
    ("_qt_", "a mark within the program that copied"),
];

/// Whether a format of this name is one that a program keeps for itself.
pub fn is_kept(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    if name.len() > LONGEST_NAME || name.chars().any(char::is_control) || is_main(name) {
        return false;
    }
    let of_text = lower.starts_with("text/");
    if of_text && (lower.starts_with("text/plain") || lower == "text/x-moz-url-priv") {
        return false;
    }
    NOT_KEPT.iter().all(|(start, _)| !lower.starts_with(start) || (of_text && *start == "text"))
}

/// Whether a format is one of those that all programs share: text, HTML, pictures, links, files.
pub fn is_main(mime: &str) -> bool {
    let mime = format::canonical_mime(mime);
    mime == format::PLAIN || !format::useful(&[mime.as_str()]).is_empty() || mime == format::CUT_MARK
}

/// The formats as they are offered back. A picture beside words is how some programs show their cells or their paragraph
/// to those who want a picture of it: whoever offers it without the program's own formats gets it pasted instead of the
/// words. So it is offered only together with those.
pub fn offered_back(formats: Vec<Format>) -> Vec<Format> {
    let words = format::find(&formats, format::PLAIN).and_then(|plain| std::str::from_utf8(plain).ok());
    let says_words = words.is_some_and(|words| !words.trim().is_empty() && link::sole_url(words).is_none());
    if !says_words || formats.iter().any(|format| !is_main(&format.mime)) {
        return formats;
    }
    formats.into_iter().filter(|format| !format.mime.starts_with("image/")).collect()
}

/// Formats in the order in which their owner names them; those that it does not name come last.
pub fn in_order(mut formats: Vec<Format>, names: &[String]) -> Vec<Format> {
    let place = |format: &Format| names.iter().position(|name| *name == format.mime).unwrap_or(names.len());
    formats.sort_by_key(place);
    formats
}

#[cfg(test)]
mod tests {
    use super::*;

    const CELLS: &str = "application/x-openoffice-embed-source-xml;windows_formatname=\"Star Embed Source (XML)\"";

    #[test]
    fn a_programs_own_formats_are_kept_and_conversions_are_not() {
        for name in [CELLS, "text/_moz_htmlcontext", "application/x-gimp-brush", "image/x-inkscape-svg", "GIMP_XCF"] {
            let kept = name != "image/x-inkscape-svg";
            assert_eq!(is_kept(name), kept, "{name}");
        }
        for name in ["TARGETS", "UTF8_STRING", "text/plain", "text/plain;charset=utf-16", "text/html", "image/bmp"] {
            assert!(!is_kept(name), "{name}");
        }
        assert!(!is_kept("application/x-libreoffice-internal-id-4711") && !is_kept(&"x".repeat(501)));
        assert!(NOT_KEPT.iter().all(|(start, why)| *start == start.to_ascii_lowercase() && !why.is_empty()));
    }

    #[test]
    fn a_picture_of_words_is_offered_only_with_what_it_is_a_picture_of() {
        let mimes = |formats: Vec<Format>| -> Vec<String> {
            offered_back(formats).into_iter().map(|format| format.mime).collect()
        };
        let cells = vec![Format::plain("1\t2"), Format::new("image/png", "x"), Format::new(format::HTML, "<td>1")];
        assert_eq!(mimes(cells.clone()), [format::PLAIN, format::HTML]);
        let whole = [cells, vec![Format::new(CELLS, "PK")]].concat();
        assert_eq!(mimes(whole).len(), 4);
        // A picture with its address stays one.
        let picture = vec![Format::plain("https://example.org/a.png"), Format::new("image/png", "x")];
        assert_eq!(mimes(picture).len(), 2);
        let names = [CELLS.to_owned(), "image/png".to_owned()];
        let ordered =
            in_order(vec![Format::plain("a"), Format::new("image/png", "b"), Format::new(CELLS, "c")], &names);
        assert_eq!(ordered.iter().map(|format| &format.data[..]).collect::<Vec<_>>(), [b"c", b"b", b"a"]);
    }
}
