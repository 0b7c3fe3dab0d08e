/work/main/fuzz/target/debug/deps/phf_shared-4e431416eecee6b1.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_shared-4e431416eecee6b1.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_shared-4e431416eecee6b1.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.13.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.13.1/src/lib.rs:
