/work/main/fuzz/target/debug/deps/phf_generator-b97885a606558fc2.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.14.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_generator-b97885a606558fc2.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.14.0/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_generator-b97885a606558fc2.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.14.0/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.14.0/src/lib.rs:
