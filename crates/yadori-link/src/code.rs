//! The short code of an invitation: 40 bits, written with 32 letters and digits.
//!
//! The alphabet is Crockford's base 32, whose letters are hard to confuse; when a code is read, `O` counts as
//! zero, and `I` and `L` as one.

use std::fmt;
use std::str::FromStr;
use thiserror::Error;

const ALPHABET: &[u8; 32] = b"0123456789ABCDEFGHJKMNPQRSTVWXYZ";

/// Characters of a code.
const CHARS: usize = 8;

/// The code of an invitation.
#[derive(Clone, PartialEq, Eq)]
pub struct Code([u8; CHARS]);

/// A text that is no code.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("a code has eight letters and digits, as in 7K3M-QX9D")]
pub struct NotACode;

impl Code {
    /// A code of five random bytes.
    pub fn new(random: [u8; 5]) -> Self {
        let bits = random.iter().fold(0u64, |bits, byte| (bits << 8) | u64::from(*byte));
        Self(std::array::from_fn(|place| ALPHABET[(bits >> (5 * (CHARS - 1 - place)) & 31) as usize]))
    }

    /// What the key exchange takes as the password.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }
}

impl FromStr for Code {
    type Err = NotACode;

    fn from_str(text: &str) -> Result<Self, NotACode> {
        let mut chars = [0; CHARS];
        let mut count = 0;
        for letter in text.chars().filter(|letter| !letter.is_whitespace() && *letter != '-') {
            let letter = match letter.to_ascii_uppercase() {
                'O' => '0',
                'I' | 'L' => '1',
                letter => letter,
            };
            let known = ALPHABET.iter().any(|known| char::from(*known) == letter);
            if !known || count == CHARS {
                return Err(NotACode);
            }
            chars[count] = letter as u8;
            count += 1;
        }
        if count == CHARS { Ok(Self(chars)) } else { Err(NotACode) }
    }
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = String::from_utf8_lossy(&self.0);
        write!(f, "{}-{}", &text[..4], &text[4..])
    }
}

impl fmt::Debug for Code {
    /// Never the code itself: it opens the history to whoever has it.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Code(…)")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_code_is_read_as_it_is_written(random: [u8; 5]) {
            let code = Code::new(random);
            let written = code.to_string();
            prop_assert_eq!(written.len(), 9);
            prop_assert_eq!(written.parse::<Code>().unwrap(), code.clone());
            let careless = format!(" {} ", written.to_lowercase().replace('-', " ").replace('0', "o").replace('1', "l"));
            prop_assert_eq!(careless.parse::<Code>().unwrap(), code);
        }

        #[test]
        fn nothing_else_is_a_code(text in ".{0,12}") {
            if let Ok(code) = text.parse::<Code>() {
                prop_assert_eq!(code.to_string().len(), 9);
            }
        }
    }

    #[test]
    fn what_is_too_short_too_long_or_strange_is_refused() {
        for text in ["", "7K3M-QX9", "7K3M-QX9DD", "7K3M-QX9U", "7K3M-QX9é"] {
            assert_eq!(text.parse::<Code>(), Err(NotACode), "{text}");
        }
        assert!(!format!("{:?}", Code::new([1; 5])).contains('0'));
    }
}
