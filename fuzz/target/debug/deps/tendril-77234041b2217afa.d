/work/main/fuzz/target/debug/deps/tendril-77234041b2217afa.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/fmt.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/stream.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/buf32.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/tendril.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/utf8_decode.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/util.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/futf.rs

/work/main/fuzz/target/debug/deps/libtendril-77234041b2217afa.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/fmt.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/stream.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/buf32.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/tendril.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/utf8_decode.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/util.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/futf.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/fmt.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/stream.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/buf32.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/tendril.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/utf8_decode.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/util.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/tendril-0.5.1/src/futf.rs:
