/work/main/fuzz/target/debug/deps/cfg_if-2f64771cafb673e7.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/cfg-if-1.0.5/src/lib.rs

/work/main/fuzz/target/debug/deps/libcfg_if-2f64771cafb673e7.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/cfg-if-1.0.5/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/cfg-if-1.0.5/src/lib.rs:
