/work/main/fuzz/target/debug/deps/phf_codegen-05cf4c7576d7fcdf.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.14.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_codegen-05cf4c7576d7fcdf.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.14.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_codegen-05cf4c7576d7fcdf.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.14.0/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.14.0/src/lib.rs:
