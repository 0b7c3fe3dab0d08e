//! Links: text that is one URL and nothing else.

use url::Url;

/// Longest URL that is still taken as a link; beyond it, text is just text.
const LONGEST: usize = 8 * 1024;

/// Schemes whose URLs a person would call a link.
const SCHEMES: [&str; 7] = ["http", "https", "ftp", "sftp", "mailto", "tel", "geo"];

/// The normalised URL (WHATWG URL Standard), if `text` is one URL and nothing else. White space
/// around it is allowed.
pub fn sole_url(text: &str) -> Option<Url> {
    let text = text.trim();
    if text.len() > LONGEST || text.contains(char::is_whitespace) {
        return None;
    }
    let url = Url::parse(text).ok()?;
    if !SCHEMES.contains(&url.scheme()) {
        return None;
    }
    let addressed = match url.scheme() {
        // The parser forgives `http:example`; people do not write links so.
        "http" | "https" | "ftp" | "sftp" => text.contains("://") && url.has_host(),
        _ => !url.path().is_empty(),
    };
    addressed.then_some(url)
}

/// A URL and its title out of the `text/x-moz-url` format: two lines of UTF-16 or UTF-8.
pub fn titled_url(data: &[u8]) -> Option<(Url, Option<String>)> {
    let text = crate::html::decode(data);
    let mut lines = text.lines();
    let url = sole_url(lines.next()?)?;
    let title = lines.next().map(str::trim).filter(|title| !title.is_empty() && *title != url.as_str());
    Some((url, title.map(str::to_owned)))
}

/// A link as a list shows it: the host first, then the rest, without `www.` and without the scheme.
pub fn host_first(url: &str) -> String {
    let Ok(parsed) = Url::parse(url) else { return url.to_owned() };
    let Some(host) = parsed.host_str() else { return parsed.path().to_owned() };
    let host = host.strip_prefix("www.").unwrap_or(host);
    let port = parsed.port().map(|port| format!(":{port}")).unwrap_or_default();
    let rest = &parsed[url::Position::BeforePath..];
    format!("{host}{port}{}", if rest == "/" { "" } else { rest })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_url_and_nothing_else_is_a_link() {
        for link in ["https://example.org", " http://example.org/a?b=c#d\n", "mailto:desk@example.org", "tel:+15550100"]
        {
            assert!(sole_url(link).is_some(), "{link}");
        }
        for text in [
            "see https://example.org",
            "https://",
            "example.org",
            "http:example",
            "note: call",
            "c:\\tmp",
            "javascript:alert(1)",
            "file:///etc/hosts",
            "mailto:",
        ] {
            assert_eq!(sole_url(text), None, "{text}");
        }
    }

    #[test]
    fn spellings_of_one_address_are_one_link() {
        assert_eq!(sole_url("HTTPS://Example.ORG"), sole_url("https://example.org/"));
    }

    #[test]
    fn the_titled_format_is_read_in_both_encodings() {
        let utf16: Vec<u8> = "https://example.org/a\nStalls plan".encode_utf16().flat_map(u16::to_le_bytes).collect();
        for data in [utf16.as_slice(), b"https://example.org/a\nStalls plan"] {
            let (url, title) = titled_url(data).unwrap();
            assert_eq!(url.as_str(), "https://example.org/a");
            assert_eq!(title.as_deref(), Some("Stalls plan"));
        }
    }

    #[test]
    fn a_list_shows_the_host_first() {
        assert_eq!(host_first("https://www.example.org/"), "example.org");
        assert_eq!(host_first("http://example.org:8080/plan?x=1"), "example.org:8080/plan?x=1");
        assert_eq!(host_first("mailto:desk@example.org"), "desk@example.org");
    }
}
