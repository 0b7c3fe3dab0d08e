/work/main/fuzz/target/debug/deps/itoa-37fe863182c84738.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/u128_ext.rs

/work/main/fuzz/target/debug/deps/libitoa-37fe863182c84738.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/u128_ext.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/itoa-1.0.19/src/u128_ext.rs:
