//! What depends on how many clips there are.

use super::clipboard::idle;
use super::{capture, fill, quantile, resident_mib, table_bytes, texts, time};
use crate::bare::{bare_table_bytes, scratch};
use crate::growth::Point;
use crate::report::Report;
use crate::{console, crowd};
use std::fs::File;
use std::io::Read;
use std::process::Command;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use yadori_core::search::fold::fold;
use yadori_e2e::home::Home;
use yadori_e2e::process::built;
use yadori_e2e::service::{Service, client, command};
use yadori_vault::stream::{OpeningReader, SealingWriter};

/// The history for which there are budgets.
const USUAL: u64 = 100_000;

/// How often each search is repeated: of fewer, the slowest hundredth would be one or two of them.
const SEARCHES: usize = 300;

/// Numbers of clips, as they are written.
const SIZES: [(u64, &str); 4] = [(1_000, "1,000"), (10_000, "10,000"), (USUAL, "100,000"), (1_000_000, "1,000,000")];

/// The goal for a history of this size, of those for [`SIZES`].
fn goal_at(clips: u64, goals: [Option<f64>; 4]) -> Option<f64> {
    SIZES.iter().position(|(size, _)| *size == clips).and_then(|place| goals[place])
}

/// A history of some size, and a service that is at work on it.
struct Subject {
    clips: u64,
    shown: &'static str,
    /// Ends before its home goes.
    service: Service,
    home: Home,
    /// Bytes of all texts.
    texts: f64,
    /// Memory of a service and a database without clips, in MiB.
    empty: [f64; 2],
}

pub fn sizes(report: &mut Report, runtime: &Runtime) {
    let empty = Home::new();
    // The first start makes the tables.
    assert!(start(&empty).1.end().0, "it ends well");
    let (least, service) = start(&empty);
    let bare = time_of_bare_answers(runtime, &service);
    let empty = memory(&service);
    drop(service);
    let sizes = SIZES.into_iter().filter(|(clips, _)| !report.quick || [1_000, USUAL].contains(clips));
    for (clips, shown) in sizes.collect::<Vec<_>>() {
        let home = Home::new();
        runtime.block_on(fill(&home.path().join("data/database"), clips));
        let service = starts(report, (clips, shown), &home, least);
        let texts = (1..=clips).map(|n| texts::text(n).len()).sum::<usize>() as f64;
        let subject = Subject { clips, shown, service, home, texts, empty };
        first_page(report, &subject, bare);
        searches(report, &subject);
        weighs(report, runtime, &subject);
        if clips == USUAL {
            usual(report, runtime, &subject);
        }
    }
}

/// Memory of a service and of its database, in MiB.
fn memory(service: &Service) -> [f64; 2] {
    let database = service.status().database.pid.expect("the database's process");
    [resident_mib(service.pid()), resident_mib(database)]
}

fn start(home: &Home) -> (f64, Service) {
    let before = Instant::now();
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    (before.elapsed().as_secs_f64() * 1000.0, service)
}

/// What it takes to be answered at all, in milliseconds.
pub fn time_of_bare_answers(runtime: &Runtime, service: &Service) -> f64 {
    let length = service.get("/clips?limit=50").body.len().max(12_000);
    let mut times = runtime.block_on(crowd::one_by_one(length, 200));
    quantile(&mut times, 0.5)
}

/// The first start reads the records; the next one the snapshot that was made at the end.
fn starts(report: &mut Report, (clips, shown): (u64, &'static str), home: &Home, least: f64) -> Service {
    let (from_records, service) = start(home);
    report.add(format!("start to ready from the records, {shown} clips"), from_records, "ms", None, None, false);
    assert!(service.end().0, "it ends well");
    let (started, service) = start(home);
    let goal = goal_at(clips, [None, None, Some(400.0), Some(1_000.0)]);
    let limit = ("an empty history", least);
    report.add(format!("start to ready, {shown} clips"), started, "ms", Some(limit), goal, false);
    report.growth.push(Point { road: "start to ready, ms", clips, ours: started, limit });
    if let Ok(snapshot) = std::fs::metadata(home.path().join("data/index.snapshot")) {
        let read = time_to_open(home, snapshot.len());
        let limit = Some(("an empty history, and opening a sealed file as long as the snapshot", least + read));
        report.add("the same, beside opening the snapshot", started, "ms", limit, None, true);
    }
    service
}

/// What it takes to read a sealed file of so many bytes, and to do nothing with it, in milliseconds.
fn time_to_open(home: &Home, bytes: u64) -> f64 {
    const PURPOSE: &[u8] = b"measuring";
    let (path, key) = (home.path().join("sealed"), yadori_e2e::home::test_key());
    let mut sealing = SealingWriter::new(File::create(&path).expect("a file"), key.clone(), PURPOSE);
    std::io::copy(&mut std::io::repeat(7).take(bytes), &mut sealing).expect("a sealed file");
    sealing.finish().expect("a sealed file");
    let opened = time(|| {
        let mut opening = OpeningReader::new(File::open(&path).expect("a file"), key, PURPOSE);
        let mut piece = vec![0; 1 << 16];
        while opening.read(&mut piece).expect("what was sealed") > 0 {}
    });
    std::fs::remove_file(path).expect("a file");
    opened.as_secs_f64() * 1000.0
}

fn first_page(report: &mut Report, subject: &Subject, bare: f64) {
    let Subject { clips, shown, service, .. } = subject;
    let mut first: Vec<Duration> = (0..200).map(|_| time(|| service.get("/clips?limit=50"))).collect();
    let (ours, limit) = (quantile(&mut first, 0.5), ("a bare answer as long", bare));
    report.add(format!("first page, {shown} clips, p50"), ours, "ms", Some(limit), Some(0.3), false);
    report.growth.push(Point { road: "first page, p50, ms", clips: *clips, ours, limit });
}

fn searches(report: &mut Report, subject: &Subject) {
    let Subject { clips, shown, service, .. } = subject;
    let mut arena = String::new();
    for n in 1..=*clips {
        arena.push_str(&fold(&texts::text(n)));
        arena.push('\n');
    }
    let (mut worst, mut longest_scan, mut longest_first) = (0.0_f64, 0.0_f64, 0.0_f64);
    for (name, query) in texts::queries(*clips) {
        let encoded: String = query.bytes().map(|byte| format!("%{byte:02X}")).collect();
        let path = format!("/clips?limit=50&q={encoded}");
        // Of what has not been shown before, the records are read from the database.
        let first = time(|| service.get(&path)).as_secs_f64() * 1000.0;
        let mut asked: Vec<Duration> = (0..SEARCHES).map(|_| time(|| service.get(&path))).collect();
        let folded = fold(&query);
        let mut scans: Vec<Duration> =
            (0..5).map(|_| time(|| memchr::memmem::find_iter(arena.as_bytes(), folded.as_bytes()).count())).collect();
        let scan = quantile(&mut scans, 0.5);
        let what = format!("search of {shown} over HTTP, {name}");
        report.add(format!("{what}, p50"), quantile(&mut asked, 0.5), "ms", Some(("linear scan", scan)), None, false);
        let p99 = quantile(&mut asked, 0.99);
        let goal = goal_at(*clips, [Some(1.0), None, Some(4.0), Some(10.0)]);
        report.add(format!("{what}, p99"), p99, "ms", None, goal, false);
        (worst, longest_scan, longest_first) = (worst.max(p99), longest_scan.max(scan), longest_first.max(first));
    }
    let what = format!("search of {shown} over HTTP, the slowest of these for the first time");
    report.add(what, longest_first, "ms", Some(("the longest linear scan", longest_scan)), None, false);
    let limit = ("the longest linear scan", longest_scan);
    report.growth.push(Point { road: "search over HTTP, worst p99, ms", clips: *clips, ours: worst, limit });
}

/// Memory, and the disk.
fn weighs(report: &mut Report, runtime: &Runtime, subject: &Subject) {
    const MIB: f64 = 1_048_576.0;
    let Subject { clips, shown, home, service, texts, empty } = subject;
    let usual = *clips == USUAL;
    let least = ("the texts alone", texts / MIB);
    let taken = memory(service);
    let goals = [("the service", 64.0, 400.0), ("its database", 96.0, 128.0)];
    for (place, (what, usually, at_most)) in goals.into_iter().enumerate() {
        let (ours, limit) = (taken[place], ("with none, and the texts", empty[place] + texts / MIB));
        let name = format!("memory of {what}, {shown} clips");
        let goal = goal_at(*clips, [None, None, Some(usually), Some(at_most)]);
        report.add(name, ours, "MiB", Some(limit), goal, false);
        let road = ["memory of the service, MiB", "memory of its database, MiB"][place];
        report.growth.push(Point { road, clips: *clips, ours, limit });
    }
    let on_disk = table_bytes(home.path()) as f64;
    report.growth.push(Point { road: "tables on the disk, MiB", clips: *clips, ours: on_disk / MIB, limit: least });
    if usual {
        let limit = Some(("the texts alone", texts / USUAL as f64));
        let what = "database on disk, bytes a clip, short texts";
        report.add(what, on_disk / USUAL as f64, "B", limit, Some(2.0), true);
        let bare = runtime.block_on(bare_table_bytes(USUAL)) as f64;
        let limit = Some(("a table of them with ids and changes", bare / USUAL as f64));
        report.add("the same, beside the smallest table", on_disk / USUAL as f64, "B", limit, None, false);
    }
}

/// What is measured at one size only.
fn usual(report: &mut Report, runtime: &Runtime, subject: &Subject) {
    let Subject { home, service, .. } = subject;
    if !report.quick {
        idle(report, service, "100,000 clips");
        crowd::crowd(report, runtime, service);
        console::console(report, runtime, service);
    }
    let mut bare: Vec<Duration> = (0..60).map(|_| time(|| service.get("/clips?limit=20"))).collect();
    let list = || time(|| client(home.path()).args(["list", "--json"]).output().expect("the client"));
    let mut whole: Vec<Duration> = (0..60).map(|_| list()).collect();
    // The limit: a program that does no more than to ask, and to print what it is told.
    let ask = || {
        let mut program = Command::new(built("examples/bare_client"));
        time(|| program.args([&service.address(), &service.reach.token]).output().expect("a bare client"))
    };
    let mut least: Vec<Duration> = (0..60).map(|_| ask()).collect();
    let bare = quantile(&mut bare, 0.5);
    let (overhead, least) = (quantile(&mut whole, 0.5) - bare, quantile(&mut least, 0.5) - bare);
    let limit = Some(("a program that only asks and prints", least));
    report.add("overhead of the command line", overhead, "ms", limit, Some(3.0), false);
    clear(report, runtime, service);
}

/// Clearing everything: how soon it is said, and what a copy waits for meanwhile.
fn clear(report: &mut Report, runtime: &Runtime, service: &Service) {
    // The limit: the numbers of the clips, on the disk.
    let scratch = runtime.block_on(scratch());
    let numbers = vec![b'7'; USUAL as usize * 7];
    let note = sqlx::query("INSERT INTO bare (content) VALUES (?)").bind(&numbers);
    let noted = time(|| runtime.block_on(note.execute(&scratch.pool)).expect("an insert"));
    runtime.block_on(scratch.end());
    let mut events = service.events(None);
    let mut idle: Vec<Duration> = (0..100).map(|n| capture(service, &mut events, &format!("idle {n}"))).collect();
    let mut count = 0;
    let said = time(|| {
        let cleared: yadori_api::Cleared = service.post("/clear", &serde_json::json!({"all": true})).json();
        count = cleared.count;
    });
    report.add(
        format!("clearing {count} clips, until it is said"),
        said.as_secs_f64() * 1000.0,
        "ms",
        Some(("noting their numbers", noted.as_secs_f64() * 1000.0)),
        Some(200.0),
        false,
    );
    let mut events = service.events(None);
    let mut during: Vec<Duration> =
        (0..100).map(|n| capture(service, &mut events, &format!("meanwhile {n}"))).collect();
    report.add(
        "copy to announced while they are cleared, p50",
        quantile(&mut during, 0.5),
        "ms",
        Some(("the same when idle", quantile(&mut idle, 0.5))),
        Some(1.2),
        true,
    );
}
