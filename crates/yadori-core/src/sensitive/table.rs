//! The rules by which secrets are recognised. Where a pattern has a group, that is what the check is given.

use super::Secret::{Account, CardNumber, Password, PrivateKey, Token};
use super::{Secret, checks};

/// One rule.
pub(super) struct Rule {
    /// What it is called, for whoever asks why.
    pub name: &'static str,
    /// What it finds.
    pub secret: Secret,
    /// Whether what it finds surely is a secret.
    pub certain: bool,
    /// The pattern, in the syntax of the `regex` crate.
    pub pattern: &'static str,
    /// What else must hold of what the pattern has found, within the whole text.
    pub check: Option<fn(&str, &str) -> bool>,
}

const fn sure(name: &'static str, secret: Secret, pattern: &'static str) -> Rule {
    Rule { name, secret, certain: true, pattern, check: None }
}

const fn sure_if(name: &'static str, secret: Secret, pattern: &'static str, check: fn(&str, &str) -> bool) -> Rule {
    Rule { name, secret, certain: true, pattern, check: Some(check) }
}

const fn perhaps(name: &'static str, secret: Secret, pattern: &'static str) -> Rule {
    Rule { name, secret, certain: false, pattern, check: None }
}

const fn perhaps_if(name: &'static str, secret: Secret, pattern: &'static str, check: fn(&str, &str) -> bool) -> Rule {
    Rule { name, secret, certain: false, pattern, check: Some(check) }
}

/// All rules; of several that find something the first that is certain counts.
pub(super) static RULES: &[Rule] = &[
    // Keys.
    sure(
        "a private key in PEM armour (RFC 7468)",
        PrivateKey,
        r"-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----",
    ),
    sure("a private key in SSH2 armour (RFC 4716)", PrivateKey, r"---- BEGIN SSH2 ENCRYPTED PRIVATE KEY ----"),
    sure("a PuTTY key file", PrivateKey, r"(?m)^PuTTY-User-Key-File-[0-9]+:"),
    sure("an age identity", PrivateKey, r"\bAGE-SECRET-KEY-(?:PQ-)?1[0-9A-Z]{40,}"),
    sure(
        "a WireGuard key",
        PrivateKey,
        r"(?mi)^\s*(?:PrivateKey|PresharedKey)\s*=\s*[A-Za-z0-9+/]{42}[AEIMQUYcgkosw048]=",
    ),
    sure("a seed of one-time passwords (otpauth)", PrivateKey, r"(?i)\botpauth(?:-migration)?://\S*(?:secret|data)="),
    sure(
        "a private key in JSON (RFC 7517)",
        PrivateKey,
        r#""kty"\s*:\s*"[A-Za-z]+"[^}]*"d"\s*:\s*"[A-Za-z0-9_-]{20,}""#,
    ),
    sure("an extended private key (BIP 32)", PrivateKey, r"\b[xyzt]prv[1-9A-HJ-NP-Za-km-z]{80,}"),
    // Tokens that say by their beginning whose they are.
    sure("a JSON Web Token (RFC 7519)", Token, r"\beyJ[A-Za-z0-9_-]{8,}\.eyJ[A-Za-z0-9_-]{8,}\.[A-Za-z0-9_-]*"),
    sure(
        "a token known by its prefix",
        Token,
        r"(?x)\b(?:
            (?:AKIA|ASIA)[A-Z0-9]{16}\b
          | gh[pousr]_[A-Za-z0-9]{30,} | github_pat_[A-Za-z0-9_]{22,}
          | gl(?:pat|ptt|dt|rt|ft|soat|cbt)-[A-Za-z0-9_-]{18,}
          | xox[abeoprs]-[A-Za-z0-9-]{10,} | xapp-[0-9]-[A-Za-z0-9-]{10,}
          | (?:sk|rk|whsec)_[A-Za-z0-9_]{16,}
          | sk-(?:[a-z]+-)*[A-Za-z0-9_-]{20,}
          | npm_[A-Za-z0-9]{30,} | pypi-[A-Za-z0-9_-]{50,} | dckr_pat_[A-Za-z0-9_-]{20,} | rubygems_[a-f0-9]{40,}
          | AIza[A-Za-z0-9_-]{30,} | ya29\.[A-Za-z0-9_-]{20,} | GOCSPX-[A-Za-z0-9_-]{20,}
          | SG\.[A-Za-z0-9_-]{16,}\.[A-Za-z0-9_-]{16,} | key-[a-f0-9]{32}
          | hf_[A-Za-z]{30,} | dop_v1_[a-f0-9]{60,} | shp(?:at|ca|pa|ss)_[a-fA-F0-9]{30,}
          | hv[bsr]\.[A-Za-z0-9_-]{20,} | sq0(?:atp|csp)-[A-Za-z0-9_-]{20,} | EAA[A-Za-z0-9]{60,}
          | (?:sbp|nfp|lin_api|pul|figd|phc|phx|dapi|rdme|sntrys|tskey-[a-z]+)[_-][A-Za-z0-9_-]{20,}
        )",
    ),
    sure("a token with a prefix", Token, r"\b[a-z]{2,12}_(?:live|test|prod|pat|sk|secret|token|key)_[A-Za-z0-9]{16,}"),
    sure(
        "an Authorization header (RFC 9110)",
        Token,
        r#"(?i)\b(?:proxy-)?authorization["']?\s*[:=]\s*["']?(?:bearer|basic|token|digest)\s+[a-z0-9+/=._~-]{8,}"#,
    ),
    sure(
        "an API key in a header",
        Token,
        r#"(?i)\bx-(?:api|auth|access)-(?:key|token)["']?\s*[:=]\s*["']?[a-z0-9+/=._~-]{8,}"#,
    ),
    sure(
        "a webhook with its key",
        Token,
        r"https://hooks\.[a-z.]+/services/[A-Z0-9]{6,}/[A-Z0-9]{6,}/[A-Za-z0-9]{16,}",
    ),
    sure("a registry's credentials", Token, r#"(?i)"auth"\s*:\s*"[a-z0-9+/]{12,}={0,2}""#),
    // Passwords that are named, in the languages that people write them in.
    sure_if(
        "a named password",
        Password,
        r#"(?xi)(?:pass(?:word|wd|phrase|code)|passwort|kennwort|mot_?\ ?de_?\ ?passe|contrase(?:ñ|n)a|senha|wachtwoord
            |lösenord|salasana|hasło|haslo|jelszó|heslo|parola|adgangskode|пароль|パスワード|密码|密碼|비밀번호|סיסמה|كلمة\ المرور)
            ["'’]?\s*(?:is|ist|lautet|est|es)?\s*(?::=|=>|[:=：]|は)\s*
            ("[^"\n]{4,}"|'[^'\n]{4,}'|[^\s"']{4,})"#,
        checks::is_password_value,
    ),
    sure_if(
        "a named password, in short",
        Password,
        r#"(?i)(?:^|[\s_;&?"'.-])(?:pw|pwd|psk|wpa[_-]?key)["']?\s*[:=]\s*("[^"\n]{4,}"|'[^'\n]{4,}'|[^\s"'&;]{6,})"#,
        checks::is_key_value,
    ),
    sure_if(
        "a named key or token",
        Token,
        r#"(?xi)(?:secret|secret[_\ -]?(?:key|access[_-]?key|token)|api[_\ -]?(?:key|secret|token)|access[_\ -]?(?:key|token)
            |auth[_\ -]?(?:key|token|secret)|client[_\ -]?secret|private[_\ -]?token|refresh[_\ -]?token|encryption[_\ -]?key
            |signing[_\ -]?key|session[_\ -]?(?:key|secret)|bot[_\ -]?token|token|credential|apikey)
            ["']?\s*(?::=|=>|[:=：])\s*("[^"\n]{8,}"|'[^'\n]{8,}'|[^\s"']{8,})"#,
        checks::is_key_value,
    ),
    sure_if(
        "a password on a command line",
        Password,
        r#"(?i)\s--?(?:password|passwd|pass|token|secret|api-?key)(?:=|\s+)("[^"\n]{4,}"|'[^'\n]{4,}'|[^\s"'-][^\s"']{5,})"#,
        checks::is_key_value,
    ),
    sure_if(
        "a user and a password on a command line",
        Password,
        r#"(?i)\b(?:curl|wget|http)\b[^\n]*\s(?:-u|--user)[ =]["']?[^\s:"']+:([^\s"']{4,})"#,
        checks::is_url_password,
    ),
    sure_if(
        "a password in a URL (RFC 3986)",
        Password,
        r"\b[a-z][a-z0-9+.-]*://[^\s/:@]*:([^\s/@]{3,})@[^\s/]+",
        checks::is_url_password,
    ),
    sure_if(
        "a password in a .netrc",
        Password,
        r"(?i)\b(?:machine\s+\S+|default)\s+login\s+\S+\s+password\s+(\S+)",
        checks::is_url_password,
    ),
    sure_if(
        "a password in a .pgpass",
        Password,
        r"(?m)^[A-Za-z0-9_.*-]+:(?:\d{2,5}|\*):[A-Za-z0-9_*-]+:[A-Za-z0-9_*-]+:(\S{4,})\s*$",
        checks::is_url_password,
    ),
    sure(
        "a hash of a password (crypt(5))",
        Password,
        r"\$(?:2[aby]|1|5|6|y|apr1|argon2(?:id|i|d)|scrypt)\$[./A-Za-z0-9$=,+-]{20,}",
    ),
    sure_if(
        "a password among more of a login",
        Password,
        r"(?im)^\s*(?:user|username|login|e-?mail|benutzer|utilisateur)\s*[:=]\s*\S+\s*\n\s*(?:pass|pw|pwd)\s*[:=]?\s*(\S{4,})\s*$",
        checks::is_url_password,
    ),
    // Cards and accounts.
    sure_if(
        "a card number in groups",
        CardNumber,
        r"\b(\d{4}[ \u{a0}\u{202f}\u{2007}\u{2009}\u{2011}-]\d{4}[ \u{a0}\u{202f}\u{2007}\u{2009}\u{2011}-]\d{4}[ \u{a0}\u{202f}\u{2007}\u{2009}\u{2011}-]\d{1,7}|\d{4}[ \u{a0}\u{202f}\u{2007}\u{2009}\u{2011}-]\d{6}[ \u{a0}\u{202f}\u{2007}\u{2009}\u{2011}-]\d{4,5})\b",
        checks::is_card_number,
    ),
    sure_if(
        "a card number that is named",
        CardNumber,
        r"(?i)(?:card|karte|carte|tarjeta|cartão|kaart|visa|mastercard|amex|pan)\b[^\n\d]{0,24}(\d{13,19})\b",
        checks::is_card_number,
    ),
    sure_if(
        "a card number with its expiry",
        CardNumber,
        r"(?i)\b(\d{13,19})\b[^\n]{0,20}(?:exp|valid|gültig|cvv|cvc|\b(?:0[1-9]|1[0-2])\s?/\s?\d{2}\b)",
        checks::is_card_number,
    ),
    perhaps_if("a number like a card's", CardNumber, r"^\s*(\d{13,19})\s*$", checks::is_sole_card_number),
    perhaps_if(
        "a bank account (IBAN)",
        Account,
        r"\b([A-Z]{2}\d{2}(?:[ \u{a0}\u{202f}]?[A-Z0-9]{2,4}){3,8}(?:[ \u{a0}\u{202f}]?[A-Z0-9]{1,4})?)\b",
        checks::is_account_number,
    ),
    // What only may be one.
    perhaps(
        "a one-time code",
        Token,
        r"(?i)\b(?:verification|one-time|login|log-in|security|sign-in|confirmation|bestätigungs)[ -]?(?:code|password|passcode|pin)\b[^\n]{0,16}?\b\d{3}[ -]?\d{3,5}\b",
    ),
    perhaps("a PIN", Password, r"(?i)\bpin\b(?:[ -]?code)?\s*(?:is|:|=)\s*\d{4,8}\b"),
    perhaps(
        "a link with a key in it",
        Token,
        r"(?i)[?&#](?:access_token|api_?key|auth|token|sig|signature|key|password|pwd|secret|session|code)=[A-Za-z0-9%._~-]{16,}",
    ),
    perhaps_if(
        "letters and digits without the rhythm of words",
        Token,
        r"^\s*([A-Za-z0-9_.-]{24,512})\s*$",
        checks::is_random,
    ),
    perhaps_if(
        "a word like a generated password",
        Password,
        r"^\s*([!#$%&*+.0-9=?@A-Z^_a-z~-]{8,64})\s*$",
        checks::is_sole_password,
    ),
];
