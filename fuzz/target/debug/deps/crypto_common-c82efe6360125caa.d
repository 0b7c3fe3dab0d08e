/work/main/fuzz/target/debug/deps/crypto_common-c82efe6360125caa.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/crypto-common-0.1.7/src/lib.rs

/work/main/fuzz/target/debug/deps/libcrypto_common-c82efe6360125caa.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/crypto-common-0.1.7/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/crypto-common-0.1.7/src/lib.rs:
