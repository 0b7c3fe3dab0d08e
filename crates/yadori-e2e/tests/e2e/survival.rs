//! Nothing that was announced is lost: not by a kill, not by a crash of the database, not by a full disk.

use rustix::process::{Pid, Signal, kill_process};
use std::process::Command;
use std::sync::atomic::{AtomicBool, Ordering};
use yadori_e2e::PATIENCE;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::program::{Manner, Program};
use yadori_e2e::service::{Events, Service, command};

/// Tells the copying to end, also when the test fails: it would be waited for.
struct Over<'a>(&'a AtomicBool);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Copies one text after the other until told to end, each by a program that stays until its text was read: its
/// targets, and the text.
fn copying<'scope>(
    scope: &'scope std::thread::Scope<'scope, '_>,
    display: &'scope Display,
    over: &'scope AtomicBool,
    name: &'scope str,
) {
    scope.spawn(move || {
        let mut before = None;
        for n in 0.. {
            let text = format!("{name} {n}: {}", "word ".repeat(n % 50));
            let owner = Program::copy(display.name(), &[("UTF8_STRING", text.as_bytes())], Manner::Honest);
            while owner.served() < 2 {
                if over.load(Ordering::SeqCst) {
                    return;
                }
                std::thread::yield_now();
            }
            // The one before has long lost the clipboard.
            drop(before.replace(owner));
        }
    });
}

/// The previews and ids of `most` copies as they are announced.
fn announced(events: &mut Events, most: usize) -> Vec<(String, String)> {
    let mut seen: Vec<(String, String)> = Vec::new();
    while seen.len() < most {
        if let Some(clip) = events.change().clip {
            seen.push((clip.id, clip.preview));
        }
    }
    seen
}

fn assert_all_there(service: &Service, announced: &[(String, String)]) {
    for (id, preview) in announced {
        let content = service.get(&format!("/clips/{id}/content"));
        assert_eq!(content.status, 200, "{preview} is lost");
        let shown = content.text();
        assert!(shown.trim().starts_with(preview.trim_end_matches('…').trim()), "{preview} came back as {shown}");
        let recomputed = yadori_core::ClipId::of(yadori_core::Kind::Text, &content.body);
        assert_eq!(recomputed.to_string(), *id, "its bytes are not those that were copied");
    }
}

#[test]
fn every_announced_copy_survives_a_kill_in_the_middle_of_a_stream() {
    let (home, display) = (Home::new(), Display::start());
    let mut all = Vec::new();
    for round in ["first", "second", "third"] {
        let service = Service::on_display(&home, &display);
        let mut events = service.events(None);
        let over = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let ending = Over(&over);
            copying(scope, &display, &over, round);
            all.extend(announced(&mut events, 25));
            service.kill();
            drop(ending);
        });
        // What was announced before the kill and has not been read yet counts as well.
        all.extend(events.rest().into_iter().filter(|event| event.name == "clip").filter_map(|event| {
            let clip = serde_json::from_str::<yadori_api::ClipChange>(&event.data).ok()?.clip?;
            Some((clip.id, clip.preview))
        }));
    }
    let service = Service::on_display(&home, &display);
    assert!(all.len() >= 75);
    assert_all_there(&service, &all);
    assert!(service.end().0);
}

#[test]
fn the_database_comes_back_by_itself_and_no_copy_is_lost() {
    let (home, display) = (Home::new(), Display::start());
    let service = Service::on_display(&home, &display);
    // What is tried again is no repeat.
    service.run(&["rules", "set", "repeats", "1m"]);
    let mut events = service.events(None);
    let over = AtomicBool::new(false);
    let seen = std::thread::scope(|scope| {
        let ending = Over(&over);
        copying(scope, &display, &over, "under way");
        let mut seen = announced(&mut events, 20);
        let server = service.status().database.pid.unwrap();
        kill_process(Pid::from_raw(server as i32).unwrap(), Signal::KILL).unwrap();
        // Copies made while it was away are announced when it is back.
        seen.extend(announced(&mut events, 40));
        drop(ending);
        seen
    });
    let database = service.status().database;
    assert_eq!((database.answers, database.restarts), (true, 1));
    assert_all_there(&service, &seen);
    // One after the other; none is left out that the program gave time to read.
    let mut numbers: Vec<u32> =
        seen.iter().map(|(_, preview)| preview.split([' ', ':']).nth(2).unwrap().parse().unwrap()).collect();
    numbers.dedup();
    assert!(numbers.is_sorted(), "{numbers:?}");
    let left_out = numbers[numbers.len() - 1] - numbers[0] + 1 - numbers.len() as u32;
    let refused = || service.status().refused.iter().map(|refused| refused.count).sum::<u64>();
    while refused() < u64::from(left_out) {
        events.any();
    }
    let refused = service.status().refused;
    assert!(refused.iter().all(|refused| refused.reason.word() != "repeat"), "{refused:?}");
}

#[test]
fn a_second_service_on_the_same_home_is_refused() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let second = command(home.path(), "simulated", None).output().unwrap();
    assert!(!second.status.success());
    let said = String::from_utf8_lossy(&second.stderr);
    assert!(said.contains(&format!("process {}", service.pid())) && said.contains("already runs"), "{said}");
    service.run(&["add", "the first goes on"]);
    // After a kill, nothing has to be cleaned up by hand.
    service.kill();
    let service = Service::simulated(&home);
    assert_eq!(service.clips(&["list"]).len(), 1);
}

#[test]
fn the_servers_end_with_a_service_that_is_killed() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let server = service.status().database.pid.unwrap();
    service.kill();
    let deadline = std::time::Instant::now() + PATIENCE;
    while std::fs::read_to_string(format!("/proc/{server}/stat")).is_ok_and(|stat| !stat.contains(") Z ")) {
        assert!(std::time::Instant::now() < deadline, "the database server outlived the service");
        std::thread::yield_now();
    }
}

#[test]
fn a_log_that_cannot_be_written_keeps_nothing_from_working() {
    let home = Home::new();
    // Its disk is full: /dev/full refuses every write.
    let mut full = command(home.path(), "simulated", None);
    let mut child = full.stderr(std::fs::File::create("/dev/full").unwrap()).spawn().unwrap();
    let mut ready = String::new();
    use std::io::BufRead;
    std::io::BufReader::new(child.stdout.take().unwrap()).read_line(&mut ready).unwrap();
    assert!(ready.starts_with("ready "), "{ready}");
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    assert!(child.wait().unwrap().success());
    // Its reader is gone: the database is killed, which is worth several lines, and comes back all the same.
    let (reader, writer) = std::io::pipe().unwrap();
    let mut broken = command(home.path(), "simulated", None);
    let mut child = broken.stderr(writer).spawn().unwrap();
    drop(broken);
    drop(reader);
    ready.clear();
    std::io::BufReader::new(child.stdout.take().unwrap()).read_line(&mut ready).unwrap();
    let client = |arguments: &[&str]| yadori_e2e::service::client(home.path()).args(arguments).output().unwrap();
    let status = || serde_json::from_slice::<yadori_api::Status>(&client(&["status", "--json"]).stdout).unwrap();
    for _ in 0..2 {
        let server = status().database.pid.unwrap();
        kill_process(Pid::from_raw(server as i32).unwrap(), Signal::KILL).unwrap();
        let deadline = std::time::Instant::now() + PATIENCE;
        while status().database.pid.is_none_or(|pid| pid == server) {
            assert!(std::time::Instant::now() < deadline, "the database did not come back");
        }
    }
    assert!(client(&["add", "all is well"]).status.success());
    kill_process(Pid::from_child(&child), Signal::TERM).unwrap();
    assert!(child.wait().unwrap().success());
}

#[test]
fn after_many_kills_of_its_database_the_next_copy_is_taken_as_soon_as_that_is_back() {
    let home = Home::new();
    let service = Service::simulated(&home);
    for round in 0..6 {
        let server = service.status().database.pid.unwrap();
        kill_process(Pid::from_raw(server as i32).unwrap(), Signal::KILL).unwrap();
        let mut events = service.events(None);
        let text = format!("copy {round}");
        let copied = serde_json::json!({ "formats": [{ "mime": "text/plain", "text": text }] });
        assert_eq!(service.post("/simulated/copy", &copied).status, 204);
        events.copied(&text);
        let log = service.status();
        assert!(log.database.answers && log.database.restarts == round + 1, "{:?}", log.database);
    }
}

#[test]
fn the_client_says_that_the_service_is_not_there() {
    let home = Home::bare();
    let output = yadori_e2e::service::client(home.path()).arg("list").output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&output.stderr).contains("yadorid"));
    // It was killed and left its address behind.
    std::fs::create_dir(home.path().join("run")).unwrap();
    std::fs::write(home.path().join("run/api.json"), r#"{"address": "127.0.0.1:1", "token": "x"}"#).unwrap();
    let output = yadori_e2e::service::client(home.path()).arg("list").output().unwrap();
    assert_eq!(output.status.code(), Some(3));
}

#[test]
fn whoever_finds_the_service_is_answered_from_the_first_moment() {
    let home = Home::new();
    let refused = std::thread::scope(|scope| {
        let asking = scope.spawn(|| {
            let mut refused = Vec::new();
            yadori_e2e::waiting::until("the service answers", || {
                let output = yadori_e2e::service::client(home.path()).args(["rules", "show"]).output().unwrap();
                // With 3, it is not there yet.
                if !matches!(output.status.code(), Some(0 | 3)) {
                    refused.push(String::from_utf8_lossy(&output.stderr).into_owned());
                }
                output.status.success()
            });
            refused
        });
        let _service = Service::simulated(&home);
        asking.join().unwrap()
    });
    assert!(refused.is_empty(), "{refused:?}");
}

/// A small disk that goes with the test.
pub struct SmallDisk<'a>(&'a std::path::Path);

impl<'a> SmallDisk<'a> {
    pub fn mount(path: &'a std::path::Path, size: &str) -> Option<Self> {
        std::fs::create_dir_all(path).unwrap();
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={size},mode=0700"), "tmpfs"])
            .arg(path)
            .output()
            .unwrap();
        mounted.status.success().then_some(Self(path))
    }
}

impl Drop for SmallDisk<'_> {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(self.0).status();
    }
}

#[test]
fn a_full_disk_loses_nothing_and_is_told() {
    let (home, display) = (Home::bare(), Display::start());
    let data = home.path().join("data");
    let Some(_disk) = SmallDisk::mount(&data, "224m") else {
        yadori_e2e::missing::not_tried(yadori_e2e::missing::Missing::Mounts);
        return;
    };
    let service = Service::on_display(&home, &display);
    let mut events = service.events(None);
    display.xclip("UTF8_STRING", b"before the disk was full");
    let before = events.copied("before the disk");
    // Something else fills the disk.
    let filler = data.join("filler");
    let _ =
        Command::new("dd").args(["if=/dev/zero", "bs=1M"]).arg(format!("of={}", filler.display())).output().unwrap();
    let noise: Vec<u8> = (0..6_000_000u32).map(|n| b'a' + (n.wrapping_mul(2_654_435_761) >> 27) as u8 % 26).collect();
    display.xclip("UTF8_STRING", &noise);
    events.wait("status", |_| service.status().capture.waiting > 0);
    let (code, _) = service.fail(&["doctor"]);
    assert_eq!(code, 1);
    std::fs::remove_file(&filler).unwrap();
    let after = events.change().clip.unwrap();
    assert_eq!(after.size, noise.len() as u64);
    assert!(service.get(&format!("/clips/{}/content", after.id)).body == noise);
    assert_all_there(&service, &[(before.id, before.preview)]);
    assert!(service.end().0);
    // Too full to start is said as well.
    let _ =
        Command::new("dd").args(["if=/dev/zero", "bs=1M"]).arg(format!("of={}", filler.display())).output().unwrap();
    let refused = command(home.path(), "none", None).output().unwrap();
    assert!(String::from_utf8_lossy(&refused.stderr).contains("full"), "{}", String::from_utf8_lossy(&refused.stderr));
}

/// The process that decodes pictures for a service, if there is one.
fn decoder_of(service: &Service) -> Option<i32> {
    let processes = std::fs::read_dir("/proc").unwrap().flatten();
    let pids = processes.filter_map(|process| process.file_name().to_str()?.parse().ok());
    pids.into_iter().find(|pid: &i32| {
        let read = |name: &str| std::fs::read_to_string(format!("/proc/{pid}/{name}")).unwrap_or_default();
        read("cmdline").contains("--decode-pictures") && read("status").contains(&format!("PPid:\t{}\n", service.pid()))
    })
}

#[test]
fn pictures_are_decoded_in_a_cage_and_go_on_when_it_is_killed() {
    let home = Home::new();
    let service = Service::simulated(&home);
    assert_eq!(decoder_of(&service), None, "none is needed yet");
    let add = |shade: u8| {
        let mut png = Vec::new();
        let picture = image::RgbImage::from_pixel(400, 300, image::Rgb([shade, 0, 0]));
        picture.write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png).unwrap();
        let added = service.request(
            "POST",
            "/clips",
            &[("authorization", &service.bearer()), ("content-type", "image/png")],
            &png,
        );
        assert_eq!(added.status, 201, "{}", added.text());
        let clip = added.json::<yadori_api::Added>().clip;
        assert_eq!((clip.width, clip.height), (Some(400), Some(300)));
        let thumbnail = service.get(&format!("/clips/{}/thumbnail", clip.id));
        assert_eq!((thumbnail.status, thumbnail.header("content-type")), (200, "image/png"));
    };
    add(1);
    let first = decoder_of(&service).expect("a decoder");
    let status = std::fs::read_to_string(format!("/proc/{first}/status")).unwrap();
    assert!(status.contains("NoNewPrivs:\t1") && status.contains("Seccomp:\t2"), "{status}");
    let open = std::fs::read_dir(format!("/proc/{first}/fd")).unwrap().count();
    assert_eq!(open, 3, "it has no more than what it is spoken to by");
    rustix::process::kill_process(rustix::process::Pid::from_raw(first).unwrap(), rustix::process::Signal::KILL)
        .unwrap();
    // The picture that was to be decoded next may be the one that finds out.
    let png = [b"\x89PNG\r\n\x1a\n", &[0; 32][..]].concat();
    let _ =
        service.request("POST", "/clips", &[("authorization", &service.bearer()), ("content-type", "image/png")], &png);
    add(2);
    assert_ne!(decoder_of(&service), Some(first));
    assert!(service.end().0);
}

#[test]
fn a_page_that_its_reader_does_not_survive_costs_nothing_else() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let mut events = service.events(None);
    let copy = |mime: &str, text: &str| {
        let formats = serde_json::json!({"formats": [{"mime": mime, "text": text}]});
        assert_eq!(service.post("/simulated/copy", &formats).status, 204);
    };
    copy("text/html", &format!("{}lamp", "<b>".repeat(1_000_000)));
    copy("text/plain", "after a page without a bottom");
    events.copied("after a page without a bottom");
    copy("text/html", "<ul><li>a page as they <b>are</b></ul>");
    let page = events.copied("a page as they are");
    let reshape = |clip: &str, way: &str| service.post("/reshape", &serde_json::json!({"clip": clip, "ways": [way]}));
    let markdown: serde_json::Value = reshape(&page.id, "markdown").json();
    assert_eq!(markdown["after"], "*   a page as they **are**");
    // What it costs to reshape one is an answer, and nothing else is held up for long.
    let deep = format!("{}lamp", "<b>".repeat(300_000));
    let added: serde_json::Value = service
        .request(
            "POST",
            "/clips",
            &[("authorization", &service.bearer()), ("content-type", "text/plain")],
            deep.as_bytes(),
        )
        .json();
    let refused = reshape(added["clip"]["id"].as_str().unwrap(), "markdown");
    assert_eq!(refused.status, 422, "{}", refused.text());
    assert_eq!(reshape(&page.id, "markdown").status, 200);
}
