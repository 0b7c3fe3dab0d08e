/work/main/fuzz/target/debug/deps/yadori_link-6c6d96e9b424ea9c.d: /work/main/crates/yadori-link/src/lib.rs /work/main/crates/yadori-link/src/code.rs /work/main/crates/yadori-link/src/exchange.rs /work/main/crates/yadori-link/src/frame.rs /work/main/crates/yadori-link/src/identity.rs /work/main/crates/yadori-link/src/line.rs /work/main/crates/yadori-link/src/pairing.rs /work/main/crates/yadori-link/src/tls.rs

/work/main/fuzz/target/debug/deps/libyadori_link-6c6d96e9b424ea9c.rmeta: /work/main/crates/yadori-link/src/lib.rs /work/main/crates/yadori-link/src/code.rs /work/main/crates/yadori-link/src/exchange.rs /work/main/crates/yadori-link/src/frame.rs /work/main/crates/yadori-link/src/identity.rs /work/main/crates/yadori-link/src/line.rs /work/main/crates/yadori-link/src/pairing.rs /work/main/crates/yadori-link/src/tls.rs

/work/main/crates/yadori-link/src/lib.rs:
/work/main/crates/yadori-link/src/code.rs:
/work/main/crates/yadori-link/src/exchange.rs:
/work/main/crates/yadori-link/src/frame.rs:
/work/main/crates/yadori-link/src/identity.rs:
/work/main/crates/yadori-link/src/line.rs:
/work/main/crates/yadori-link/src/pairing.rs:
/work/main/crates/yadori-link/src/tls.rs:
