//! What a pattern alone cannot tell. Each check takes what the pattern has found, and the whole text.

/// Words that stand where a secret would be, in examples, templates and code.
const PLACEHOLDERS: [&str; 40] = [
    "password",
    "passwort",
    "passwd",
    "pass",
    "secret",
    "token",
    "null",
    "none",
    "nil",
    "true",
    "false",
    "string",
    "undefined",
    "required",
    "optional",
    "example",
    "changeme",
    "placeholder",
    "redacted",
    "hidden",
    "empty",
    "value",
    "prompt",
    "stdin",
    "default",
    "unset",
    "bearer",
    "basic",
    "username",
    "user",
    "yes",
    "no",
    "text",
    "varchar",
    "bool",
    "boolean",
    "missing",
    "invalid",
    "expired",
    "wrong",
];

/// Marks of a template, or of an expression that is computed somewhere: no value.
const OF_CODE: [char; 9] = ['(', ')', '<', '>', '{', '}', '$', '%', '…'];

fn trimmed(value: &str) -> &str {
    value.trim_matches(['"', '\'', '`', ';', ',', '.', ')', ']'])
}

/// Whether a value stands for another, or is none.
fn is_placeholder(value: &str) -> bool {
    let value = trimmed(value);
    let lower = value.to_lowercase();
    let same = |mark: char| value.chars().all(|c| c == mark);
    value.is_empty()
        || value.starts_with(['=', '&', '*', '@', ':', '/', '#'])
        || value.contains(OF_CODE)
            && !value.contains(['!', '#', '^', '&'])
            && !value.chars().any(|c| c.is_ascii_digit())
        || value.starts_with(['$', '<', '{', '%', '['])
        || value.contains('(')
        || same('*')
        || same('x')
        || same('X')
        || same('•')
        || same('.')
        || same('-')
        || PLACEHOLDERS.contains(&lower.as_str())
        || ["your", "my_", "my-", "the_", "the-", "some_", "some-", "insert", "enter_", "replace", "example"]
            .iter()
            .any(|start| lower.starts_with(start))
        || ["process.env", "os.environ", "env.", "self.", "this.", "config.", "settings.", "request.", "args."]
            .iter()
            .any(|start| lower.starts_with(start))
        || is_member(value)
}

/// `user.password_hash`, `Parser::token`: a name in a program.
fn is_member(value: &str) -> bool {
    let parts: Vec<&str> = value.split(['.', ':']).filter(|part| !part.is_empty()).collect();
    let is_name = |part: &&str| part.chars().all(|c| c.is_ascii_alphabetic() || c == '_');
    parts.len() > 1 && parts.iter().all(is_name)
}

fn has(value: &str, test: impl Fn(char) -> bool) -> bool {
    value.chars().any(test)
}

/// The value of something called a password: not a placeholder, and either no plain word or all that its line says.
pub(super) fn is_password_value(value: &str, text: &str) -> bool {
    let value = trimmed(value);
    if is_placeholder(value) || value.chars().count() < 4 {
        return false;
    }
    let letters_only = value.chars().all(|c| c.is_alphabetic() || c == '_');
    let mixed = has(&value[value.chars().next().map_or(0, char::len_utf8)..], char::is_uppercase);
    if !letters_only {
        // A number of a page, a size, a version and a date say something else.
        return !value.chars().all(|c| c.is_ascii_digit() || matches!(c, '.' | ':' | '-' | '/')) || value.len() >= 6;
    }
    // A word: only if nothing follows it on its line, and the line is no code or prose.
    let line = text.lines().find(|line| line.contains(value)).unwrap_or(text);
    let last = line.trim_end().ends_with(value);
    let words = line.split_whitespace().count();
    last && value.chars().count() >= 8 && words <= 3 && !mixed && !line.contains(['(', ';', '{'])
}

/// The value of something called a key, a secret or a token: letters and digits together, or long and random.
pub(super) fn is_key_value(value: &str, _text: &str) -> bool {
    let value = trimmed(value);
    if is_placeholder(value) || value.len() < 8 {
        return false;
    }
    let (letters, digits) = (has(value, char::is_alphabetic), has(value, |c| c.is_ascii_digit()));
    let symbols = has(value, |c| matches!(c, '!' | '#' | '^' | '&' | '+' | '/' | '=' | '~' | '?'));
    letters && (digits || symbols) && !is_version_or_path(value)
}

fn is_version_or_path(value: &str) -> bool {
    value.starts_with("http") || value.starts_with('/') || value.starts_with("./") || value.contains("::")
}

/// The password in a URL.
pub(super) fn is_url_password(value: &str, _text: &str) -> bool {
    !is_placeholder(value) && value.len() >= 3 && !matches!(value, "pw" | "pwd" | "PASS" | "xxx" | "…")
}

/// Payment card numbers: a length and a beginning that are issued, and a right check digit (Luhn, ISO/IEC 7812-1 annex B).
pub(super) fn is_card_number(text: &str, _whole: &str) -> bool {
    let digits: Vec<u32> = text.chars().filter_map(|c| c.to_digit(10)).collect();
    let number = |length: usize| digits[..length.min(digits.len())].iter().fold(0, |sum, digit| sum * 10 + digit);
    let (two, three, four) = (number(2), number(3), number(4));
    let issued = match digits.len() {
        13 | 19 => digits[0] == 4,
        14 => matches!(two, 36 | 38 | 39) || (300..=305).contains(&three),
        15 => matches!(two, 34 | 37),
        16 => {
            digits[0] == 4
                || (51..=55).contains(&two)
                || (2221..=2720).contains(&four)
                || matches!(two, 65 | 62)
                || four == 6011
                || (644..=649).contains(&three)
                || (3528..=3589).contains(&four)
        }
        _ => false,
    };
    let luhn: u32 = digits
        .iter()
        .rev()
        .enumerate()
        .map(|(place, digit)| if place % 2 == 1 { digit * 2 / 10 + digit * 2 % 10 } else { *digit })
        .sum();
    issued && luhn.is_multiple_of(10)
}

/// A card number all by itself may be the number of something else.
pub(super) fn is_sole_card_number(text: &str, whole: &str) -> bool {
    whole.trim() == text && is_card_number(text, whole)
}

/// The number of a bank account: its check digits are right (ISO 13616-1, ISO/IEC 7064 MOD 97-10).
pub(super) fn is_account_number(text: &str, _whole: &str) -> bool {
    let account: String = text.chars().filter(char::is_ascii_alphanumeric).collect();
    if !(15..=34).contains(&account.len()) {
        return false;
    }
    let (start, rest) = account.split_at(4);
    let turned = rest.chars().chain(start.chars());
    turned.filter_map(|c| c.to_digit(36)).fold(0u32, |sum, digit| {
        let sum = if digit > 9 { sum * 100 } else { sum * 10 };
        (sum + digit) % 97
    }) == 1
}

/// One unbroken run of letters and digits in mixed case, long and without the rhythm of words. Hashes and ids in one case,
/// paths, and e-mail addresses do not count.
pub(super) fn is_random(text: &str, whole: &str) -> bool {
    if whole.trim() != text {
        return false;
    }
    let body = text.rsplit(['_', '-', '.']).next().unwrap_or(text);
    let body = if body.len() < 20 { text } else { body };
    let count = |test: fn(&u8) -> bool| body.bytes().filter(test).count();
    let (lower, upper, digits) =
        (count(u8::is_ascii_lowercase), count(u8::is_ascii_uppercase), count(u8::is_ascii_digit));
    let changes = body.as_bytes().windows(2).filter(|pair| class(pair[0]) != class(pair[1])).count();
    // Random base62 changes its class at six places in ten, words in camelCase at fewer than four.
    lower >= 3 && upper >= 3 && digits >= 2 && changes * 20 >= body.len() * 9
}

fn class(byte: u8) -> u8 {
    match byte {
        b'0'..=b'9' => 0,
        b'A'..=b'Z' => 1,
        _ => 2,
    }
}

/// A single word with lower and upper case, digits and symbols: what a generator of passwords makes, and hardly anybody else.
pub(super) fn is_sole_password(text: &str, whole: &str) -> bool {
    if whole.trim() != text || text.contains("://") || !text.is_ascii() {
        return false;
    }
    let is_symbol = |c: char| matches!(c, '!' | '#' | '$' | '%' | '^' | '&' | '*' | '?' | '~' | '+' | '@');
    let symbols = text.chars().filter(|c| is_symbol(*c)).count();
    let inner = &text[1..text.len() - 1];
    let classes = [
        has(text, |c| c.is_ascii_lowercase()),
        has(text, |c| c.is_ascii_uppercase()),
        has(text, |c| c.is_ascii_digit()),
    ];
    let digits = text.chars().filter(char::is_ascii_digit).count();
    // An address, a price, a mention, a tag, a version, and C++ are none.
    let address = text.split_once('@').is_some_and(|(name, host)| !name.is_empty() && host.contains('.'));
    let marked = text.starts_with(['@', '#', '$', '+', '&', '%', '~']) && symbols == 1;
    let ends_a_sentence = symbols == 1 && text.ends_with(['!', '?', '%', '*']);
    symbols > 0
        && classes.iter().filter(|class| **class).count() >= 2
        && digits > 0
        && (has(inner, is_symbol) || symbols > 1 || classes.iter().all(|class| *class))
        && !address
        && !marked
        && (!ends_a_sentence || classes.iter().all(|class| *class))
}
