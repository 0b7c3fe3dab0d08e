/work/main/fuzz/target/debug/deps/rustc_version-50d4754cf5ceb5dc.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rustc_version-0.4.1/src/lib.rs

/work/main/fuzz/target/debug/deps/librustc_version-50d4754cf5ceb5dc.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rustc_version-0.4.1/src/lib.rs

/work/main/fuzz/target/debug/deps/librustc_version-50d4754cf5ceb5dc.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rustc_version-0.4.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rustc_version-0.4.1/src/lib.rs:
