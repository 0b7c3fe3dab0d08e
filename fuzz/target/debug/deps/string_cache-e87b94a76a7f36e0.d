/work/main/fuzz/target/debug/deps/string_cache-e87b94a76a7f36e0.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/atom.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/dynamic_set.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/static_sets.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/trivial_impls.rs

/work/main/fuzz/target/debug/deps/libstring_cache-e87b94a76a7f36e0.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/lib.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/atom.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/dynamic_set.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/static_sets.rs /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/trivial_impls.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/lib.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/atom.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/dynamic_set.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/static_sets.rs:
/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/string_cache-0.11.0/src/trivial_impls.rs:
