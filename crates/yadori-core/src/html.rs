//! Text out of HTML, and out of the encodings in which browsers put it on the clipboard.

/// Decodes text that is UTF-8, or UTF-16 with or without a byte-order mark, as browsers write it.
/// What is not valid becomes `�`; a trailing NUL is dropped.
pub fn decode(data: &[u8]) -> String {
    let utf16 = |data: &[u8], read: fn([u8; 2]) -> u16| {
        let units = data.chunks_exact(2).map(|pair| read([pair[0], pair[1]]));
        char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect::<String>()
    };
    let text = match data {
        [0xff, 0xfe, rest @ ..] => utf16(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => utf16(rest, u16::from_be_bytes),
        [0xef, 0xbb, 0xbf, rest @ ..] => String::from_utf8_lossy(rest).into_owned(),
        // Markup and URLs begin with ASCII, so in UTF-16 one byte of the first pair is zero.
        [first, 0, ..] if *first != 0 => utf16(data, u16::from_le_bytes),
        [0, second, ..] if *second != 0 => utf16(data, u16::from_be_bytes),
        _ => String::from_utf8_lossy(data).into_owned(),
    };
    text.trim_end_matches('\0').to_owned()
}

/// The words of an HTML fragment as plain text, lists and tables kept readable.
pub fn to_text(data: &[u8]) -> String {
    // Wide enough that no line is broken which was not broken in the source.
    const WIDTH: usize = 100_000;
    html2text::config::plain_no_decorate()
        .string_from_read(decode(data).as_bytes(), WIDTH)
        .map(|text| text.trim().to_owned())
        .unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn html_is_read_in_utf8_and_both_utf16() {
        let html = "<p>Grüße aus <b>Čáslav</b></p>";
        let little: Vec<u8> = html.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let big: Vec<u8> = html.encode_utf16().flat_map(u16::to_be_bytes).collect();
        let marked: Vec<u8> = [&[0xff, 0xfe], little.as_slice()].concat();
        for data in [html.as_bytes(), &little, &big, &marked] {
            assert_eq!(to_text(data), "Grüße aus Čáslav");
        }
    }

    #[test]
    fn script_and_style_are_not_text() {
        assert_eq!(to_text(b"<style>p{}</style><script>alert(1)</script><p>Cue 7</p>"), "Cue 7");
    }

    proptest! {
        #[test]
        fn no_bytes_can_upset_the_reader(data in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = to_text(&data);
        }
    }
}
