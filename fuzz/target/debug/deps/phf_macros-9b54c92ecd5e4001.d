/work/main/fuzz/target/debug/deps/phf_macros-9b54c92ecd5e4001.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_macros-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_macros-9b54c92ecd5e4001.so: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_macros-0.13.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_macros-0.13.1/src/lib.rs:
