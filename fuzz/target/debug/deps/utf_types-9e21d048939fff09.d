/work/main/fuzz/target/debug/deps/utf_types-9e21d048939fff09.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf16.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf8.rs

/work/main/fuzz/target/debug/deps/libutf_types-9e21d048939fff09.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf16.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf8.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf16.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/utf_types-1.0.0/src/utf8.rs:
