/work/main/fuzz/target/debug/deps/phf-2d80295ea58c1561.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/map.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_map.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_set.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/set.rs

/work/main/fuzz/target/debug/deps/libphf-2d80295ea58c1561.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/map.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_map.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_set.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/set.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/map.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_map.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/ordered_set.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf-0.14.0/src/set.rs:
