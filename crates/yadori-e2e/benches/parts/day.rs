//! A day of heavy use, in a few minutes, on two linked devices: five thousand copies with five hundred pictures, two thousand
//! searches, sweeps, and what is in the bin goes for good. What both devices hold at its end is what they held at its noon.

use super::{capture, resident_mib, table_bytes};
use crate::links::join;
use crate::report::Report;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use yadori_e2e::home::Home;
use yadori_e2e::sample::poster;
use yadori_e2e::service::{Events, Service};
use yadori_e2e::waiting::until;

/// Copies of half a day.
const COPIES: usize = 2_500;
/// So many copies to a picture.
const TO_A_PICTURE: usize = 10;
/// Searches of half a day.
const SEARCHES: usize = 1_000;
/// Copies between two sweeps.
const BETWEEN_SWEEPS: usize = 250;
/// Clips that stay, and that are there when the day begins: the rest is swept.
const KEPT: usize = 500;

/// What a device holds.
struct Held {
    memory: f64,
    handles: f64,
    files: BTreeSet<PathBuf>,
    tables: f64,
}

pub fn day(report: &mut Report) {
    let (first, second) = (Home::new(), Home::of("van"));
    let devices = [Service::simulated(&first), Service::simulated(&second)];
    join(&devices[1], &devices[0]);
    for device in &devices {
        device.run(&["rules", "set", "count", &KEPT.to_string()]);
    }
    use_it(&devices, "before", KEPT);
    let mut halves = Vec::new();
    for half in ["morning", "afternoon"] {
        use_it(&devices, half, COPIES);
        for device in &devices {
            device.run(&["rules", "sweep", "--yes"]);
            device.run(&["bin", "empty", "--yes"]);
        }
        // What was forgotten is written over in the background.
        for home in [&first, &second] {
            until("nothing is being written over", || {
                !files_below(home.path()).iter().any(|file| file.file_stem().is_some_and(|name| name == "filling"))
            });
        }
        halves.push([(&devices[0], &first), (&devices[1], &second)].map(|(device, home)| held(device, home)));
    }
    let evening = halves.pop().expect("two halves");
    let noon = halves.pop().expect("two halves");
    for ((name, noon), evening) in ["the busy device", "the other device"].into_iter().zip(noon).zip(evening) {
        type Part = fn(&Held) -> f64;
        let parts: [(&str, &'static str, Part, f64); 4] = [
            ("memory", "MiB", |held| held.memory, 1.15),
            ("open files", "", |held| held.handles, 1.1),
            ("files in its folder", "", |held| held.files.len() as f64, 1.0),
            ("its tables on the disk", "MiB", |held| held.tables, 1.15),
        ];
        for (what, unit, of, budget) in parts {
            let what = format!("a day of heavy use, {name}: {what}");
            report.add(what, of(&evening), unit, Some(("at noon", of(&noon))), Some(budget), true);
        }
        if evening.files.len() > noon.files.len() {
            let since: Vec<_> = evening.files.difference(&noon.files).collect();
            eprintln!("files of {name} that were not there at noon: {since:?}");
        }
    }
}

/// So many copies: what is copied on the one arrives at the other, and both are searched.
fn use_it([busy, other]: &[Service; 2], half: &str, copies: usize) {
    let (mut here, mut there): (Events, Events) = (busy.events(None), other.events(None));
    let bearer = busy.bearer();
    for n in 0..copies {
        if n % TO_A_PICTURE == 0 {
            let headers = [("authorization", bearer.as_str()), ("content-type", "image/png")];
            let picture = poster(&format!("poster {half}.{n}"));
            assert_eq!(busy.request("POST", "/clips", &headers, &picture).status, 201);
        } else {
            capture(busy, &mut here, &format!("cue {half}.{n}: lamp {}, gel {}, circuit B", n % 97, n % 211));
        }
        if n % BETWEEN_SWEEPS == 0 {
            busy.run(&["rules", "sweep", "--yes"]);
            other.run(&["rules", "sweep", "--yes"]);
        }
        if n * SEARCHES / COPIES != (n + 1) * SEARCHES / COPIES {
            let device = if n % 2 == 0 { busy } else { other };
            device.get(&format!("/clips?limit=50&q=lamp%20{}", n % 97));
        }
    }
    there.copied(&format!("cue {half}.{}:", copies - 1));
}

fn held(device: &Service, home: &Home) -> Held {
    let count = |folder: &str| std::fs::read_dir(folder).map_or(0, Iterator::count) as f64;
    Held {
        memory: resident_mib(device.pid()),
        handles: count(&format!("/proc/{}/fd", device.pid())),
        files: files_below(home.path()),
        tables: table_bytes(home.path()) as f64 / f64::from(1 << 20),
    }
}

/// All files in a folder and in those within it.
fn files_below(folder: &Path) -> BTreeSet<PathBuf> {
    let mut files = BTreeSet::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for path in std::fs::read_dir(folder).into_iter().flatten().flatten().map(|entry| entry.path()) {
            if path.is_dir() {
                folders.push(path);
            } else {
                files.insert(path);
            }
        }
    }
    files
}
