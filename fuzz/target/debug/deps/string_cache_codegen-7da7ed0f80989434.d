/work/main/fuzz/target/debug/deps/string_cache_codegen-7da7ed0f80989434.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.6.1/lib.rs

/work/main/fuzz/target/debug/deps/libstring_cache_codegen-7da7ed0f80989434.rlib: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.6.1/lib.rs

/work/main/fuzz/target/debug/deps/libstring_cache_codegen-7da7ed0f80989434.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.6.1/lib.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache_codegen-0.6.1/lib.rs:
