/work/main/fuzz/target/debug/deps/fastrand-2bf02cba3b8cb49a.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/fastrand-2.5.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libfastrand-2bf02cba3b8cb49a.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/fastrand-2.5.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libfastrand-2bf02cba3b8cb49a.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/fastrand-2.5.0/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/fastrand-2.5.0/src/lib.rs:
