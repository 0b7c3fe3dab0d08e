//! How numbers and keys are written: base 32 (RFC 4648) in lower case, without padding.

use data_encoding::BASE32_NOPAD;

/// Bytes as they stand in a path, a header or a token.
pub fn written(bytes: &[u8]) -> String {
    BASE32_NOPAD.encode(bytes).to_ascii_lowercase()
}

/// Reads so many bytes; nothing if the text is anything else.
pub fn read<const N: usize>(text: &str) -> Option<[u8; N]> {
    read_any(text)?.try_into().ok()
}

/// Reads bytes; nothing if the text is anything else.
pub fn read_any(text: &str) -> Option<Vec<u8>> {
    if text.bytes().any(|byte| byte.is_ascii_uppercase()) {
        return None;
    }
    BASE32_NOPAD.decode(text.to_ascii_uppercase().as_bytes()).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_and_nothing_else() {
        let text = written(&[7; 16]);
        assert_eq!((text.len(), read::<16>(&text)), (26, Some([7; 16])));
        for wrong in [&text[1..], &text.to_uppercase(), "", "../../etc", &format!("{text}a")] {
            assert_eq!(read::<16>(wrong), None, "{wrong}");
        }
    }
}
