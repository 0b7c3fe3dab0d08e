/work/main/fuzz/target/debug/deps/exchange-66ed6c6aef65e3e8.d: src/bin/exchange.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

/work/main/fuzz/target/debug/deps/libexchange-66ed6c6aef65e3e8.rmeta: src/bin/exchange.rs src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs

src/bin/exchange.rs:
src/bin/../../../crates/yadori-link/tests/decoders/bodies.rs:
