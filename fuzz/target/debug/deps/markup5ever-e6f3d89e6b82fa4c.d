/work/main/fuzz/target/debug/deps/markup5ever-e6f3d89e6b82fa4c.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/mod.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/tree_builder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/serialize.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/buffer_queue.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/smallcharset.rs

/work/main/fuzz/target/debug/deps/libmarkup5ever-e6f3d89e6b82fa4c.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/mod.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/tree_builder.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/serialize.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/buffer_queue.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/smallcharset.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/mod.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/interface/tree_builder.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/serialize.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/buffer_queue.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever-0.38.0/util/smallcharset.rs:
