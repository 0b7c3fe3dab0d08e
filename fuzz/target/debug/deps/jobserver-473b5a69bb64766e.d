/work/main/fuzz/target/debug/deps/jobserver-473b5a69bb64766e.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/work/main/fuzz/target/debug/deps/libjobserver-473b5a69bb64766e.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/work/main/fuzz/target/debug/deps/libjobserver-473b5a69bb64766e.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/error.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/jobserver-0.1.35/src/unix.rs:
