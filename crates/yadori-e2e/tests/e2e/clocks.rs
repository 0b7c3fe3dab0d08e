//! Devices whose clocks are off, or that were away for long.

use super::own::Own;
use yadori_api::DeviceState;
use yadori_core::amounts::DAY;

fn now() -> i64 {
    jiff::Timestamp::now().as_millisecond()
}

#[test]
fn a_clock_that_is_a_little_off_does_no_harm() {
    let (workshop, van) = (Own::new("workshop"), Own::at("van", "+4m"));
    van.joins(&workshop);
    assert!(workshop.notes_of("van").contains("ahead of"), "{}", workshop.notes_of("van"));
    assert!(van.notes_of("workshop").contains("behind"), "{}", van.notes_of("workshop"));
    van.run(&["add", "from four minutes ahead"]);
    workshop.until_newest("from four minutes ahead");
    // What is done afterwards is later, whatever the clocks say.
    workshop.run(&["add", "after that"]);
    van.until_newest("after that");
    workshop.run(&["delete", "2"]);
    van.until(|own| own.previews() == ["after that"]);
}

#[test]
fn clocks_that_are_days_apart_are_refused_with_a_reason() {
    let (workshop, van) = (Own::new("workshop"), Own::at("van", "+3d"));
    van.run(&["add", "from the day after tomorrow"]);
    let invitation = workshop.invite();
    let (code, said) = van.service.fail(&["device", "join", &invitation.addresses[0], &invitation.code]);
    assert!(code == 1 && said.contains("more than five minutes apart"), "{said}");
    assert_eq!((workshop.devices().len(), van.devices().len()), (1, 1));

    // It is set right; what it stamped meanwhile is dated now, in its order, and wins over nothing that comes later.
    van.run(&["pin", "1"]);
    van.run(&["drawer", "new", "Venues"]);
    van.run(&["add", "and another"]);
    let van = van.set_to("+0");
    van.run(&["add", "when it was set"]);
    van.joins(&workshop);
    let all = ["when it was set", "and another", "from the day after tomorrow"];
    workshop.until(|own| own.previews() == all);
    van.until(|own| own.previews() == all);
    assert!(workshop.service.clips(&["list", "--pinned"]).len() == 1);
    assert!(workshop.run(&["drawer", "list"]).contains("Venues"));
    for own in [&workshop, &van] {
        let latest = own.list().iter().map(|clip| clip.copied_at.as_millisecond()).max().unwrap();
        assert!((now() - latest).unsigned_abs() < DAY / 2, "the latest is dated {latest}");
    }
    workshop.run(&["add", "later"]);
    van.until_newest("later");
    workshop.run(&["unpin", "p1"]);
    workshop.run(&["delete", "4"]);
    van.until(|own| own.previews() == ["later", "when it was set", "and another"]);

    // One whose clock goes wrong afterwards is not let talk, and is told why.
    let van = van.set_to("-3d");
    van.until(|own| own.notes_of("workshop").contains("more than five minutes apart"));
    assert_eq!(van.sees(&workshop), DeviceState::Away);
    workshop.run(&["add", "meanwhile"]);
    let van = van.set_to("+0");
    van.until_newest("meanwhile");
}

#[test]
fn what_was_done_by_a_clock_that_was_ahead_does_not_win_over_what_is_done_later() {
    let (workshop, van) = super::own::pair();
    workshop.run(&["add", "Lamp 7"]);
    workshop.run(&["add", "Gel 202"]);
    van.until_newest("Gel 202");
    // The van's clock goes three days ahead. It gives a title, and deletes.
    let van = van.set_to("+3d");
    van.run(&["title", "2", "given first"]);
    van.run(&["delete", "1"]);
    van.run(&["add", "and copies, two hours later"]);
    // The others do both later, before they hear of it.
    let van = van.killed();
    workshop.run(&["title", "2", "given later"]);
    workshop.run(&["add", "Gel 202"]);
    let van = Own::started(van);
    for own in [&workshop, &van] {
        own.until(|own| own.list().len() == 3);
        assert_eq!(
            own.list().iter().find(|clip| clip.preview == "Lamp 7").unwrap().title.as_deref(),
            Some("given later")
        );
    }
}

#[test]
fn a_device_that_was_away_for_most_of_a_year_brings_nothing_back_and_loses_nothing() {
    let (workshop, van) = super::own::pair();
    for text in ["deleted", "forgotten for good", "https://props.example/cleared", "kept"] {
        workshop.run(&["add", text]);
    }
    workshop.run(&["pin", "1", "2"]);
    van.until(|own| own.list().len() == 4 && own.service.clips(&["list", "--pinned"]).len() == 2);
    // The van is switched off; what happens meanwhile, it is not told.
    let home = van.killed();
    workshop.run(&["unpin", "2"]);
    workshop.run(&["clear", "--kind", "link", "--yes"]);
    workshop.run(&["delete", "2", "--for-good", "--yes"]);
    workshop.run(&["delete", "2"]);
    assert_eq!(workshop.previews(), ["kept"]);
    // The traces of it are gone half a year later.
    let workshop = workshop.set_to("+200d");
    workshop.until(|own| own.run(&["bin"]).is_empty());
    workshop.run(&["add", "in the next year"]);
    let service = yadori_e2e::service::Service::at(&home, "+200d");
    let van = Own { service, home };
    van.run(&["add", "in the van, in the next year"]);
    let all = ["in the next year", "in the van, in the next year", "kept"];
    let sorted = |own: &Own| {
        let mut previews = own.previews();
        previews.sort();
        previews == all
    };
    van.until(sorted);
    workshop.until(sorted);
}
