//! Points at the built console, or at a page that says that it is missing.

use std::path::Path;

fn main() {
    let here = std::env::var("CARGO_MANIFEST_DIR").expect("cargo sets it");
    let built = Path::new(&here).join("../../console/dist");
    let folder = if built.join("index.html").is_file() { built } else { Path::new(&here).join("console-missing") };
    println!("cargo:rustc-env=YADORI_CONSOLE={}", folder.display());
    println!("cargo:rerun-if-changed=../../console/dist");
    println!("cargo:rerun-if-changed=console-missing");
}
