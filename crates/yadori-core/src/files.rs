//! Copied files: what file managers put on the clipboard, and what they take from it.
//!
//! Files are named by `file:` URIs (RFC 8089). Their names are bytes: anything but `/` and NUL may be in
//! them, also line ends and what is not UTF-8; in a URI those bytes are percent-encoded.

use crate::format::{self, Format};
use crate::preview::unsafe_to_print;

/// Before the list in plain text, where a file manager puts it there.
const LIST_IN_TEXT: &[u8] = b"x-special/nautilus-clipboard\n";

/// The URIs of the files that were copied, if it was files that were copied. Each file is named in one way
/// only, however its owner wrote it.
pub fn listed(formats: &[Format]) -> Option<Vec<String>> {
    let of = |mime: &str| format::find(formats, mime).map(|data| &data[..]);
    let in_text = || from_file_list(of(format::PLAIN)?.strip_prefix(LIST_IN_TEXT)?);
    (of(format::FILE_LIST).and_then(from_file_list))
        .or_else(|| of(format::URI_LIST).and_then(from_uri_list))
        .or_else(in_text)
}

/// The formats of copied files as file managers paste them: they are copied, whether they were once cut or
/// not, since what was cut has been moved by then, or may be moved twice. Other formats are left as they are.
pub fn to_copy(formats: &[Format]) -> Vec<Format> {
    let Some(uris) = listed(formats) else { return formats.to_vec() };
    let listing = Format::new(format::FILE_LIST, format!("copy\n{}", uris.join("\n")));
    let plain = uris.iter().map(|uri| path(uri)).collect::<Vec<_>>().join("\n");
    let mut pasted = vec![listing];
    for format in formats {
        match format.mime.as_str() {
            format::FILE_LIST | format::CUT_MARK => {}
            format::PLAIN if format.data.starts_with(LIST_IN_TEXT) => pasted.push(Format::plain(plain.clone())),
            _ => pasted.push(format.clone()),
        }
    }
    if format::find(&pasted, format::URI_LIST).is_none() {
        let uris: String = uris.iter().map(|uri| format!("{uri}\r\n")).collect();
        pasted.push(Format::new(format::URI_LIST, uris));
    }
    if format::find(&pasted, format::PLAIN).is_none() {
        pasted.push(Format::plain(plain));
    }
    pasted
}

/// The `file:` URIs of a `text/uri-list` (RFC 2483, section 5: comments begin with `#`), if all its
/// URIs are files and there is at least one.
fn from_uri_list(data: &[u8]) -> Option<Vec<String>> {
    file_uris(data)
}

/// The `file:` URIs of a file manager's list, whose first line says `copy` or `cut`.
fn from_file_list(data: &[u8]) -> Option<Vec<String>> {
    let end = data.iter().position(|byte| *byte == b'\n')?;
    matches!(data[..end].trim_ascii(), b"copy" | b"cut").then(|| file_uris(&data[end + 1..]))?
}

fn file_uris(lines: &[u8]) -> Option<Vec<String>> {
    let lines = lines.split(|byte| matches!(byte, b'\r' | b'\n' | b'\0'));
    let mut uris: Vec<String> = Vec::new();
    for line in lines.filter(|line| !line.trim_ascii().is_empty() && !line.starts_with(b"#")) {
        uris.push(canonical(line)?);
    }
    (!uris.is_empty()).then_some(uris)
}

/// The one way in which a file is named here: `file://`, the host if it is another one, and the path with
/// everything percent-encoded that need not be read.
fn canonical(uri: &[u8]) -> Option<String> {
    let uri = uri.trim_ascii();
    let rest = uri.get(..5).filter(|scheme| scheme.eq_ignore_ascii_case(b"file:")).map(|_| &uri[5..])?;
    let (host, path) = match rest.strip_prefix(b"//") {
        Some(rest) => rest.split_at(rest.iter().position(|byte| *byte == b'/')?),
        None => (&b""[..], rest),
    };
    if !path.starts_with(b"/") || !host.is_ascii() {
        return None;
    }
    let host = String::from_utf8_lossy(host).to_ascii_lowercase();
    let host = if host == "localhost" { String::new() } else { host };
    Some(format!("file://{host}{}", percent_encoded(&percent_decoded(path))))
}

/// The URI of the file of this path.
pub fn uri(path: &[u8]) -> String {
    format!("file://{}", percent_encoded(path))
}

/// The path of a `file:` URI of a file on this machine, byte by byte; `None` for a file of another.
/// `own_host` is what this machine is called.
pub fn local_path(uri: &str, own_host: &str) -> Option<Vec<u8>> {
    let rest = uri.strip_prefix("file://")?;
    let (host, path) = rest.split_at(rest.find('/')?);
    (host.is_empty() || host.eq_ignore_ascii_case(own_host)).then(|| percent_decoded(path.as_bytes()))
}

/// The path of a `file:` URI for showing and searching: a line end in it becomes `↵`; bytes that are not UTF-8,
/// and what could steer a terminal or turn text around, become `�`.
pub fn path(uri: &str) -> String {
    let rest = uri.strip_prefix("file:").unwrap_or(uri);
    let path = match rest.strip_prefix("//") {
        Some(authority_and_path) => authority_and_path.find('/').map_or("", |slash| &authority_and_path[slash..]),
        None => rest,
    };
    let shown = |c: char| match c {
        '\n' => '↵',
        c if unsafe_to_print(c) => char::REPLACEMENT_CHARACTER,
        c => c,
    };
    String::from_utf8_lossy(&percent_decoded(path.as_bytes())).chars().map(shown).collect()
}

/// The last part of a path; the path itself when it has no parts.
pub fn name(path: &str) -> &str {
    path.trim_end_matches('/').rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or(path)
}

fn percent_encoded(path: &[u8]) -> String {
    let mut encoded = String::with_capacity(path.len());
    for byte in path {
        // RFC 3986: `pchar` and the slash.
        if byte.is_ascii_alphanumeric() || b"-._~!$&'()*+,;=:@/".contains(byte) {
            encoded.push(char::from(*byte));
        } else {
            encoded.push_str(&format!("%{byte:02X}"));
        }
    }
    encoded
}

fn percent_decoded(bytes: &[u8]) -> Vec<u8> {
    let mut decoded = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let hex = (bytes[at] == b'%')
            .then(|| std::str::from_utf8(bytes.get(at + 1..at + 3)?).ok())
            .flatten()
            .filter(|digits| digits.bytes().all(|digit| digit.is_ascii_hexdigit()))
            .and_then(|digits| u8::from_str_radix(digits, 16).ok());
        decoded.push(hex.unwrap_or(bytes[at]));
        at += if hex.is_some() { 3 } else { 1 };
    }
    decoded
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn uris(mime: &str, data: impl Into<Vec<u8>>) -> Option<Vec<String>> {
        listed(&[Format::new(mime, data.into())])
    }

    #[test]
    fn lists_of_files_are_read_and_the_cut_mark_is_not_part_of_them() {
        let both = Some(vec!["file:///home/mira/cue%20list.ods".to_owned(), "file:///srv/b".to_owned()]);
        let list = "# two\r\nfile:///home/mira/cue%20list.ods\r\nfile:///srv/b\r\n";
        assert_eq!(uris(format::URI_LIST, list), both);
        assert_eq!(uris(format::FILE_LIST, "cut\nfile:///home/mira/cue%20list.ods\nfile:///srv/b"), both);
        let in_text = "x-special/nautilus-clipboard\ncut\nfile:///home/mira/cue%20list.ods\nfile:///srv/b\n";
        assert_eq!(uris(format::PLAIN, in_text), both);
    }

    #[test]
    fn other_uris_are_not_files() {
        assert_eq!(uris(format::URI_LIST, "https://example.org/"), None);
        assert_eq!(uris(format::URI_LIST, "file:///a\nhttps://example.org/"), None);
        assert_eq!(uris(format::FILE_LIST, "paste\nfile:///a"), None);
        assert_eq!(uris(format::URI_LIST, ""), None);
        assert_eq!(uris(format::PLAIN, "file:///a"), None);
    }

    #[test]
    fn one_file_is_named_in_one_way() {
        for written in [
            &b"file:///srv/caf%c3%a9%20list"[..],
            b"file:/srv/caf%C3%A9%20list",
            b"FILE://localhost/srv/caf\xc3\xa9 list",
            b"file:///%73rv/caf%C3%A9%20list\0",
        ] {
            assert_eq!(uris(format::URI_LIST, written).unwrap(), ["file:///srv/caf%C3%A9%20list"]);
        }
        assert_eq!(uris(format::URI_LIST, "file://Workshop/srv").unwrap(), ["file://workshop/srv"]);
    }

    #[test]
    fn what_is_pasted_is_copied_and_never_cut() {
        let cut = [
            Format::new(format::FILE_LIST, "cut\nfile:///srv/a%0Ab"),
            Format::new(format::CUT_MARK, "1"),
            Format::new(format::URI_LIST, "file:///srv/a%0Ab\r\n"),
        ];
        let pasted = to_copy(&cut);
        assert_eq!(format::find(&pasted, format::FILE_LIST).unwrap(), "copy\nfile:///srv/a%0Ab");
        assert_eq!(format::find(&pasted, format::CUT_MARK), None);
        assert_eq!(format::find(&pasted, format::URI_LIST).unwrap(), "file:///srv/a%0Ab\r\n");
        assert_eq!(format::find(&pasted, format::PLAIN).unwrap(), "/srv/a↵b".as_bytes());
        let text = [Format::plain("no files")];
        assert_eq!(to_copy(&text), text);
    }

    #[test]
    fn names_are_decoded_for_people() {
        assert_eq!(name(&path("file:///home/mira/cue%20list.ods")), "cue list.ods");
        assert_eq!(name(&path("file://workshop/srv/posters/")), "posters");
        assert_eq!(name(&path("file:///")), "/");
        assert_eq!(name(&path("file:///tmp/%ff%zz%0a")), "\u{fffd}%zz↵");
        assert_eq!(path("file:///a%1b%E2%80%AEb"), "/a\u{fffd}\u{fffd}b");
    }

    #[test]
    fn only_files_of_this_machine_have_a_path_here() {
        assert_eq!(local_path("file:///tmp/%ff", "workshop").unwrap(), b"/tmp/\xff");
        assert_eq!(local_path("file://workshop/tmp", "Workshop").unwrap(), b"/tmp");
        assert_eq!(local_path("file://van/tmp", "workshop"), None);
    }

    proptest! {
        #[test]
        fn any_uri_has_a_name(uri in "\\PC{0,40}") {
            let _ = name(&path(&uri));
            let _ = name(&path(&format!("file:{uri}")));
        }

        #[test]
        fn every_name_survives(path in "/[^\0]{0,20}".prop_map(String::into_bytes), wild in prop::collection::vec(1u8.., 0..20)) {
            let path = [path, wild].concat();
            let uri = uri(&path);
            prop_assert_eq!(local_path(&uri, "workshop").unwrap(), path);
            prop_assert_eq!(uris(format::URI_LIST, uri.clone()).unwrap(), vec![uri]);
        }
    }
}
