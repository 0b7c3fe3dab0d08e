/work/main/fuzz/target/debug/deps/pairing-52350c6c941d7d69.d: src/bin/pairing.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

/work/main/fuzz/target/debug/deps/libpairing-52350c6c941d7d69.rmeta: src/bin/pairing.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

src/bin/pairing.rs:
src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs:
