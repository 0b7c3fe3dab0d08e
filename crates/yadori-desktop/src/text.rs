//! Plain text in the encodings of X11, which programs on Wayland offer too.

/// Latin-1, the encoding of `STRING` (ICCCM, section 2.6.2).
pub(crate) fn from_latin1(data: &[u8]) -> String {
    data.iter().map(|byte| char::from(*byte)).collect()
}

/// Text as Latin-1, if all of it can be written so.
pub(crate) fn to_latin1(text: &str) -> Option<Vec<u8>> {
    text.chars().map(|c| u8::try_from(u32::from(c)).ok()).collect()
}

/// Compound Text: Latin-1 with switches to other character sets. The switch to UTF-8 (`ESC % G`) and
/// back (`ESC % @`), and the designations of ASCII and Latin-1, are understood; text in other sets
/// gives `None`.
pub(crate) fn from_compound(data: &[u8]) -> Option<String> {
    const ESCAPE: u8 = 0x1b;
    let mut text = String::new();
    let mut rest = data;
    while let Some((first, after)) = rest.split_first() {
        if *first != ESCAPE {
            text.push(char::from(*first));
            rest = after;
            continue;
        }
        rest = match after {
            [b'%', b'G', utf8 @ ..] => {
                let end = utf8.windows(3).position(|three| three == [ESCAPE, b'%', b'@']);
                text.push_str(std::str::from_utf8(&utf8[..end.unwrap_or(utf8.len())]).ok()?);
                &utf8[end.map_or(utf8.len(), |end| end + 3)..]
            }
            [b'(', b'B', other @ ..] | [b'-', b'A', other @ ..] | [b'%', b'@', other @ ..] => other,
            _ => return None,
        };
    }
    Some(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn latin1_goes_both_ways() {
        assert_eq!(from_latin1(b"caf\xe9"), "café");
        assert_eq!(to_latin1("café").as_deref(), Some(&b"caf\xe9"[..]));
        assert_eq!(to_latin1("舞台"), None);
    }

    #[test]
    fn compound_text_is_read_as_far_as_it_is_known() {
        assert_eq!(from_compound(b"caf\xe9 \x1b%G\xe8\x88\x9e\x1b%@ x").as_deref(), Some("café 舞 x"));
        assert_eq!(from_compound(b"\x1b-Acaf\xe9").as_deref(), Some("café"));
        assert_eq!(from_compound(b"\x1b$(B\x4b\x5c"), None);
        assert_eq!(from_compound(b"\x1b%G\xff"), None);
    }
}
