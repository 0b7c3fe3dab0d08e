/work/main/fuzz/target/debug/deps/blake3-f8780253951204ee.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/guts.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/hazmat.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/platform.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx2.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx512.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/portable.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse2.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse41.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/io.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/join.rs

/work/main/fuzz/target/debug/deps/libblake3-f8780253951204ee.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/guts.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/hazmat.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/platform.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx2.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx512.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/portable.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse2.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse41.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/io.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/join.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/guts.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/hazmat.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/platform.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx2.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_avx512.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/portable.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse2.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/ffi_sse41.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/io.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/blake3-1.8.7/src/join.rs:
