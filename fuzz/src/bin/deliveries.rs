//! See `bodies::deliveries`.
#![no_main]

#[path = "../../../crates/yadori-link/tests/decoders/bodies.rs"]
#[allow(dead_code)]
mod bodies;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| bodies::deliveries(bytes));
