/work/main/fuzz/target/debug/deps/markup5ever_rcdom-b12020b22869b197.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever_rcdom-0.38.0+unofficial/lib.rs

/work/main/fuzz/target/debug/deps/libmarkup5ever_rcdom-b12020b22869b197.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever_rcdom-0.38.0+unofficial/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/markup5ever_rcdom-0.38.0+unofficial/lib.rs:
