//! What is copied, and recalled, with a clipboard: how soon, how much of a burst, and how quiet it is afterwards.

use super::bare::{file_bare, scratch};
use super::{Report, quantile, sizes, sleeps, time, written};
use std::collections::HashSet;
use std::time::{Duration, Instant};
use yadori_e2e::home::Home;
use yadori_e2e::measuring::Desk;
use yadori_e2e::service::Service;

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
pub fn copies(report: &mut Report, runtime: &tokio::runtime::Runtime) {
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
            recalls.push(recall(&service, &mut desk, &content));
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

/// From asking for the newest clip over HTTP to having pasted it. It can be pasted before its use is on record, and so before the
/// answer.
fn recall(service: &Service, desk: &mut Desk, content: &[u8]) -> Duration {
    std::thread::scope(|scope| {
        let recalled = scope.spawn(|| {
            let asked = Instant::now();
            (asked, service.post("/recall", &serde_json::json!({"clips": ["1"]})))
        });
        desk.look_until_taken();
        assert!(desk.paste() == content, "what is pasted is what was copied");
        let pasted = Instant::now();
        let (asked, recalled) = recalled.join().expect("an answer");
        assert_eq!(recalled.status, 200, "{}", recalled.text());
        pasted - asked
    })
}

/// Copies as fast as a real program can make them; and how quiet the service is afterwards.
pub fn bursts(report: &mut Report) {
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
pub fn idle(report: &mut Report, service: &Service, clipboard: &str) {
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
