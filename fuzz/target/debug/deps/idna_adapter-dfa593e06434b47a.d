/work/main/fuzz/target/debug/deps/idna_adapter-dfa593e06434b47a.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/idna_adapter-1.2.2/src/lib.rs

/work/main/fuzz/target/debug/deps/libidna_adapter-dfa593e06434b47a.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/idna_adapter-1.2.2/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/idna_adapter-1.2.2/src/lib.rs:
