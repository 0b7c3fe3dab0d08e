/work/main/fuzz/target/debug/deps/spake2-4cf02a8e79dd7e4d.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/ed25519.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/group.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/../README.md

/work/main/fuzz/target/debug/deps/libspake2-4cf02a8e79dd7e4d.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/ed25519.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/group.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/../README.md

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/ed25519.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/error.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/group.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/spake2-0.4.0/src/../README.md:
