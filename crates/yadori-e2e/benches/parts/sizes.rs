//! What depends on how many clips there are.

use super::{capture, fill, idle, quantile, resident_mib, table_bytes, texts, time};
use crate::growth::Point;
use crate::report::Report;
use crate::{console, crowd};
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use yadori_core::search::fold::fold;
use yadori_e2e::home::Home;
use yadori_e2e::service::{Service, client, command};

/// The history for which there are budgets.
const USUAL: u64 = 100_000;

/// Numbers of clips, as they are written.
const SIZES: [(u64, &str); 4] = [(1_000, "1,000"), (10_000, "10,000"), (USUAL, "100,000"), (1_000_000, "1,000,000")];

/// A history of some size, and a service that is at work on it.
struct Subject {
    clips: u64,
    shown: &'static str,
    /// Ends before its home goes.
    service: Service,
    home: Home,
    /// Bytes of all texts.
    texts: f64,
}

pub fn sizes(report: &mut Report, runtime: &Runtime) {
    let empty = Home::new();
    // The first start makes the tables.
    assert!(start(&empty).1.end().0, "it ends well");
    let (least, service) = start(&empty);
    let bare = time_of_bare_answers(runtime, &service);
    drop(service);
    let sizes = SIZES.into_iter().filter(|(clips, _)| !report.quick || [1_000, USUAL].contains(clips));
    for (clips, shown) in sizes.collect::<Vec<_>>() {
        let home = Home::new();
        runtime.block_on(fill(&home.path().join("data/database"), clips));
        let service = starts(report, (clips, shown), &home, least);
        let texts = (1..=clips).map(|n| texts::text(n).len()).sum::<usize>() as f64;
        let subject = Subject { clips, shown, service, home, texts };
        first_page(report, &subject, bare);
        searches(report, &subject);
        weighs(report, &subject);
        if clips == USUAL {
            usual(report, runtime, &subject);
        }
    }
}

fn start(home: &Home) -> (f64, Service) {
    let before = Instant::now();
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    (before.elapsed().as_secs_f64() * 1000.0, service)
}

/// What it takes to be answered at all, in milliseconds.
fn time_of_bare_answers(runtime: &Runtime, service: &Service) -> f64 {
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
    let budget = (clips == USUAL).then_some(2_000.0);
    let limit = ("an empty history", least);
    report.add(format!("start to ready, {shown} clips"), started, "ms", Some(limit), budget, false);
    report.growth.push(Point { road: "start to ready, ms", clips, ours: started, limit });
    service
}

fn first_page(report: &mut Report, subject: &Subject, bare: f64) {
    let Subject { clips, shown, service, .. } = subject;
    let mut first: Vec<Duration> = (0..200).map(|_| time(|| service.get("/clips?limit=50"))).collect();
    let (ours, limit) = (quantile(&mut first, 0.5), ("a bare answer as long", bare));
    report.add(format!("first page, {shown} clips, p50"), ours, "ms", Some(limit), Some(5.0), false);
    report.growth.push(Point { road: "first page, p50, ms", clips: *clips, ours, limit });
}

fn searches(report: &mut Report, subject: &Subject) {
    let Subject { clips, shown, service, .. } = subject;
    let mut arena = String::new();
    for n in 1..=*clips {
        arena.push_str(&fold(&texts::text(n)));
        arena.push('\n');
    }
    let (mut worst, mut longest_scan) = (0.0_f64, 0.0_f64);
    for (name, query) in texts::queries(*clips) {
        let encoded: String = query.bytes().map(|byte| format!("%{byte:02X}")).collect();
        let path = format!("/clips?limit=50&q={encoded}");
        let mut asked: Vec<Duration> = (0..100).map(|_| time(|| service.get(&path))).collect();
        let folded = fold(&query);
        let mut scans: Vec<Duration> =
            (0..5).map(|_| time(|| memchr::memmem::find_iter(arena.as_bytes(), folded.as_bytes()).count())).collect();
        let scan = quantile(&mut scans, 0.5);
        let what = format!("search of {shown} over HTTP, {name}");
        report.add(format!("{what}, p50"), quantile(&mut asked, 0.5), "ms", Some(("linear scan", scan)), None, false);
        let p99 = quantile(&mut asked, 0.99);
        report.add(format!("{what}, p99"), p99, "ms", None, (*clips == USUAL).then_some(10.0), false);
        (worst, longest_scan) = (worst.max(p99), longest_scan.max(scan));
    }
    let limit = ("the longest linear scan", longest_scan);
    report.growth.push(Point { road: "search over HTTP, worst p99, ms", clips: *clips, ours: worst, limit });
}

/// Memory, and the disk.
fn weighs(report: &mut Report, subject: &Subject) {
    const MIB: f64 = 1_048_576.0;
    let Subject { clips, shown, home, service, texts } = subject;
    let usual = *clips == USUAL;
    let database = service.status().database.pid.expect("the database's process");
    let least = ("the texts alone", texts / MIB);
    let mut memory = |what: &str, road, ours: f64, budget: f64| {
        report.add(format!("{what}, {shown} clips"), ours, "MiB", None, usual.then_some(budget), false);
        report.growth.push(Point { road, clips: *clips, ours, limit: least });
    };
    memory("memory of the service", "memory of the service, MiB", resident_mib(service.pid()), 96.0);
    memory("memory of its database", "memory of its database, MiB", resident_mib(database), 192.0);
    let on_disk = table_bytes(home.path()) as f64;
    report.growth.push(Point { road: "tables on the disk, MiB", clips: *clips, ours: on_disk / MIB, limit: least });
    if usual {
        let limit = Some(("the texts alone", texts / USUAL as f64));
        let what = "database on disk, bytes a clip, short texts";
        report.add(what, on_disk / USUAL as f64, "B", limit, Some(2.0), true);
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
    let mut least: Vec<Duration> =
        (0..60).map(|_| time(|| std::process::Command::new("true").output().expect("true"))).collect();
    let overhead = quantile(&mut whole, 0.5) - quantile(&mut bare, 0.5);
    let limit = Some(("starting a program that does nothing", quantile(&mut least, 0.5)));
    report.add("overhead of the command line", overhead, "ms", limit, Some(15.0), false);
    clear(report, service);
}

/// Clearing everything: how soon it is said, and what a copy waits for meanwhile.
fn clear(report: &mut Report, service: &Service) {
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
        None,
        Some(2_000.0),
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
        Some(2.0),
        true,
    );
}
