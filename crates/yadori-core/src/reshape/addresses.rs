//! Links, and what can be picked out of a text.

use regex::Regex;
use std::sync::LazyLock;
use url::Url;

fn pattern(pattern: &str) -> Regex {
    Regex::new(pattern).unwrap_or_else(|_| unreachable!("a constant pattern"))
}

static LINK: LazyLock<Regex> =
    LazyLock::new(|| pattern(r#"(?i)\b(?:https?|ftp)://[^\s<>"“”«»\\^`{|}]+|\bmailto:[^\s<>"“”]+"#));
static EMAIL: LazyLock<Regex> = LazyLock::new(|| {
    pattern(
        r"(?i)[\p{L}0-9!#$%&'*+/=?^_{|}~-]+(?:\.[\p{L}0-9!#$%&'*+/=?^_{|}~-]+)*@(?:[\p{L}0-9](?:[\p{L}0-9-]*[\p{L}0-9])?\.)+\p{L}{2,}",
    )
});
static NUMBER: LazyLock<Regex> =
    LazyLock::new(|| pattern(r"[-−+]?\d{1,3}(?:[,'’\u{a0}\u{202f}]\d{3})+(?:[.,]\d+)?|[-−+]?\d+(?:[.,]\d+)*"));

/// Parameters that tell who opened a link, and not what it leads to.
const FOLLOWING: [&str; 20] = [
    "_ga",
    "_gl",
    "_hsenc",
    "_hsmi",
    "dclid",
    "fbclid",
    "gbraid",
    "gclid",
    "igshid",
    "mc_cid",
    "mc_eid",
    "mkt_tok",
    "msclkid",
    "oly_anon_id",
    "oly_enc_id",
    "rb_clickid",
    "twclid",
    "vero_id",
    "wbraid",
    "yclid",
];

/// `%20` and the like as what they stand for, where that makes UTF-8.
pub fn decode(text: &str) -> String {
    let mut decoded = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find('%') {
        decoded.push_str(&rest[..at]);
        rest = &rest[at..];
        let bytes: Vec<u8> = rest.as_bytes().chunks(3).map_while(byte).collect();
        let valid = match std::str::from_utf8(&bytes) {
            Ok(text) => text,
            Err(error) => std::str::from_utf8(&bytes[..error.valid_up_to()]).unwrap_or_default(),
        };
        decoded.push_str(valid);
        let used = if valid.is_empty() {
            decoded.push('%');
            1
        } else {
            valid.len() * 3
        };
        rest = &rest[used..];
    }
    decoded + rest
}

fn byte(piece: &[u8]) -> Option<u8> {
    let [b'%', high, low] = *piece else { return None };
    let digit = |digit: u8| char::from(digit).to_digit(16);
    Some((digit(high)? * 16 + digit(low)?) as u8)
}

/// All but the unreserved characters (RFC 3986, section 2.3) as `%20` and the like.
pub fn encode(text: &str) -> String {
    let mut encoded = String::with_capacity(text.len());
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~".contains(&byte) {
            encoded.push(char::from(byte));
        } else {
            encoded.push_str(&format!("%{byte:02X}"));
        }
    }
    encoded
}

/// The links of a text without the parameters that follow the person; all else as it is.
pub fn untrack(text: &str) -> String {
    let mut result = String::with_capacity(text.len());
    let mut end = 0;
    for found in LINK.find_iter(text) {
        result.push_str(&text[end..found.start()]);
        result.push_str(&clean(found.as_str()));
        end = found.end();
    }
    result + &text[end..]
}

fn clean(link: &str) -> String {
    // By hand and not by a parser, so that what stays is written as it was.
    let (address, fragment) = link.split_once('#').map_or((link, None), |(address, rest)| (address, Some(rest)));
    let Some((path, query)) = address.split_once('?') else { return link.to_owned() };
    let follows = |part: &&str| {
        let name = part.split('=').next().unwrap_or_default().to_ascii_lowercase();
        !(name.starts_with("utm_") || FOLLOWING.contains(&name.as_str()))
    };
    let stays: Vec<&str> = query.split('&').filter(follows).collect();
    let query = if stays.is_empty() { String::new() } else { format!("?{}", stays.join("&")) };
    format!("{path}{query}{}", fragment.map(|fragment| format!("#{fragment}")).unwrap_or_default())
}

/// The links in a text, each once. Punctuation that ends a sentence is not part of a link, nor is a bracket that
/// was opened before it.
pub fn links(text: &str) -> Vec<String> {
    let trimmed = LINK.find_iter(text).map(|found| {
        let mut link = found.as_str();
        loop {
            let open = |open, close| link.matches(open).count() < link.matches(close).count();
            let shorter = match link.chars().next_back() {
                Some('.' | ',' | ';' | ':' | '!' | '?' | '\'' | '’' | '*' | '_') => true,
                Some(')') => open('(', ')'),
                Some(']') => open('[', ']'),
                _ => false,
            };
            if !shorter {
                return link;
            }
            link = &link[..link.len() - link.chars().next_back().map_or(0, char::len_utf8)];
        }
    });
    each_once(trimmed.filter(|link| Url::parse(link).is_ok()))
}

/// The e-mail addresses in a text, each once.
pub fn emails(text: &str) -> Vec<String> {
    each_once(EMAIL.find_iter(text).map(|found| found.as_str()))
}

/// The numbers in a text as they are written, all of them.
pub fn numbers(text: &str) -> Vec<String> {
    let alone = |found: regex::Match| {
        let sign = found.as_str().starts_with(['-', '−', '+']);
        // A dash between numbers is no sign.
        let after_word = text[..found.start()].chars().next_back().is_some_and(char::is_alphanumeric);
        let number =
            if sign && after_word { found.as_str().trim_start_matches(['-', '−', '+']) } else { found.as_str() };
        number.to_owned()
    };
    NUMBER.find_iter(text).map(alone).collect()
}

fn each_once<'a>(found: impl Iterator<Item = &'a str>) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for one in found {
        if !all.iter().any(|known| known == one) {
            all.push(one.to_owned());
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn links_lose_what_follows_people() {
        assert_eq!(
            untrack("see https://example.org/a?utm_source=x&id=3&fbclid=y#top, ok"),
            "see https://example.org/a?id=3#top, ok"
        );
        assert_eq!(untrack("https://example.org/?UTM_medium=a"), "https://example.org/");
        assert_eq!(untrack("https://example.org/?q=utm_x"), "https://example.org/?q=utm_x");
    }

    #[test]
    fn links_addresses_and_numbers_are_picked_out() {
        let text =
            "See (https://example.org/a_(b)), https://example.org/c. or mail desk@example.org; desk@example.org!";
        assert_eq!(links(text), ["https://example.org/a_(b)", "https://example.org/c"]);
        assert_eq!(emails(text), ["desk@example.org"]);
        assert_eq!(numbers("2-3 lamps, -4.5 °C, 1,200.50 and 1’000, v7"), ["2", "3", "-4.5", "1,200.50", "1’000", "7"]);
    }

    #[test]
    fn broken_escapes_stay_as_they_are() {
        assert_eq!(decode("a%20b%C3%A9%zz%C3%"), "a bé%zz%C3%");
        assert_eq!(encode("a bé/"), "a%20b%C3%A9%2F");
    }

    proptest! {
        #[test]
        fn what_is_encoded_is_decoded(text in "(?s).{0,40}") {
            prop_assert_eq!(decode(&encode(&text)), text);
        }
    }
}
