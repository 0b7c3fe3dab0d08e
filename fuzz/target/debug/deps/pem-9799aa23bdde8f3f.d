/work/main/fuzz/target/debug/deps/pem-9799aa23bdde8f3f.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/errors.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/parser.rs

/work/main/fuzz/target/debug/deps/libpem-9799aa23bdde8f3f.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/errors.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/parser.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/errors.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pem-4.0.0/src/parser.rs:
