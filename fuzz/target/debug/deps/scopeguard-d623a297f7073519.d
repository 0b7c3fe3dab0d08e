/work/main/fuzz/target/debug/deps/scopeguard-d623a297f7073519.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/scopeguard-1.2.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libscopeguard-d623a297f7073519.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/scopeguard-1.2.0/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/scopeguard-1.2.0/src/lib.rs:
