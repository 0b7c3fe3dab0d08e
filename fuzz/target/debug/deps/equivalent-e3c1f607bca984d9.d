/work/main/fuzz/target/debug/deps/equivalent-e3c1f607bca984d9.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/equivalent-1.0.3/src/lib.rs

/work/main/fuzz/target/debug/deps/libequivalent-e3c1f607bca984d9.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/equivalent-1.0.3/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/equivalent-1.0.3/src/lib.rs:
