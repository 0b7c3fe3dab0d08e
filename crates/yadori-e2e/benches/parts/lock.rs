//! What encryption, the lock and the cage of decoders cost: each beside the same without.

use super::{fill_with, quantile, time};
use crate::report::Report;
use serde_json::json;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use yadori_cage::Cage;
use yadori_core::Format;
use yadori_e2e::home::{Home, test_key};
use yadori_e2e::process::built;
use yadori_e2e::service::{Service, command};

const CLIPS: u64 = 100_000;
/// Turns, in which both are measured one after the other: the machine is shared.
const TURNS: usize = 5;
const PER_TURN: usize = 60;
const PASSPHRASE: &str = "lanterns on the pier";

pub fn lock(report: &mut Report, runtime: &Runtime) {
    let (encrypted, plain) = (Home::new(), Home::plain());
    runtime.block_on(fill_with(&encrypted.database(), Some(&test_key()), CLIPS));
    runtime.block_on(fill_with(&plain.database(), None, CLIPS));
    let homes = [&encrypted, &plain];
    let start = |home: &Home| {
        let before = Instant::now();
        let service = Service::start(home.path(), command(home.path(), "simulated", None));
        (before.elapsed(), service)
    };
    let mut starts: [Vec<Duration>; 2] = [Vec::new(), Vec::new()];
    let mut commits = starts.clone();
    let mut searches = starts.clone();
    for turn in 0..TURNS {
        for (which, home) in homes.iter().enumerate() {
            let (started, service) = start(home);
            starts[which].push(started);
            for n in 0..PER_TURN {
                let text = format!("cue {turn}.{n} of the lamp");
                let headers = [("authorization", service.bearer()), ("content-type", "text/plain".to_owned())];
                let headers = headers.each_ref().map(|(name, value)| (*name, value.as_str()));
                let add = || assert_eq!(service.request("POST", "/clips", &headers, text.as_bytes()).status, 201);
                commits[which].push(time(add));
            }
            for _ in 0..PER_TURN {
                searches[which].push(time(|| service.get("/clips?limit=50&q=lamp")));
            }
            assert!(service.end().0);
        }
    }
    for (what, samples) in
        [("start to ready", &mut starts), ("adding a clip over HTTP", &mut commits), ("a search", &mut searches)]
    {
        let [ours, without] = samples.each_mut().map(|samples| quantile(samples, 0.5));
        report.add(
            format!("{what}, 100,000 clips, encrypted, p50"),
            ours,
            "ms",
            Some(("not encrypted", without)),
            Some(1.1),
            true,
        );
    }
    let (_, service) = start(&encrypted);
    let set = service.run_with(&["lock", "passphrase"], format!("{PASSPHRASE}\n").as_bytes());
    assert!(set.status.success());
    let (mut locks, mut unlocks) = (Vec::new(), Vec::new());
    for _ in 0..5 {
        locks.push(time(|| assert_eq!(service.post("/lock", &json!({})).status, 200)));
        unlocks.push(time(|| assert_eq!(service.post("/lock/open", &json!({ "passphrase": PASSPHRASE })).status, 200)));
    }
    report.add("locking, 100,000 clips, p50", quantile(&mut locks, 0.5), "ms", None, None, false);
    report.add("unlocking, 100,000 clips, p50", quantile(&mut unlocks, 0.5), "ms", None, Some(1_000.0), false);
    let before = Instant::now();
    service.run(&["lock", "rekey"]);
    report.add("encrypting 100,000 clips with a new key", before.elapsed().as_secs_f64(), "s", None, None, false);
    cage(report, runtime);
}

/// Decoding in a warm worker, beside decoding in the same process.
fn cage(report: &mut Report, runtime: &Runtime) {
    let caged = Cage::of(&built("yadorid"), &["--decode-pictures"]);
    let free = Cage::none();
    for (name, picture) in [("a poster", yadori_e2e::sample::poster("poster")), ("a photograph of 5 MB", photograph())]
    {
        let format = Format::new("image/png", picture);
        let decode = |cage: &Cage| {
            time(|| {
                runtime.block_on(async {
                    cage.decode(&format).await.expect("a picture").small().await.expect("a small one")
                })
            })
        };
        decode(&caged);
        let (mut ours, mut without) = (Vec::new(), Vec::new());
        for _ in 0..15 {
            ours.push(decode(&caged));
            without.push(decode(&free));
        }
        let (ours, without) = (quantile(&mut ours, 0.5), quantile(&mut without, 0.5));
        report.add(
            format!("decoding {name} in the cage, p50"),
            ours,
            "ms",
            Some(("in the service", without)),
            None,
            false,
        );
        report.add("the same: what the cage costs", ours - without, "ms", None, Some(2.0), false);
    }
}

/// Noise, which does not get smaller.
fn photograph() -> Vec<u8> {
    let mut seed = 7u32;
    let picture = image::RgbImage::from_fn(1_500, 1_150, |_, _| {
        image::Rgb(std::array::from_fn(|_| {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 24) as u8
        }))
    });
    let mut png = Vec::new();
    picture.write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png).expect("a picture");
    png
}
