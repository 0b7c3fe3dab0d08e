//! Copied files: what file managers put on the clipboard.

/// The `file:` URIs of a `text/uri-list` (RFC 2483, section 5: comments begin with `#`), if all its
/// URIs are files and there is at least one.
pub fn from_uri_list(data: &[u8]) -> Option<Vec<String>> {
    file_uris(std::str::from_utf8(data).ok()?.lines())
}

/// The `file:` URIs of a file manager's list, whose first line says `copy` or `cut`.
pub fn from_file_list(data: &[u8]) -> Option<Vec<String>> {
    let text = std::str::from_utf8(data).ok()?;
    let (action, rest) = text.split_once('\n')?;
    matches!(action.trim(), "copy" | "cut").then(|| file_uris(rest.lines()))?
}

fn file_uris<'a>(lines: impl Iterator<Item = &'a str>) -> Option<Vec<String>> {
    let uris: Vec<String> = lines
        .map(|line| line.trim_matches(['\r', '\n', ' ', '\0']))
        .filter(|line| !line.is_empty() && !line.starts_with('#'))
        .map(str::to_owned)
        .collect();
    (!uris.is_empty() && uris.iter().all(|uri| uri.starts_with("file:"))).then_some(uris)
}

/// The path of a `file:` URI for showing and searching; bytes that are not UTF-8 become `�`.
pub fn path(uri: &str) -> String {
    let rest = uri.strip_prefix("file:").unwrap_or(uri);
    let path = match rest.strip_prefix("//") {
        Some(authority_and_path) => authority_and_path.find('/').map_or("", |slash| &authority_and_path[slash..]),
        None => rest,
    };
    String::from_utf8_lossy(&percent_decoded(path)).into_owned()
}

/// The last part of a path; the path itself when it has no parts.
pub fn name(path: &str) -> &str {
    path.trim_end_matches('/').rsplit('/').next().filter(|name| !name.is_empty()).unwrap_or(path)
}

fn percent_decoded(text: &str) -> Vec<u8> {
    let bytes = text.as_bytes();
    let mut decoded = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        let hex = (bytes[at] == b'%')
            .then(|| text.get(at + 1..at + 3))
            .flatten()
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

    #[test]
    fn lists_of_files_are_read_and_the_cut_mark_is_not_part_of_them() {
        let uris = vec!["file:///home/mira/cue%20list.ods".to_owned(), "file:///srv/b".to_owned()];
        assert_eq!(
            from_uri_list(b"# two\r\nfile:///home/mira/cue%20list.ods\r\nfile:///srv/b\r\n"),
            Some(uris.clone())
        );
        assert_eq!(from_file_list(b"cut\nfile:///home/mira/cue%20list.ods\nfile:///srv/b"), Some(uris));
    }

    #[test]
    fn other_uris_are_not_files() {
        assert_eq!(from_uri_list(b"https://example.org/"), None);
        assert_eq!(from_uri_list(b"file:///a\nhttps://example.org/"), None);
        assert_eq!(from_file_list(b"paste\nfile:///a"), None);
        assert_eq!(from_uri_list(b""), None);
    }

    #[test]
    fn names_are_decoded_for_people() {
        assert_eq!(name(&path("file:///home/mira/cue%20list.ods")), "cue list.ods");
        assert_eq!(name(&path("file://workshop/srv/posters/")), "posters");
        assert_eq!(name(&path("file:///")), "/");
        assert_eq!(name(&path("file:///tmp/%ff%zz")), "\u{fffd}%zz");
    }

    proptest! {
        #[test]
        fn any_uri_has_a_name(uri in "\\PC{0,40}") {
            let _ = name(&path(&uri));
            let _ = name(&path(&format!("file:{uri}")));
        }
    }
}
