/work/main/fuzz/target/debug/deps/seeds-1be965023e266a58.d: src/bin/seeds.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs src/bin/../../../crates/yadori-link/tests/decoders/seeds.rs

/work/main/fuzz/target/debug/deps/libseeds-1be965023e266a58.rmeta: src/bin/seeds.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs src/bin/../../../crates/yadori-link/tests/decoders/seeds.rs

src/bin/seeds.rs:
src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs:
src/bin/../../../crates/yadori-link/tests/decoders/seeds.rs:
