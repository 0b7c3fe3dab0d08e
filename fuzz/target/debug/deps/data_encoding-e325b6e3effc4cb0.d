/work/main/fuzz/target/debug/deps/data_encoding-e325b6e3effc4cb0.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/data-encoding-2.11.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libdata_encoding-e325b6e3effc4cb0.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/data-encoding-2.11.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/data-encoding-2.11.1/src/lib.rs:
