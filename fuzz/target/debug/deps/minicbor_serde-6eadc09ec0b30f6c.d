/work/main/fuzz/target/debug/deps/minicbor_serde-6eadc09ec0b30f6c.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/de.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/ser.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/tag.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/error.rs

/work/main/fuzz/target/debug/deps/libminicbor_serde-6eadc09ec0b30f6c.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/de.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/ser.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/tag.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/error.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/de.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/ser.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/tag.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/minicbor-serde-0.7.2/src/error.rs:
