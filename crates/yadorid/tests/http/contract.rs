//! The committed description of the HTTP interface is the one that the service gives.

use std::path::Path;

#[test]
fn the_committed_openapi_document_is_current() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    let current = yadorid::http::openapi_json();
    if std::env::var_os("YADORI_UPDATE").is_some() {
        std::fs::write(&path, &current).unwrap();
    }
    let committed = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(
        committed == current,
        "docs/openapi.json is not current; run: YADORI_UPDATE=1 cargo test -p yadorid --test http contract"
    );
}
