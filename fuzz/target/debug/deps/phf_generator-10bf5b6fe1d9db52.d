/work/main/fuzz/target/debug/deps/phf_generator-10bf5b6fe1d9db52.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_generator-10bf5b6fe1d9db52.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.13.1/src/lib.rs

/work/main/fuzz/target/debug/deps/libphf_generator-10bf5b6fe1d9db52.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.13.1/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_generator-0.13.1/src/lib.rs:
