/work/main/fuzz/target/debug/deps/markup5ever-32587995b5f97406.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/mod.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/tree_builder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/serialize.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/buffer_queue.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/smallcharset.rs

/work/main/fuzz/target/debug/deps/libmarkup5ever-32587995b5f97406.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/mod.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/tree_builder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/serialize.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/buffer_queue.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/smallcharset.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/mod.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/interface/tree_builder.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/serialize.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/buffer_queue.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.40.0/util/smallcharset.rs:
