//! The console's pages, which are part of the program.

use super::conditional::is_none_of;
use super::problem::Problem;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use rust_embed::{EmbeddedFile, RustEmbed};

#[derive(RustEmbed)]
#[folder = "$YADORI_CONSOLE"]
struct Files;

/// Where the build puts files whose names contain a hash of their content.
const HASHED: &str = "assets/";

/// Whether the console was built when the service was.
pub fn is_built_in() -> bool {
    Files::iter().any(|path| path.starts_with(HASHED))
}

/// A file of the console; its first page for paths that it knows itself.
pub(super) async fn page(method: Method, uri: Uri, headers: HeaderMap) -> Response {
    let path = uri.path().trim_start_matches('/');
    if path.starts_with("api/") {
        return Problem::no_such_path().into_response();
    }
    if !matches!(method, Method::GET | Method::HEAD) {
        return ([(header::ALLOW, "GET,HEAD")], Problem::wrong_method()).into_response();
    }
    let looks_like_a_file = path.rsplit('/').next().is_some_and(|name| name.contains('.'));
    let path = if path.is_empty() || !looks_like_a_file { "index.html" } else { path };
    let accepts = |encoding: &str| {
        let accepted = headers.get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok()).unwrap_or_default();
        accepted.split(',').any(|one| one.split(';').next().is_some_and(|name| name.trim() == encoding))
    };
    let mut compressed = [("br", ".br"), ("gzip", ".gz")].into_iter().filter(|(encoding, _)| accepts(encoding));
    let found = compressed
        .find_map(|(encoding, ending)| Some((Files::get(&format!("{path}{ending}"))?, Some(encoding))))
        .or_else(|| Some((Files::get(path)?, None)));
    match found {
        Some((file, encoding)) => serve(path, &file, encoding, &headers),
        None => (StatusCode::NOT_FOUND, "there is no such file\n").into_response(),
    }
}

fn serve(path: &str, file: &EmbeddedFile, encoding: Option<&'static str>, headers: &HeaderMap) -> Response {
    let etag = format!("\"{}\"", data_encoding::HEXLOWER.encode(&file.metadata.sha256_hash()[..16]));
    let cache = if path.starts_with(HASHED) { "public, max-age=31536000, immutable" } else { "no-cache" };
    if !is_none_of(&etag, headers) {
        let same = [(header::ETAG, etag.as_str()), (header::CACHE_CONTROL, cache), (header::VARY, "accept-encoding")];
        return (StatusCode::NOT_MODIFIED, same).into_response();
    }
    let mut response = file.data.clone().into_owned().into_response();
    let set = response.headers_mut();
    set.insert(header::CONTENT_TYPE, HeaderValue::from_static(mime(path)));
    set.insert(header::CACHE_CONTROL, HeaderValue::from_static(cache));
    set.insert(header::VARY, HeaderValue::from_static("accept-encoding"));
    if let Ok(etag) = HeaderValue::from_str(&etag) {
        set.insert(header::ETAG, etag);
    }
    if let Some(encoding) = encoding {
        set.insert(header::CONTENT_ENCODING, HeaderValue::from_static(encoding));
    }
    response
}

/// The types of the files that the build makes.
fn mime(path: &str) -> &'static str {
    match path.rsplit('.').next().unwrap_or_default() {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "svg" => "image/svg+xml",
        "png" => "image/png",
        "woff2" => "font/woff2",
        "json" | "webmanifest" => "application/json",
        _ => "application/octet-stream",
    }
}

/// What a browser sees that was not let in.
pub(super) fn closed() -> Response {
    const PAGE: &str = "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\n\
        <title>Yadori: closed</title>\n<h1>This browser is not let in</h1>\n\
        <p>The history is for its owner only. Run <code>yadori console</code> on the computer where the service runs, and open the link that it gives. \
        A link works once, and for two minutes.</p>\n</html>\n";
    (StatusCode::UNAUTHORIZED, [(header::CONTENT_TYPE, "text/html; charset=utf-8")], PAGE).into_response()
}
