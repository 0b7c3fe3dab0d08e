/work/main/fuzz/target/debug/deps/const_oid-32bca17991fe43d3.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/checked.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/arcs.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/buffer.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/encoder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/parser.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/traits.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/../README.md

/work/main/fuzz/target/debug/deps/libconst_oid-32bca17991fe43d3.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/checked.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/arcs.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/buffer.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/encoder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/parser.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/traits.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/../README.md

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/checked.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/arcs.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/buffer.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/encoder.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/error.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/parser.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/traits.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/const-oid-0.10.3/src/../README.md:
