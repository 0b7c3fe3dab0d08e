/work/main/fuzz/target/debug/deps/debug_unreachable-cccc1fea3ac7a5d8.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/new_debug_unreachable-1.0.6/src/lib.rs

/work/main/fuzz/target/debug/deps/libdebug_unreachable-cccc1fea3ac7a5d8.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/new_debug_unreachable-1.0.6/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/new_debug_unreachable-1.0.6/src/lib.rs:
