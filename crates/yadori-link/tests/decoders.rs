//! Whatever bytes come, nothing panics, nothing grows without end, and nobody is convinced who should not be.
//! `script/test --long` tries the same with a fuzzer.

#[path = "decoders/bodies.rs"]
mod bodies;
#[path = "decoders/seeds.rs"]
mod seeds;

use proptest::prelude::*;

/// Bytes that are nearly right: what a device may say, with some of it gone wrong, left out or put in.
fn nearly(right: Vec<Vec<u8>>) -> impl Strategy<Value = Vec<u8>> {
    let changes = prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0u8..3), 0..6);
    (prop::sample::select(right), changes).prop_map(|(mut bytes, changes)| {
        for (place, byte, how) in changes {
            if bytes.is_empty() {
                break;
            }
            let place = place.index(bytes.len());
            match how {
                0 => bytes[place] = byte,
                1 => bytes.insert(place, byte),
                _ => drop(bytes.remove(place)),
            }
        }
        bytes
    })
}

#[test]
fn what_is_right_is_taken() {
    seeds::frames().iter().for_each(|bytes| assert!(yadori_link::frame::decode(bytes).is_ok()));
    seeds::letters().iter().for_each(|bytes| assert!(yadori_link::envelope::Letter::from_bytes(bytes).is_ok()));
    seeds::deliveries().iter().for_each(|bytes| assert!(yadori_link::relay::delivered(bytes).is_ok()));
    seeds::exchanges().iter().for_each(|bytes| bodies::exchange(bytes));
}

proptest! {
    #[test]
    fn messages(bytes in nearly(seeds::frames()), random in prop::collection::vec(any::<u8>(), 0..300)) {
        bodies::frames(&bytes);
        bodies::frames(&random);
    }

    #[test]
    fn letters(bytes in nearly(seeds::letters()), random in prop::collection::vec(any::<u8>(), 0..300)) {
        bodies::letters(&bytes);
        bodies::letters(&random);
    }

    #[test]
    fn deliveries(bytes in nearly(seeds::deliveries()), random in prop::collection::vec(any::<u8>(), 0..300)) {
        bodies::deliveries(&bytes);
        bodies::deliveries(&random);
    }

    #[test]
    fn exchanges(bytes in nearly(seeds::exchanges())) {
        bodies::exchange(&bytes);
    }
}

proptest! {
    // Each takes as long as many of the others.
    #![proptest_config(ProptestConfig { cases: ProptestConfig::default().cases / 8, ..ProptestConfig::default() })]

    #[test]
    fn pairings(bytes in nearly(seeds::pairings()), random in prop::collection::vec(any::<u8>(), 0..80)) {
        bodies::pairing(&bytes);
        bodies::pairing(&random);
    }
}
