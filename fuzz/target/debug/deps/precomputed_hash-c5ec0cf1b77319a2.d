/work/main/fuzz/target/debug/deps/precomputed_hash-c5ec0cf1b77319a2.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/precomputed-hash-0.1.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libprecomputed_hash-c5ec0cf1b77319a2.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/precomputed-hash-0.1.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/precomputed-hash-0.1.1/src/lib.rs:
