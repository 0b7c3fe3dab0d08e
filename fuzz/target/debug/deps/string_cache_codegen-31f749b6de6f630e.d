/work/main/fuzz/target/debug/deps/string_cache_codegen-31f749b6de6f630e.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.11.2/lib.rs

/work/main/fuzz/target/debug/deps/libstring_cache_codegen-31f749b6de6f630e.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.11.2/lib.rs

/work/main/fuzz/target/debug/deps/libstring_cache_codegen-31f749b6de6f630e.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.11.2/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.11.2/lib.rs:
