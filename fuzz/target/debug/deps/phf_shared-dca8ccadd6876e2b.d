/work/main/fuzz/target/debug/deps/phf_shared-dca8ccadd6876e2b.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/hasher.rs

/work/main/fuzz/target/debug/deps/libphf_shared-dca8ccadd6876e2b.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/hasher.rs

/work/main/fuzz/target/debug/deps/libphf_shared-dca8ccadd6876e2b.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/hasher.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/phf_shared-0.14.0/src/hasher.rs:
