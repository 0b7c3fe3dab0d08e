//! What to ask an owner for, of what it offers.
//!
//! X11 and Wayland name formats alike: by MIME types, and by the names that X11 had for text before there
//! were any.

use crate::text;
use std::collections::HashSet;
use yadori_core::{format, own};

/// By which password managers mark a copy as secret; its value is then `secret`.
pub(crate) const SECRET_HINT: &str = "x-kde-passwordManagerHint";

/// The page from which a browser copied.
const PAGES: [&str; 2] = ["chromium/x-source-url", "text/x-moz-url-priv"];

/// Most names that are looked at; an honest owner has some thirty.
pub(crate) const MOST_NAMES: usize = 256;

/// How plain text is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TextIn {
    NotText,
    Utf8,
    Utf16,
    Latin1,
    Compound,
    /// The owner says so with the answer, or the name does.
    AsTyped,
}

/// What the owner says of the encoding of its answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Typed {
    Latin1,
    Compound,
    Other,
}

/// A format to ask for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Wanted {
    /// Its place among the names that are offered.
    pub place: usize,
    /// The MIME type under which it is kept.
    pub mime: String,
    pub text: TextIn,
}

/// What to ask for; the numbers are places among the names that are offered.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Plan {
    /// Is the copy a secret? To be asked before anything else.
    pub secret: Option<usize>,
    pub page: Option<usize>,
    pub formats: Vec<Wanted>,
    /// What the program keeps for itself, which is asked for when the rest has been told.
    pub own: Vec<Wanted>,
    /// The names under which all of it is kept, in the owner's order.
    pub order: Vec<String>,
}

/// Plans a reading.
pub(crate) fn plan(names: &[&str]) -> Plan {
    let find = |wanted: &str| names.iter().position(|name| *name == wanted);
    let mut formats: Vec<Wanted> = plain(names).into_iter().collect();
    let mut seen = HashSet::from([format::PLAIN.to_owned()]);
    // Some toolkits offer one type under names that differ in case only, or under old names too.
    let offered: Vec<(usize, String)> = names
        .iter()
        .enumerate()
        .map(|(place, name)| (place, format::canonical_mime(name)))
        .filter(|(_, mime)| seen.insert(mime.clone()))
        .collect();
    let mimes: Vec<&str> = offered.iter().map(|(_, mime)| mime.as_str()).collect();
    for mime in format::useful(&mimes) {
        if let Some((place, mime)) = offered.iter().find(|(_, offer)| offer == mime) {
            formats.push(Wanted { place: *place, mime: mime.clone(), text: TextIn::NotText });
        }
    }
    let mut own: Vec<Wanted> = Vec::new();
    for (place, name) in names.iter().enumerate().filter(|(_, name)| own::is_kept(name)) {
        if own.len() < own::MOST && own.iter().all(|wanted| wanted.mime != *name) {
            own.push(Wanted { place, mime: (*name).to_owned(), text: TextIn::NotText });
        }
    }
    let mut places: Vec<&Wanted> = formats.iter().chain(&own).collect();
    places.sort_by_key(|wanted| wanted.place);
    let order = places.into_iter().map(|wanted| wanted.mime.clone()).collect();
    Plan { secret: find(SECRET_HINT), page: PAGES.into_iter().find_map(find), formats, own, order }
}

/// Plans the reading of text and nothing else.
pub(crate) fn plan_text(names: &[&str]) -> Plan {
    Plan { formats: plain(names).into_iter().collect(), own: Vec::new(), ..plan(names) }
}

/// The best of the names for plain text.
fn plain(names: &[&str]) -> Option<Wanted> {
    let compact: Vec<String> = names.iter().map(|name| name.to_ascii_lowercase().replace([' ', '"'], "")).collect();
    const BEST_FIRST: [(&str, TextIn); 9] = [
        ("utf8_string", TextIn::Utf8),
        ("text/plain;charset=utf-8", TextIn::Utf8),
        ("text/plain;charset=utf8", TextIn::Utf8),
        ("text/plain;charset=utf-16", TextIn::Utf16),
        ("compound_text", TextIn::Compound),
        ("text/plain", TextIn::AsTyped),
        ("text", TextIn::AsTyped),
        ("string", TextIn::AsTyped),
        ("text/plain;charset=iso-8859-1", TextIn::Latin1),
    ];
    BEST_FIRST.into_iter().find_map(|(wanted, text)| {
        let place = compact.iter().position(|name| name == wanted)?;
        Some(Wanted { place, mime: format::PLAIN.into(), text })
    })
}

/// An answer as it is kept: plain text as UTF-8, without the NULs that some owners end it with. `None`
/// when it is in an encoding that we do not read.
pub(crate) fn decode(text: TextIn, typed: Typed, data: Vec<u8>) -> Option<Vec<u8>> {
    let decoded = match text {
        TextIn::NotText => return Some(data),
        TextIn::Utf8 => data,
        TextIn::Utf16 => yadori_core::html::decode(&data).into_bytes(),
        TextIn::Latin1 => text::from_latin1(&data).into_bytes(),
        TextIn::Compound => text::from_compound(&data)?.into_bytes(),
        TextIn::AsTyped if typed == Typed::Compound => text::from_compound(&data)?.into_bytes(),
        // Latin-1 that is valid UTF-8 beyond ASCII is nearly always UTF-8 from a careless owner.
        TextIn::AsTyped if typed == Typed::Latin1 && std::str::from_utf8(&data).is_err() => {
            text::from_latin1(&data).into_bytes()
        }
        TextIn::AsTyped => data,
    };
    let end = decoded.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    Some(decoded[..end].to_vec())
}

/// Whether the value of [`SECRET_HINT`] says that the copy is a secret.
pub(crate) fn is_secret(value: &[u8]) -> bool {
    value.starts_with(b"secret")
}

/// The page in an answer, if it is one.
pub(crate) fn page(value: &[u8]) -> Option<String> {
    let page = yadori_core::html::decode(value);
    Some(page.trim().to_owned()).filter(|page| yadori_core::link::sole_url(page).is_some())
}

/// The names under which programs ask for a format.
pub(crate) fn offered_as(mime: &str) -> Vec<&str> {
    match mime {
        format::PLAIN => vec!["UTF8_STRING", "text/plain;charset=utf-8", "text/plain", "TEXT", "STRING"],
        // Programs ask for it by different names; Writer takes the cells of Calc as a table only by the last one.
        format::RTF => vec!["text/rtf", "application/rtf", "text/richtext"],
        format::FILE_LIST => vec![format::FILE_LIST, "x-special/mate-copied-files"],
        _ => vec![mime],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_best_text_is_asked_for_once() {
        let plan = plan(&["TARGETS", "STRING", "text/plain", "UTF8_STRING", "text/plain;charset=UTF-8", "TEXT"]);
        assert_eq!(plan.formats, [Wanted { place: 3, mime: format::PLAIN.into(), text: TextIn::Utf8 }]);
    }

    #[test]
    fn one_type_under_several_names_is_asked_for_once() {
        let plan = plan(&["image/PNG", "image/png", "application/rtf", "text/rtf", "image/bmp"]);
        let places: Vec<usize> = plan.formats.iter().map(|wanted| wanted.place).collect();
        assert_eq!(places, [0, 2]);
    }

    #[test]
    fn the_secret_and_the_page_are_found() {
        let plan = plan_text(&["text/html", "STRING", SECRET_HINT, "chromium/x-source-url"]);
        assert_eq!((plan.secret, plan.page, plan.formats.len()), (Some(2), Some(3), 1));
        assert!(is_secret(b"secret\0") && !is_secret(b"public"));
        assert_eq!(page(b"https://example.org/programme\n").as_deref(), Some("https://example.org/programme"));
        assert_eq!(page(b"about:blank and more"), None);
    }

    #[test]
    fn text_is_decoded_as_its_owner_says() {
        assert_eq!(decode(TextIn::AsTyped, Typed::Latin1, b"caf\xe9\0".to_vec()).unwrap(), "café".as_bytes());
        assert_eq!(decode(TextIn::AsTyped, Typed::Latin1, "café".into()).unwrap(), "café".as_bytes());
        assert_eq!(decode(TextIn::Utf16, Typed::Other, vec![0xff, 0xfe, b'a', 0]).unwrap(), b"a");
        assert_eq!(decode(TextIn::Compound, Typed::Other, b"\x1b$(B\x4b\x5c".to_vec()), None);
    }
}
