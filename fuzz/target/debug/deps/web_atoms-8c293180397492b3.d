/work/main/fuzz/target/debug/deps/web_atoms-8c293180397492b3.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.2.6/lib.rs /work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/named_entities.rs /work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/generated.rs

/work/main/fuzz/target/debug/deps/libweb_atoms-8c293180397492b3.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.2.6/lib.rs /work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/named_entities.rs /work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/generated.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.2.6/lib.rs:
/work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/named_entities.rs:
/work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out/generated.rs:

# env-dep:OUT_DIR=/work/main/fuzz/target/debug/build/web_atoms-6a5c8bee4b0f1efa/out
