/work/main/fuzz/target/debug/deps/deranged-9645a332dfdd8fe0.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/unsafe_wrapper.rs

/work/main/fuzz/target/debug/deps/libderanged-9645a332dfdd8fe0.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/unsafe_wrapper.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/deranged-0.5.9/src/unsafe_wrapper.rs:
