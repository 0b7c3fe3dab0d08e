/work/main/fuzz/target/debug/deps/hmac-6fc4f0358015f3d3.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/optim.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/simple.rs

/work/main/fuzz/target/debug/deps/libhmac-6fc4f0358015f3d3.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/optim.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/simple.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/optim.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hmac-0.12.1/src/simple.rs:
