//! The budgets: what a person waits for, beside the limit of what this machine could do at all, measured in
//! the same run. Prints a table, or JSON with `--json`; with `--write FOLDER` the table, the plots and the figures are kept
//! there; with `--compare FOLDER` it is said what is worse than the figures that are kept. `--quick` measures what people wait
//! for most. `--links` measures linked devices only, `--desk` the picker and keys, `--crowd` many that ask at once, `--console`
//! the console, `--lock` what encryption, the lock and the cage cost, `--relay` a relay, `--day` a day of heavy use.

#[path = "parts/bare.rs"]
mod bare;
#[path = "parts/console.rs"]
mod console;
#[path = "parts/crowd.rs"]
mod crowd;
#[path = "parts/day.rs"]
mod day;
#[path = "parts/desk.rs"]
mod desk;
#[path = "parts/growth.rs"]
mod growth;
#[path = "parts/links.rs"]
mod links;
#[path = "parts/lock.rs"]
mod lock;
#[path = "parts/record.rs"]
mod record;
#[path = "parts/relay.rs"]
mod relay;
#[path = "parts/report.rs"]
mod report;
#[path = "parts/sizes.rs"]
mod sizes;
#[path = "parts/terminal.rs"]
mod terminal;
#[path = "../../yadori-core/benches/texts.rs"]
mod texts;

use bare::{bare_putting_out, bare_taking_in, file_bare, rows, scratch, url};
use report::Report;
use sqlx::MySqlPool;
use std::collections::HashSet;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::{Duration, Instant};
use yadori_core::amounts::DAY;
use yadori_core::retention::{Candidate, Limits, RetentionRules, Scope, plan};
use yadori_core::{Kind, MillisSinceEpoch, Stamp};
use yadori_database::PrivateServer;
use yadori_e2e::home::Home;
use yadori_e2e::measuring::Desk;
use yadori_e2e::service::{Service, command};
use yadori_store::Store;

fn quantile(samples: &mut [Duration], share: f64) -> f64 {
    samples.sort_unstable();
    let place = ((samples.len() - 1) as f64 * share).round() as usize;
    samples[place].as_secs_f64() * 1000.0
}

fn time<T>(work: impl FnOnce() -> T) -> Duration {
    let before = Instant::now();
    std::hint::black_box(work());
    before.elapsed()
}

/// Everything that can be measured by itself: its option, and how.
type Part = fn(&mut Report, &tokio::runtime::Runtime);

const PARTS: [(&str, Part); 7] = [
    ("--links", links::links),
    ("--relay", relay::relay),
    ("--desk", desk::desk),
    ("--crowd", |report, runtime| with_100_000_clips(runtime, |service| crowd::crowd(report, runtime, service))),
    ("--console", |report, runtime| with_100_000_clips(runtime, |service| console::console(report, runtime, service))),
    ("--lock", lock::lock),
    ("--day", |report, _| day::day(report)),
];

fn with_100_000_clips(runtime: &tokio::runtime::Runtime, measure: impl FnOnce(&Service)) {
    let home = Home::new();
    runtime.block_on(fill(&home.path().join("data/database"), 100_000));
    measure(&Service::start(home.path(), command(home.path(), "simulated", None)));
}

fn main() {
    let arguments: Vec<String> = std::env::args().collect();
    let has = |name: &str| arguments.iter().any(|argument| argument == name);
    let folder = |option: &str| {
        let place = arguments.iter().position(|argument| argument == option)?;
        Some(Path::new(arguments.get(place + 1).expect("a folder")).to_owned())
    };
    if has("--test") || has("--list") {
        return;
    }
    let runtime =
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    let mut report = Report { quick: has("--quick"), ..Report::default() };
    if let Some((_, part)) = PARTS.iter().find(|(option, _)| has(option)) {
        part(&mut report, &runtime);
        println!("{}", report::table(&report));
        return;
    }
    copies(&mut report, &runtime);
    if !report.quick {
        lock::lock(&mut report, &runtime);
        desk::desk(&mut report, &runtime);
        day::day(&mut report);
    }
    bursts(&mut report);
    plans(&mut report);
    moves(&mut report, &runtime);
    links::links(&mut report, &runtime);
    sizes::sizes(&mut report, &runtime);
    if has("--json") {
        println!("{}", serde_json::to_string_pretty(&report.rows).expect("plain data"));
    } else {
        println!("{}", report::table(&report));
    }
    if let Some(folder) = folder("--compare") {
        println!("{}", record::compare(&report, &folder));
    }
    if let Some(folder) = folder("--write") {
        let runs = record::keep(&report, &folder);
        growth::draw(&report.growth, &folder.join("growth.svg"));
        std::fs::write(folder.join("benchmarks.md"), report::page(&report, &runs)).expect("the page");
    }
}

/// A picture of about five megabytes: noise does not compress.
fn picture(seed: u32) -> Vec<u8> {
    let mut state = seed.wrapping_mul(2_654_435_761) | 1;
    let noise = image::RgbImage::from_fn(1440, 1160, |_, _| {
        state ^= state << 13;
        state ^= state >> 17;
        state ^= state << 5;
        let [a, b, c, _] = state.to_le_bytes();
        image::Rgb([a, b, c])
    });
    let mut png = Vec::new();
    image::DynamicImage::ImageRgb8(noise)
        .write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png)
        .expect("a picture");
    png
}

type StartDesk = fn(&'static str) -> Desk;

/// Where copies are measured: what it is called, and how it is started for a MIME type.
const DESKS: [(&str, StartDesk); 2] = [("X11", Desk::x11), ("Wayland", Desk::wayland)];

/// From the moment of a copy to its announcement, beside a bare transfer and one durable insert; and from a
/// recall to what is pasted, beside a bare transfer.
fn copies(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    let scratch = runtime.block_on(scratch());
    let mut bare_number = 1..;
    let text = |n: usize| format!("{n:08} {}", "word ".repeat(203)).into_bytes();
    type Make<'a> = &'a dyn Fn(usize) -> Vec<u8>;
    let cases: [(&str, &str, usize, Make<'_>); 2] = [
        ("1 KB of text", "text/plain", 200, &text),
        ("a picture of 5 MB", "image/png", 12, &|n| picture(n as u32 + 1)),
    ];
    for ((desk_name, start), (name, mime, rounds, content)) in
        DESKS.into_iter().flat_map(|desk| cases.map(|case| (desk, case)))
    {
        let content_is_small = mime == "text/plain";
        let rounds = if report.quick { rounds / 2 } else { rounds };
        let home = Home::new();
        let contents: Vec<Vec<u8>> = (0..rounds).map(content).collect();
        let mut desk = start(mime);
        // The limit: what the transfer and the insert take by themselves, in turns with ours; and what a program takes that must
        // ask what there is, and files the same rows.
        let (mut transfers, mut bare, mut ours, mut recalls) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        let (mut filed, mut taken) = (Vec::new(), Vec::new());
        let service = desk.service(&home);
        let mut events = service.events(None);
        let answer = Duration::from_secs_f64(sizes::time_of_bare_answers(runtime, &service) / 1000.0);
        for content in contents {
            let before = desk.copy(content.clone());
            events.change();
            ours.push(before.elapsed());
            desk.look();
            let transfer = time(|| desk.paste());
            let insert = time(|| {
                runtime
                    .block_on(
                        sqlx::query("INSERT INTO bare (content) VALUES (?)").bind(&content).execute(&scratch.pool),
                    )
                    .expect("an insert")
            });
            transfers.push(transfer);
            // The time of the server, and whether the clipboard is ours, are asked for one after the other.
            taken.push(answer + time(|| (desk.ask(), desk.ask())) + transfer);
            bare.push(transfer + insert);
            if content_is_small {
                let transfer = time(|| desk.ask_and_paste());
                let number = bare_number.next().expect("a number");
                filed.push(transfer + time(|| runtime.block_on(file_bare(&scratch.pool, number, &content))));
            }
            // It can be pasted before its use is on record, and so before the answer.
            std::thread::scope(|scope| {
                let began = Instant::now();
                let recalled = scope.spawn(|| service.post("/recall", &serde_json::json!({"clips": ["1"]})));
                desk.look_until_taken();
                assert!(desk.paste() == content, "what is pasted is what was copied");
                recalls.push(began.elapsed());
                let recalled = recalled.join().expect("an answer");
                assert_eq!(recalled.status, 200, "{}", recalled.text());
            });
            events.change();
        }
        report.add(
            format!("copy to durable and announced, {desk_name}, {name}, p50"),
            quantile(&mut ours, 0.5),
            "ms",
            Some(("transfer + insert", quantile(&mut bare, 0.5))),
            Some(if content_is_small { 1.25 } else { 1.5 }),
            true,
        );
        if content_is_small {
            let limit = Some(("asking what there is, transfer, the same rows", quantile(&mut filed, 0.5)));
            report.add("the same, beside all that must be done", quantile(&mut ours, 0.5), "ms", limit, None, true);
        }
        report.add(
            "the same, p95",
            quantile(&mut ours, 0.95),
            "ms",
            Some(("transfer + insert", quantile(&mut bare, 0.95))),
            None,
            true,
        );
        report.add(
            format!("recall over HTTP to pasted, {desk_name}, {name}, p50"),
            quantile(&mut recalls, 0.5),
            "ms",
            Some(("transfer", quantile(&mut transfers, 0.5))),
            content_is_small.then_some(4.0),
            true,
        );
        if content_is_small {
            let limit = Some(("a bare answer, taking the clipboard, transfer", quantile(&mut taken, 0.5)));
            report.add("the same, beside all that must be done", quantile(&mut recalls, 0.5), "ms", limit, None, true);
        }
        drop(service);
    }
    runtime.block_on(scratch.end());
}

/// Copies as fast as a real program can make them; and how quiet the service is afterwards.
fn bursts(report: &mut Report) {
    for (desk_name, start) in DESKS {
        const COPIES: usize = 200;
        let texts: Vec<String> = (0..COPIES).map(|n| format!("burst {n:03}")).collect();
        let home = Home::new();
        let mut desk = start("text/plain");
        let service = desk.service(&home);
        let mut events = service.events(None);
        let before = Instant::now();
        // The limit: a program that reads each copy of the same burst, and does nothing with it.
        let bare = desk.reads_of_burst(&texts);
        let made = before.elapsed();
        events.copied(&texts[COPIES - 1]);
        let kept: HashSet<String> =
            service.clips(&["list", "-n", "1000"]).into_iter().map(|clip| clip.preview).collect();
        let lost = |by: &HashSet<String>| texts.iter().filter(|text| !by.contains(*text)).count() as f64;
        report.add(
            format!("burst of {COPIES} copies, {desk_name}: how many were lost"),
            lost(&kept),
            "copies",
            Some(("a program that only asks what there is and reads it, beside it", lost(&bare))),
            None,
            false,
        );
        let missed = bare.difference(&kept).count() as f64;
        report.add("the same: how many of them that program could read", missed, "copies", None, Some(0.0), false);
        report.add("the same: rate", COPIES as f64 / made.as_secs_f64(), "copies/s", None, None, false);
        if !report.quick {
            idle(report, &service, desk_name);
        }
    }
}

/// How often the service wakes up when there is nothing to do, and how much it and its database write to the disk then.
fn idle(report: &mut Report, service: &Service, clipboard: &str) {
    // What was asked before must have been forgotten first, and the threads must have ended that did it: Tokio keeps one that
    // may wait for another ten seconds.
    std::thread::sleep(Duration::from_secs(13));
    let database = service.status().database.pid.expect("the database's process");
    let written = || (written(service.pid()) + written(database)) as f64;
    let before = (sleeps(service.pid()), written());
    std::thread::sleep(Duration::from_secs(10));
    let wakeups = (sleeps(service.pid()) - before.0) as f64 / 10.0;
    let bytes = written() - before.1;
    report.add(format!("wakeups of the idle service, {clipboard}"), wakeups, "per second", None, Some(0.0), false);
    let what = format!("written to the disk by it and its database in 10 seconds, {clipboard}");
    report.add(what, bytes, "bytes", None, Some(0.0), false);
}

/// Fills a home with this many clips, past the service.
async fn fill(folder: &Path, clips: u64) {
    fill_with(folder, Some(&yadori_e2e::home::test_key()), clips).await;
}

/// The same with a database that is encrypted with this key, or with none.
async fn fill_with(folder: &Path, key: Option<&yadori_vault::Secret>, clips: u64) {
    let server = PrivateServer::start(folder, key).await.expect("a database");
    let url = url(&server);
    Store::open(&url, ("workshop", [1; 16])).await.expect("the tables").close().await;
    let pool = MySqlPool::connect(&url).await.expect("a connection");
    rows(&pool, clips, 2_000).await;
    // Nothing is to be swept while it is measured.
    sqlx::query("REPLACE INTO settings (name, value) VALUES ('rules', ?)")
        .bind(r#"{"retention":{"all":{"count":null,"age_millis":null,"bytes":null}}}"#)
        .execute(&pool)
        .await
        .expect("the rules");
    sqlx::query("UPDATE feed SET last = ?").bind(clips).execute(&pool).await.expect("the feed");
    pool.close().await;
    server.stop().await;
}

/// Deciding what goes of a million clips, beside sorting them.
fn plans(report: &mut Report) {
    const CLIPS: u64 = 1_000_000;
    let now = MillisSinceEpoch(1_795_424_400_000);
    let clip = |n: u64| Candidate {
        number: n,
        touched: Stamp::at_start_of(now.minus((n.wrapping_mul(2_654_435_761) % CLIPS) * 20_000)),
        kind: Kind::ALL[(n % 4) as usize],
        application: if n.is_multiple_of(3) { "writer" } else { "mail" },
        size: n % 5_000,
        sensitive: n.is_multiple_of(1_000),
        kept: n.is_multiple_of(50),
    };
    let clips: Vec<Candidate> = (0..CLIPS).map(clip).collect();
    let limits = Limits { count: Some(200_000), age_millis: Some(100 * DAY), bytes: Some(1 << 28) };
    let rules = RetentionRules {
        all: Limits { count: Some(500_000), ..limits },
        scopes: vec![(Scope::Kind(Kind::Image), limits), (Scope::Application("Writer".into()), limits)],
        ..RetentionRules::default()
    };
    let mut ours: Vec<Duration> = (0..5).map(|_| time(|| plan(&clips, &rules, now))).collect();
    let mut sorts: Vec<Duration> = (0..5)
        .map(|_| {
            let mut keys: Vec<(Stamp, u64)> = clips.iter().map(|clip| (clip.touched, clip.number)).collect();
            time(|| keys.sort_unstable())
        })
        .collect();
    report.add(
        "planning a sweep of 1,000,000 clips, p50",
        quantile(&mut ours, 0.5),
        "ms",
        Some(("sorting them", quantile(&mut sorts, 0.5))),
        Some(1_000.0),
        false,
    );
}

/// Moving ten thousand clips with two hundred pictures out and in, beside copying a file of as many bytes.
fn moves(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    const CLIPS: u64 = 9_800;
    const PICTURES: u32 = 200;
    let (home, new) = (Home::new(), Home::new());
    runtime.block_on(fill(&home.path().join("data/database"), CLIPS));
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    let posters: Vec<Vec<u8>> = (0..PICTURES).map(|n| yadori_e2e::sample::poster(&format!("poster {n}"))).collect();
    for poster in &posters {
        let headers = [("authorization", service.bearer()), ("content-type", "image/png".to_owned())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        assert!(service.request("POST", "/clips", &headers, poster).status < 300);
    }
    let archive = home.path().join("all.zip");
    let name = archive.to_str().expect("a path").to_owned();
    let out = time(|| service.run(&["export", &name])).as_secs_f64();
    let plain = time(|| {
        std::fs::copy(&archive, home.path().join("copy.zip")).expect("a copy");
        std::fs::File::open(home.path().join("copy.zip")).and_then(|file| file.sync_all()).expect("a copy");
    })
    .as_secs_f64();
    let other = Service::start(new.path(), command(new.path(), "simulated", None));
    other.run(&["rules", "set", "count", "off"]);
    let into = time(|| other.run(&["import", &name])).as_secs_f64();
    let bare = bare_taking_in(runtime, CLIPS, 500, &posters);
    let all = (CLIPS + u64::from(PICTURES)) as f64;
    assert_eq!(other.status().count as f64, all);
    let limit = Some(("copying the file", plain * 1000.0));
    report.add("export of 10,000 clips with 200 pictures", out * 1000.0, "ms", limit, Some(400.0), false);
    drop(service);
    let bare_out = bare_putting_out(runtime, &home, &archive).as_secs_f64() * 1000.0;
    let limit = Some(("bare programs that read its rows and pack the same", bare_out));
    report.add("the same, beside reading and packing", out * 1000.0, "ms", limit, None, true);
    report.add("the same: rate", all / out, "clips/s", None, None, false);
    let limit = Some(("bare programs that insert its rows and decode its pictures", bare.as_secs_f64() * 1000.0));
    report.add("import of 10,000 clips with 200 pictures", into * 1000.0, "ms", limit, Some(2_000.0), false);
    report.add("the same: rate", all / into, "clips/s", None, None, false);
    report.add("memory of the service after the import", resident_mib(other.pid()), "MiB", None, None, false);
}

/// From a copy to its announcement, by a simulated clipboard.
fn capture(service: &Service, events: &mut yadori_e2e::service::Events, text: &str) -> Duration {
    let copied = serde_json::json!({ "formats": [{ "mime": "text/plain", "text": text }] });
    time(|| {
        assert_eq!(service.post("/simulated/copy", &copied).status, 204);
        events.copied(text);
    })
}

/// Bytes of the tables' files.
fn table_bytes(home: &Path) -> u64 {
    let folder = home.join("data/database/data/yadori");
    let files = std::fs::read_dir(folder).expect("the tables").filter_map(|file| file.ok()?.metadata().ok());
    files.map(|file| file.blocks() * 512).sum()
}

fn resident_mib(pid: u32) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status")).expect("the process");
    let kb: f64 = status
        .lines()
        .find_map(|line| line.strip_prefix("VmRSS:")?.trim().strip_suffix(" kB")?.trim().parse().ok())
        .expect("its memory");
    kb / 1024.0
}

/// Bytes that a process has had written to the disk (`write_bytes` in proc(5)).
fn written(pid: u32) -> u64 {
    let figures = std::fs::read_to_string(format!("/proc/{pid}/io")).expect("the process");
    figures
        .lines()
        .find_map(|line| line.strip_prefix("write_bytes:")?.trim().parse().ok())
        .expect("what it has written")
}

/// How often the threads of a process have gone to sleep by themselves: each wakeup ends with one.
fn sleeps(pid: u32) -> u64 {
    let tasks = std::fs::read_dir(format!("/proc/{pid}/task")).expect("the process");
    tasks
        .filter_map(|task| std::fs::read_to_string(task.ok()?.path().join("status")).ok())
        .filter_map(|status| {
            status.lines().find_map(|line| line.strip_prefix("voluntary_ctxt_switches:")?.trim().parse::<u64>().ok())
        })
        .sum()
}
