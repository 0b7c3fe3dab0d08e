/work/main/fuzz/target/debug/deps/frames-e5837ddff5a943b5.d: src/bin/frames.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

/work/main/fuzz/target/debug/deps/libframes-e5837ddff5a943b5.rmeta: src/bin/frames.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

src/bin/frames.rs:
src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs:
