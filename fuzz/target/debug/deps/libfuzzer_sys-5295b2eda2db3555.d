/work/main/fuzz/target/debug/deps/libfuzzer_sys-5295b2eda2db3555.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/libfuzzer-sys-0.4.13/src/lib.rs

/work/main/fuzz/target/debug/deps/liblibfuzzer_sys-5295b2eda2db3555.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/libfuzzer-sys-0.4.13/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/libfuzzer-sys-0.4.13/src/lib.rs:
