/work/main/fuzz/target/debug/deps/phf_codegen-1d1689924bfec04f.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_codegen-1d1689924bfec04f.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_codegen-1d1689924bfec04f.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.13.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_codegen-0.13.1/src/lib.rs:
