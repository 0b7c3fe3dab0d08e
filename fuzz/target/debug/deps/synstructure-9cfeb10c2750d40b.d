/work/main/fuzz/target/debug/deps/synstructure-9cfeb10c2750d40b.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/macros.rs

/work/main/fuzz/target/debug/deps/libsynstructure-9cfeb10c2750d40b.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/macros.rs

/work/main/fuzz/target/debug/deps/libsynstructure-9cfeb10c2750d40b.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/macros.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/synstructure-0.14.0/src/macros.rs:
