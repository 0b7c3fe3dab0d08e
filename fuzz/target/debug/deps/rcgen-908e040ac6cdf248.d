/work/main/fuzz/target/debug/deps/rcgen-908e040ac6cdf248.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/certificate.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/crl.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/csr.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/key_pair.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/oid.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/ring_like.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/sign_algo.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/string.rs

/work/main/fuzz/target/debug/deps/librcgen-908e040ac6cdf248.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/certificate.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/crl.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/csr.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/key_pair.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/oid.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/ring_like.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/sign_algo.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/string.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/certificate.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/crl.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/csr.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/error.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/key_pair.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/oid.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/ring_like.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/sign_algo.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/rcgen-0.14.10/src/string.rs:
