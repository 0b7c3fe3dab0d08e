//! Random work on three linked devices, with real processes and kills: in the end all show the same.
//!
//! `script/test --long` does much more of it (`OPERATIONS=3000`, several seeds); `SEED=7` does one of them again.

use super::own::Own;
use serde_json::{Value, json};
use std::time::{Duration, Instant};
use yadori_e2e::PATIENCE;

/// A generator of numbers that is the same everywhere (SplitMix64, Steele et al. 2014).
struct Rng(u64);

impl Rng {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % limit as u64) as usize
    }
}

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Few words, so that the same come up again and again, by every way.
const WORDS: [&str; 12] = [
    "Lamp 7",
    "Gel 202",
    "Load-in 14:30",
    "Cue 12",
    "The van",
    "lamp 7",
    "Row F",
    "Dimmer 3",
    "Fresnel",
    "Bar 2",
    "Ferry",
    "Moth",
];

/// Something that a person does at a device: whatever the answer is, it is one (nothing fails for a reason of the service).
fn work(own: &Own, rng: &mut Rng) -> String {
    let clips = own.list();
    let word = WORDS[rng.below(WORDS.len())];
    let any = |rng: &mut Rng| clips.get(rng.below(clips.len().max(1))).map(|clip| clip.id.clone()).unwrap_or_default();
    let (method, path, body): (&str, String, Value) = match rng.below(22) {
        0..=4 => {
            own.copy(word);
            return format!("copy {word}");
        }
        5 => {
            let earlier = "2026-11-01T10:00:00Z";
            let path = format!("/clips?copied_at={earlier}&title=earlier");
            let headers = [("authorization", own.service.bearer()), ("content-type", "text/plain".to_owned())];
            let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
            let answer = own.service.request("POST", &path, &headers, word.as_bytes());
            assert!(answer.status < 500, "{}", answer.text());
            return format!("add {word} at an earlier time: {}", answer.status);
        }
        6..=7 => {
            let id = any(rng);
            let headers = [("authorization", own.service.bearer()), ("content-type", "text/plain".to_owned())];
            let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
            let answer = own.service.request("PUT", &format!("/clips/{id}/text"), &headers, word.as_bytes());
            assert!(answer.status < 500, "{}", answer.text());
            return format!("edit {id} into {word}: {}", answer.status);
        }
        8 => ("POST", "/reshape".into(), json!({"clip": any(rng), "ways": ["lower"], "save": true})),
        9 => ("POST", "/pins".into(), json!({"clips": [any(rng)]})),
        10 => ("POST", "/pins/remove".into(), json!({"clips": [any(rng)]})),
        11 => ("PATCH", format!("/clips/{}", any(rng)), json!({"title": format!("title {}", rng.below(99))})),
        12 => ("PATCH", format!("/clips/{}", any(rng)), json!({"alias": "sig", "take_alias": true})),
        13 => ("PATCH", format!("/clips/{}", any(rng)), json!({"mark": "fern"})),
        14..=15 => ("POST", "/delete".into(), json!({"clips": [any(rng)]})),
        16 => ("POST", "/delete".into(), json!({"clips": [any(rng)], "for_good": true})),
        17 => ("POST", "/clear".into(), json!({"kind": "text"})),
        18..=19 => ("POST", "/undo".into(), json!({})),
        20 => ("POST", "/drawers".into(), json!({"name": "Venues"})),
        _ => ("POST", "/drawers/Venues/put".into(), json!({"clips": [any(rng)]})),
    };
    let answer = match method {
        "PATCH" => own.service.patch(&path, &body),
        _ => own.service.post(&path, &body),
    };
    assert!(answer.status < 500, "{path} {body}: {}", answer.text());
    format!("{method} {path} {body}: {}", answer.status)
}

/// What a person sees at a device: the clips in their order, pins, drawers and aliases.
fn seen(own: &Own) -> Value {
    let drawers = own.service.get("/drawers").json::<Value>();
    let pins: Vec<String> = own.service.clips(&["list", "--pinned"]).into_iter().map(|clip| clip.id).collect();
    let lies = own.service.get("/drawers/Venues").json::<Value>();
    let lies: Vec<Value> =
        lies["items"].as_array().into_iter().flatten().map(|item| item["clip"]["id"].clone()).collect();
    json!({"clips": own.shown(), "pins": pins, "drawers": drawers, "in the drawer": lies})
}

fn run(seed: u64, operations: u64) {
    let mut rng = Rng(seed);
    let workshop = Own::new("workshop");
    let (van, desk) = (Own::new("van"), Own::new("desk"));
    workshop.run(&["drawer", "new", "Venues"]);
    van.joins(&workshop);
    desk.joins(&workshop);
    for own in [&workshop, &van, &desk] {
        own.until(|own| own.devices().len() == 3 && own.run(&["drawer", "list"]).contains("Venues"));
    }
    let mut owns: Vec<Option<Own>> = vec![Some(workshop), Some(van), Some(desk)];
    let mut done = Vec::new();
    for _ in 0..operations {
        let which = rng.below(3);
        let own = owns[which].take().unwrap();
        let (what, own) = match rng.below(40) {
            0 => ("killed".to_owned(), own.restarted()),
            1 => {
                let pid = own.service.status().database.pid.and_then(|pid| rustix::process::Pid::from_raw(pid as i32));
                rustix::process::kill_process(pid.unwrap(), rustix::process::Signal::KILL).unwrap();
                own.until(|own| own.service.status().database.answers);
                ("its database killed".to_owned(), own)
            }
            2 => {
                own.run(&["sync", "pause"]);
                ("paused".to_owned(), own)
            }
            3..=4 => {
                own.run(&["sync", "resume"]);
                ("resumed".to_owned(), own)
            }
            _ => (work(&own, &mut rng), own),
        };
        done.push(format!("{which}: {what}"));
        owns[which] = Some(own);
    }
    let owns: Vec<Own> = owns.into_iter().flatten().collect();
    for own in &owns {
        own.run(&["sync", "resume"]);
    }
    let deadline = Instant::now() + PATIENCE * 2;
    loop {
        let all: Vec<Value> = owns.iter().map(seen).collect();
        if all.windows(2).all(|pair| pair[0] == pair[1]) {
            return;
        }
        if Instant::now() > deadline {
            let log = done.join("\n");
            panic!(
                "seed {seed}: they do not agree; again with SEED={seed} OPERATIONS={operations}\n{log}\n{:#}\n{:#}\n{:#}",
                all[0], all[1], all[2]
            );
        }
        owns[0].service.events(None).any_within(Duration::from_millis(200));
    }
}

#[test]
fn after_random_work_and_kills_all_devices_show_the_same() {
    let operations = number("OPERATIONS").unwrap_or(90);
    let seeds = match number("SEED") {
        Some(seed) => seed..seed + 1,
        None => 0..number("AGREEMENT_SEEDS").unwrap_or(1),
    };
    for seed in seeds {
        run(seed, operations);
    }
}
