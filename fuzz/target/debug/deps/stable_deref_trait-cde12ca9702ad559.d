/work/main/fuzz/target/debug/deps/stable_deref_trait-cde12ca9702ad559.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/stable_deref_trait-1.2.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libstable_deref_trait-cde12ca9702ad559.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/stable_deref_trait-1.2.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/stable_deref_trait-1.2.1/src/lib.rs:
