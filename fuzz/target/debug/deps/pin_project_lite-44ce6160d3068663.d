/work/main/fuzz/target/debug/deps/pin_project_lite-44ce6160d3068663.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pin-project-lite-0.2.18/src/lib.rs

/work/main/fuzz/target/debug/deps/libpin_project_lite-44ce6160d3068663.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pin-project-lite-0.2.18/src/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/pin-project-lite-0.2.18/src/lib.rs:
