/work/main/fuzz/target/debug/deps/errno-0cdb1a4ac38ad641.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/unix.rs

/work/main/fuzz/target/debug/deps/liberrno-0cdb1a4ac38ad641.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/unix.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/errno-0.3.15/src/unix.rs:
