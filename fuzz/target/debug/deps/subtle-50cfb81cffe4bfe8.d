/work/main/fuzz/target/debug/deps/subtle-50cfb81cffe4bfe8.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/subtle-2.6.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libsubtle-50cfb81cffe4bfe8.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/subtle-2.6.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/subtle-2.6.1/src/lib.rs:
