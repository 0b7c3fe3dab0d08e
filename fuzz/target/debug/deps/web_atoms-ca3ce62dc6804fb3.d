/work/main/fuzz/target/debug/deps/web_atoms-ca3ce62dc6804fb3.d: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.3.0/lib.rs /work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/named_entities.rs /work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/generated.rs

/work/main/fuzz/target/debug/deps/libweb_atoms-ca3ce62dc6804fb3.rmeta: /root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.3.0/lib.rs /work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/named_entities.rs /work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/generated.rs

/root/.cargo/registry/src/index.crates.io-1949cf8c6b5b557f/web_atoms-0.3.0/lib.rs:
/work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/named_entities.rs:
/work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out/generated.rs:

# env-dep:OUT_DIR=/work/main/fuzz/target/debug/build/web_atoms-2232609a1c5d01b2/out
