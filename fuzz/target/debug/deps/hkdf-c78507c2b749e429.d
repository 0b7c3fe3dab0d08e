/work/main/fuzz/target/debug/deps/hkdf-c78507c2b749e429.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/errors.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/sealed.rs

/work/main/fuzz/target/debug/deps/libhkdf-c78507c2b749e429.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/errors.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/sealed.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/errors.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/hkdf-0.12.4/src/sealed.rs:
