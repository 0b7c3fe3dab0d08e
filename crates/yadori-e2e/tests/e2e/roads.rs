//! What lies between devices, and what befalls one of them: roads that are slow or break, a database that is
//! killed, a disk that is full, a service that is killed again and again.

use super::own::Own;
use super::survival::SmallDisk;
use rustix::process::{Pid, Signal, kill_process};
use std::process::Command;
use yadori_api::{DeviceState, Fetched};
use yadori_e2e::home::Home;
use yadori_e2e::service::Service;

/// Text that cannot be told more briefly.
fn noise(bytes: u32) -> Vec<u8> {
    (0..bytes).map(|n| b'a' + (n.wrapping_mul(2_654_435_761) >> 27) as u8 % 26).collect()
}

fn add(own: &Own, text: &[u8]) {
    let added = own.service.run_with(&["add", "-"], text);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
}

fn add_many(own: &Own, name: &str, count: usize) {
    for number in 0..count {
        let headers = [("authorization", own.service.bearer()), ("content-type", "text/plain".to_owned())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        let text = format!("{name} {number}: {}", "focus on the lantern table, ".repeat(number % 40));
        assert!(own.service.request("POST", "/clips", &headers, text.trim().as_bytes()).status < 300);
    }
}

/// Fetches the newest clip a little further. Gives how far it is; nothing while the other device is not there.
fn fetch(own: &Own, after: u64) -> Option<Fetched> {
    let answer = own.service.post(&format!("/clips/1/fetch?after={after}"), &serde_json::Value::Null);
    assert!(answer.status == 200 || answer.status == 502, "{}", answer.text());
    (answer.status == 200).then(|| answer.json())
}

#[test]
fn a_large_clip_comes_over_a_slow_road_bit_by_bit_and_never_twice() {
    const SIZE: u32 = 8_000_000;
    let (workshop, van) = (Own::new("workshop"), Own::unreachable("van"));
    let road = van.joins_over(&workshop);
    van.run(&["sync", "policy", "--fetch-above", "100KB"]);
    let large = noise(SIZE);
    add(&workshop, &large);
    van.until(|own| own.list().first().is_some_and(|clip| clip.elsewhere));
    // While it comes, one sees how far it is.
    road.set_rate(3_000_000);
    let before = road.carried();
    let mut here = 0;
    while here < 2_000_000 {
        let fetched = fetch(&van, here).unwrap();
        assert_eq!(fetched.size, u64::from(SIZE));
        assert!(fetched.here >= here);
        here = fetched.here;
    }
    // The road is cut in the middle of it, and then the device is killed in the middle of it.
    road.cut();
    while here < 4_000_000 {
        match fetch(&van, here) {
            Some(fetched) => here = fetched.here,
            None => van.until(|own| own.sees(&workshop) == DeviceState::Connected),
        }
    }
    let van = van.restarted();
    van.until(|own| own.sees(&workshop) == DeviceState::Connected);
    let left = fetch(&van, 0).unwrap();
    assert!(left.here >= 3_000_000, "{left:?}: what had come is still there");
    road.set_rate(0);
    van.run(&["recall", "1"]);
    assert!(van.paste().as_bytes() == large);
    let carried = road.carried() - before;
    // What was on the way when it was cut comes again, and nothing else.
    assert!(carried > SIZE.into() && carried < u64::from(SIZE) * 6 / 5 + 2_000_000, "{carried} bytes");
}

#[test]
fn of_several_devices_the_one_is_found_that_has_the_content() {
    let (workshop, van) = super::own::pair();
    let desk = Own::new("desk");
    desk.joins(&workshop);
    desk.until(|own| own.sees(&van) == DeviceState::Connected);
    for own in [&workshop, &van, &desk] {
        own.run(&["sync", "policy", "--fetch-above", "100KB"]);
    }
    desk.until(|own| own.sees(&van) == DeviceState::Connected && own.sees(&workshop) == DeviceState::Connected);
    // Whichever of the two is asked first: once it is the one that has it, and once the other.
    for (size, from) in [(300_000, &workshop), (400_000, &van)] {
        let large = noise(size);
        add(from, &large);
        desk.until(|own| own.list().first().is_some_and(|clip| clip.elsewhere && clip.size == u64::from(size)));
        desk.run(&["recall", "1"]);
        assert!(desk.paste().as_bytes() == large);
    }
    // Where nobody is who has it, that is said, and nobody waits for long.
    add(&workshop, &noise(500_000));
    desk.until(|own| own.list().first().is_some_and(|clip| clip.elsewhere && clip.size == 500_000));
    van.until(|own| own.list().first().is_some_and(|clip| clip.elsewhere && clip.size == 500_000));
    let workshop = workshop.killed();
    let (_, said) = desk.service.fail(&["recall", "1"]);
    assert!(said.contains("another device"), "{said}");
    // It is back, and what nobody had is there.
    let workshop = Own::started(workshop);
    desk.until(|own| own.sees(&workshop) == DeviceState::Connected);
    desk.run(&["recall", "1"]);
    assert!(desk.paste().as_bytes() == noise(500_000));
}

#[test]
fn two_agree_over_a_road_that_breaks_again_and_again() {
    let (workshop, van) = (Own::new("workshop"), Own::unreachable("van"));
    add_many(&workshop, "cue", 100);
    add_many(&van, "lamp", 100);
    let road = van.joins_over(&workshop);
    road.lasts_for(150_000);
    road.set_rate(1_000_000);
    for number in 0..30 {
        workshop.run(&["add", &format!("later at the workshop {number}")]);
        van.run(&["add", &format!("later in the van {number}")]);
    }
    add(&workshop, &noise(400_000));
    let all = 100 + 100 + 60 + 1;
    workshop.until(|own| own.service.status().count == all);
    van.until(|own| own.service.status().count == all);
    van.until(|own| own.list().iter().all(|clip| !clip.elsewhere));
    assert_eq!(workshop.shown(), van.shown());
    assert!(van.service.run_with(&["show", "1", "--raw"], b"").stdout == noise(400_000));
    assert!(road.cuts() >= 2, "it broke {} times", road.cuts());
}

#[test]
fn a_database_that_is_killed_while_it_takes_in_loses_nothing() {
    let (workshop, van) = (Own::new("workshop"), Own::unreachable("van"));
    add_many(&workshop, "cue", 700);
    let road = van.joins_over(&workshop);
    road.set_rate(300_000);
    let killed = |own: &Own| {
        let server = own.service.status().database.pid.unwrap();
        kill_process(Pid::from_raw(server as i32).unwrap(), Signal::KILL).unwrap();
    };
    van.until(|own| own.service.status().count > 10);
    killed(&van);
    van.until(|own| own.service.status().database.restarts == 1);
    killed(&workshop);
    workshop.until(|own| own.service.status().database.restarts == 1);
    road.set_rate(0);
    van.until(|own| own.service.status().count == 700);
    workshop.until(|own| own.shown() == van.shown());
}

#[test]
fn a_full_disk_at_the_receiver_is_told_and_loses_nothing() {
    let home = Home::bare();
    home.configure_link("van", "", "listen = \"192.0.2.1:0\"");
    let data = home.path().join("data");
    let Some(disk) = SmallDisk::mount(&data, "224m") else {
        yadori_e2e::missing::not_tried(yadori_e2e::missing::Missing::Mounts);
        return;
    };
    let service = Service::simulated(&home);
    let (workshop, van) = (Own::new("workshop"), Own { home, service });
    let _road = van.joins_over(&workshop);
    van.run(&["sync", "policy", "--fetch-above", "20MB"]);
    workshop.run(&["add", "before"]);
    van.until_newest("before");
    let filler = van.home.path().join("data/filler");
    let _ =
        Command::new("dd").args(["if=/dev/zero", "bs=1M"]).arg(format!("of={}", filler.display())).output().unwrap();
    let large = noise(9_000_000);
    add(&workshop, &large);
    workshop.run(&["add", "after"]);
    van.until(|own| {
        own.devices()[1].notes.iter().any(|note| note.message.contains("room") || note.message.contains("full"))
    });
    // What is here already is not touched by it.
    assert!(!van.run(&["show", "1", "--raw"]).is_empty());
    std::fs::remove_file(&filler).unwrap();
    van.until(|own| own.list().len() == 3 && own.list().iter().all(|clip| !clip.elsewhere));
    assert!(van.service.run_with(&["show", "2", "--raw"], b"").stdout == large);
    // The disk goes before the folder that it is mounted in.
    let Own { service, home } = van;
    drop(service);
    drop(disk);
    drop(home);
}

#[test]
fn nothing_that_was_kept_is_lost_however_often_a_side_is_killed() {
    // `script/test --long` sets KILLS.
    let kills = std::env::var("KILLS").map_or(30, |kills| kills.parse().expect("a number of kills"));
    let (mut workshop, mut van) = (Own::new("workshop"), Own::new("van"));
    van.joins(&workshop);
    let mut copied = 0;
    for round in 0..kills {
        for _ in 0..5 {
            let from = if copied % 2 == 0 { &workshop } else { &van };
            from.run(&["add", &format!("clip {copied}")]);
            copied += 1;
        }
        if round % 2 == 0 {
            workshop = workshop.restarted();
        } else {
            van = van.restarted();
        }
    }
    workshop.until(|own| own.service.status().count == copied);
    van.until(|own| own.service.status().count == copied);
    assert_eq!(workshop.shown(), van.shown());
}
