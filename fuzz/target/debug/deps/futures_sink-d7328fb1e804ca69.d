/work/main/fuzz/target/debug/deps/futures_sink-d7328fb1e804ca69.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/futures-sink-0.3.34/src/lib.rs

/work/main/fuzz/target/debug/deps/libfutures_sink-d7328fb1e804ca69.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/futures-sink-0.3.34/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/futures-sink-0.3.34/src/lib.rs:
