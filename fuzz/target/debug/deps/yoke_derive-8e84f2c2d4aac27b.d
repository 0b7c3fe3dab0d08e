/work/main/fuzz/target/debug/deps/yoke_derive-8e84f2c2d4aac27b.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lifetimes.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/visitor.rs

/work/main/fuzz/target/debug/deps/libyoke_derive-8e84f2c2d4aac27b.so: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lifetimes.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/visitor.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/lifetimes.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/yoke-derive-0.8.4/src/visitor.rs:
