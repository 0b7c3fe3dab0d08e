/work/main/fuzz/target/debug/deps/form_urlencoded-8b67c997c092c5d8.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/form_urlencoded-1.2.2/src/lib.rs

/work/main/fuzz/target/debug/deps/libform_urlencoded-8b67c997c092c5d8.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/form_urlencoded-1.2.2/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/form_urlencoded-1.2.2/src/lib.rs:
