/work/main/fuzz/target/debug/deps/num_conv-64e96faec1621a3f.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/num-conv-0.2.2/src/lib.rs

/work/main/fuzz/target/debug/deps/libnum_conv-64e96faec1621a3f.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/num-conv-0.2.2/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/num-conv-0.2.2/src/lib.rs:
