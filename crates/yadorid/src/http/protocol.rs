//! What every request must keep to, whatever it asks for.

use super::problem::Problem;
use axum::extract::Request;
use axum::http::header::{self, HeaderMap};
use yadori_serve::Limits;

/// Most bytes of path and query: a query of 1,000 characters takes at most 12,000 of them.
const LONGEST_URI: usize = 16 * 1024;

/// Most bytes of all headers. Browsers send the cookies of every port of this host.
const MOST_HEADER_BYTES: usize = 32 * 1024;

/// Most headers.
const MOST_HEADERS: usize = 100;

/// Headers that are read from a connection: some more than may be sent, so that who sends too many is told.
pub(super) const HEADERS_READ: usize = 4 * MOST_HEADERS;

/// How much may come at once: a person's browsers and programs need a few dozen connections.
pub(crate) const LIMITS: Limits = Limits { connections: 256, headers: HEADERS_READ };

/// What speaks against a request, whatever it asks for.
pub(super) fn objection(request: &Request) -> Option<Problem> {
    let (uri, headers) = (request.uri(), request.headers());
    let length = uri.path().len() + uri.query().map_or(0, str::len);
    if length > LONGEST_URI {
        return Some(Problem::long_address(LONGEST_URI));
    }
    let bytes: usize = headers.iter().map(|(name, value)| name.as_str().len() + value.len()).sum();
    if headers.len() > MOST_HEADERS || bytes > MOST_HEADER_BYTES {
        return Some(Problem::large_headers(MOST_HEADERS, MOST_HEADER_BYTES));
    }
    // Who sends two may mean that two readers take a different one (RFC 9112, section 3.2).
    if headers.get_all(header::HOST).iter().count() > 1 {
        return Some(Problem::several_hosts());
    }
    encoding(headers).map(Problem::encoded)
}

/// The coding of the body, if it has one (RFC 9110, section 8.4).
fn encoding(headers: &HeaderMap) -> Option<&str> {
    let values = headers.get_all(header::CONTENT_ENCODING).iter();
    let codings = values.flat_map(|value| value.to_str().unwrap_or("?").split(',')).map(str::trim);
    codings.into_iter().find(|coding| !coding.is_empty() && !coding.eq_ignore_ascii_case("identity"))
}
