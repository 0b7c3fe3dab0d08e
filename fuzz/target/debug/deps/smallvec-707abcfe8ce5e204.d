/work/main/fuzz/target/debug/deps/smallvec-707abcfe8ce5e204.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/smallvec-1.16.6/src/lib.rs

/work/main/fuzz/target/debug/deps/libsmallvec-707abcfe8ce5e204.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/smallvec-1.16.6/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/smallvec-1.16.6/src/lib.rs:
