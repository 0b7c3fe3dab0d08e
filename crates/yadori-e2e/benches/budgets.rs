//! The budgets: what a person waits for, beside the limit of what this machine could do at all, measured in
//! the same run. Prints a table, or JSON with `--json`; with `--write FOLDER` the table, the plots and the figures are kept
//! there; with `--compare FOLDER` it is said what is worse than the figures that are kept. `--quick` measures what people wait
//! for most; the option of a part, or of several, those only.

#[path = "parts/bare.rs"]
mod bare;
#[path = "parts/clipboard.rs"]
mod clipboard;
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
#[path = "parts/moves.rs"]
mod moves;
#[path = "parts/plans.rs"]
mod plans;
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

use bare::{rows, url};
use report::Report;
use sqlx::MySqlPool;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::{Duration, Instant};
use yadori_database::PrivateServer;
use yadori_e2e::home::Home;
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

/// What is measured together, and can be by itself.
struct Part {
    /// The option that asks for it alone.
    option: &'static str,
    measure: fn(&mut Report, &tokio::runtime::Runtime),
    when: When,
}

/// When a part is measured without being asked for alone.
enum When {
    /// With all, and with what people wait for most.
    Always,
    /// With all.
    Whole,
    /// Never, or as a piece of another part.
    Asked,
}

const PARTS: [Part; 12] = [
    Part { option: "--copies", measure: clipboard::copies, when: When::Always },
    Part { option: "--lock", measure: lock::lock, when: When::Whole },
    Part { option: "--desk", measure: desk::desk, when: When::Whole },
    Part { option: "--day", measure: |report, _| day::day(report), when: When::Whole },
    Part { option: "--bursts", measure: |report, _| clipboard::bursts(report), when: When::Always },
    Part { option: "--plans", measure: |report, _| plans::plans(report), when: When::Always },
    Part { option: "--moves", measure: moves::moves, when: When::Always },
    Part { option: "--links", measure: links::links, when: When::Always },
    Part { option: "--sizes", measure: sizes::sizes, when: When::Always },
    Part {
        option: "--crowd",
        measure: |report, runtime| with_100_000_clips(runtime, |service| crowd::crowd(report, runtime, service)),
        when: When::Asked,
    },
    Part {
        option: "--console",
        measure: |report, runtime| with_100_000_clips(runtime, |service| console::console(report, runtime, service)),
        when: When::Asked,
    },
    Part { option: "--relay", measure: relay::relay, when: When::Asked },
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
    let alone = PARTS.iter().any(|part| has(part.option));
    for part in &PARTS {
        let wanted = match part.when {
            _ if alone => has(part.option),
            When::Always => true,
            When::Whole => !report.quick,
            When::Asked => false,
        };
        if wanted {
            (part.measure)(&mut report, &runtime);
        }
    }
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
