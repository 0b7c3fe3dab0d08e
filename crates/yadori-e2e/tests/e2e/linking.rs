//! One history on several devices: real services, linked over loopback.

use super::own::{Own, pair};
use yadori_api::DeviceState;

#[test]
fn two_histories_become_one_and_stay_it() {
    let (workshop, van) = (Own::new("workshop"), Own::new("van"));
    workshop.run(&["add", "Lamp 7: Fresnel", "--title", "Lamps"]);
    workshop.run(&["add", "the same on both"]);
    van.run(&["add", "the same on both"]);
    van.run(&["add", "Ferry at 06:40"]);
    van.joins(&workshop);
    workshop.until(|own| own.list().len() == 3);
    van.until(|own| own.list().len() == 3);
    assert_eq!(workshop.shown(), van.shown());
    assert!(workshop.list().iter().all(|clip| clip.shared && !clip.elsewhere));
    assert_eq!(workshop.list()[0].device, "van");

    // Whatever is done on one is done on the other.
    workshop.run(&["pin", "1"]);
    workshop.run(&["drawer", "new", "Venues"]);
    workshop.run(&["drawer", "put", "Venues", "2"]);
    workshop.run(&["drawer", "heading", "Venues", "North"]);
    workshop.run(&["alias", "set", "lamps", "3"]);
    workshop.run(&["mark", "3", "fern"]);
    van.until(|own| own.shown() == workshop.shown());
    assert!(van.run(&["drawer", "list", "Venues"]).contains("North"));
    assert_eq!(van.run(&["show", ":lamps", "--raw"]), "Lamp 7: Fresnel");
    van.run(&["edit", ":lamps", "Lamp 7: Fresnel, gel 202"]);
    workshop.until(|own| own.run(&["show", ":lamps", "--raw"]).ends_with("202"));
    van.run(&["delete", "p1"]);
    workshop.until(|own| own.shown() == van.shown());
    assert!(workshop.service.clips(&["list", "--pinned"]).iter().all(|clip| clip.preview != "Ferry at 06:40"));
    van.run(&["undo"]);
    workshop.until(|own| own.shown() == van.shown());
    assert_eq!(workshop.list().len(), 3);
    // Clearing takes what is not kept, and comes back by one undo.
    for text in ["one", "two", "three"] {
        workshop.run(&["add", text]);
    }
    van.until_newest("three");
    workshop.run(&["clear", "--yes"]);
    van.until(|own| own.shown() == workshop.shown());
    assert_eq!(van.list().len(), 3);
    workshop.run(&["undo"]);
    van.until(|own| own.list().len() == 6);
}

#[test]
fn what_looks_like_a_secret_never_leaves() {
    let (workshop, van) = pair();
    workshop.run(&["add", "4111 1111 1111 1111"]);
    workshop.run(&["add", "and this does"]);
    van.until_newest("and this does");
    assert_eq!(van.list().len(), 1);
    let (code, said) = workshop.service.fail(&["send", "2", "--to", "van"]);
    assert!(code == 1 && said.contains("never leave"), "{said}");
}

#[test]
fn a_code_is_good_for_one_device_a_few_tries_and_a_while() {
    let (workshop, van) = (Own::new("workshop"), Own::new("van"));
    let invitation = workshop.invite();
    let address = invitation.addresses[0].as_str();
    let said = |code: &str| van.service.fail(&["device", "join", address, code]).1;
    assert!(van.service.fail(&["device", "rename", "van", "tour bus"]).1.contains("config.toml"));
    assert!(said("what").contains("eight letters"));
    for _ in 0..3 {
        assert!(said("0000-0000").contains("not the one"));
    }
    // The right one comes too late from there.
    assert!(said(&invitation.code).contains("no invitation"));
    let invitation = workshop.invite();
    let careless = invitation.code.to_lowercase().replace('-', "");
    van.run(&["device", "join", address, &careless]);
    let other = Own::new("desk");
    let (code, said) = other.service.fail(&["device", "join", address, &invitation.code]);
    assert!(code == 1 && said.contains("no invitation"), "{said}");
    let (_, said) = other.service.fail(&["device", "join", "127.0.0.1:9", &invitation.code]);
    assert!(said.contains("cannot be reached"), "{said}");
    let (_, said) = workshop.service.fail(&["device", "join", address, &workshop.invite().code]);
    assert!(said.contains("this device itself"), "{said}");
}

#[test]
fn however_many_ask_at_once_a_device_has_one_key_and_one_address() {
    let workshop = Own::new("workshop");
    let invitations: Vec<_> = std::thread::scope(|scope| {
        let asking: Vec<_> = (0..12).map(|_| scope.spawn(|| workshop.invite())).collect();
        asking.into_iter().map(|asked| asked.join().unwrap()).collect()
    });
    let device = workshop.devices().remove(0);
    assert!(invitations.iter().all(|invitation| invitation.addresses == device.addresses), "{invitations:?}");
    // The key on disk is the one that is in use.
    assert_eq!(workshop.restarted().devices()[0].id, device.id);
}

#[test]
fn a_removed_device_is_cut_off_everywhere_and_told() {
    let (workshop, van) = pair();
    let desk = Own::new("desk");
    desk.joins(&workshop);
    // Linking with one makes known to all.
    van.until(|own| own.sees(&desk) == DeviceState::Connected);
    workshop.run(&["add", "before"]);
    van.until_newest("before");
    // Nothing is asked of a device that is not there, nor of this one.
    for (device, answer) in [("nobody", "no device"), ("workshop", "itself"), ("VAN", "Remove van?")] {
        let (_, said) = workshop.service.fail(&["device", "remove", device]);
        assert!(said.contains(answer), "{said}");
    }
    workshop.run(&["device", "remove", "van", "--yes"]);
    van.until(|own| own.devices().len() == 1);
    desk.until(|own| own.devices().iter().all(|device| device.name != "van"));
    desk.run(&["add", "after"]);
    workshop.until_newest("after");
    assert_eq!(van.previews(), ["before"]);
    // It comes back by another invitation only.
    let (code, _) = van.service.fail(&["send", "1", "--to", "workshop"]);
    assert_eq!(code, 1);
    let van = van.restarted();
    assert_eq!(van.devices().len(), 1);
    van.joins(&desk);
    van.until_newest("after");
    // The others have belonged together all the while.
    assert_eq!(workshop.sees(&desk), DeviceState::Connected);
    workshop.until(|own| own.sees(&van) == DeviceState::Connected);
}

#[test]
fn large_content_is_fetched_when_it_is_wanted() {
    let (workshop, van) = pair();
    van.run(&["sync", "policy", "--fetch-above", "100KB"]);
    let lines = |count: usize| (0..count).map(|line| format!("cue {line}: lamps up\n")).collect::<String>();
    let (small, large) = (lines(4_000), lines(100_000));
    for text in [&small, &large] {
        assert!(workshop.service.run_with(&["add", "-"], text.as_bytes()).status.success());
    }
    van.until(|own| own.list().len() == 2 && !own.list()[1].elsewhere);
    assert_eq!(van.run(&["show", "2", "--raw"]), small);
    assert!(van.list()[0].elsewhere);
    // Its beginning is here to be seen and found.
    assert!(van.service.clips(&["find", "cue", "17"]).len() == 2);
    assert!(van.run(&["sync"]).contains("1 clip some content is on another device"));
    van.run(&["recall", "1"]);
    assert_eq!(van.paste(), large);
    assert!(!van.list()[0].elsewhere);
    // Without the other device, it says so.
    let longer = lines(120_000);
    assert!(workshop.service.run_with(&["add", "-"], longer.as_bytes()).status.success());
    van.until(|own| own.list().len() == 3);
    let workshop = workshop.restarted();
    workshop.service.kill();
    van.until(|own| own.devices()[1].state == DeviceState::Away);
    let (code, said) = van.service.fail(&["recall", "1"]);
    assert!(code == 1 && said.contains("another device"), "{said}");
}

#[test]
fn what_leaves_and_what_arrives_is_chosen() {
    let (workshop, van) = pair();
    assert!(workshop.run(&["sync", "policy"]).contains("Every clip leaves this device"));
    workshop.run(&["sync", "policy", "--leaves", "kept-only"]);
    workshop.run(&["add", "only here"]);
    workshop.run(&["add", "kept", "--pin"]);
    van.until_newest("kept");
    assert_eq!(van.previews(), ["kept"]);
    // By hand, it goes over all the same; and what others may do with a clipboard is theirs to say.
    workshop.run(&["sync", "policy", "--leaves", "by-hand"]);
    workshop.until(|own| own.sees(&van) == DeviceState::Connected);
    workshop.run(&["send", "2", "--to", "van"]);
    van.until(|own| own.list().len() == 2);
    let (code, said) = workshop.service.fail(&["send", "2", "--to", "van", "--recall"]);
    assert!(code == 1 && said.contains("--allow-recall"), "{said}");
    van.run(&["sync", "policy", "--allow-recall"]);
    workshop.run(&["send", "2", "--to", "van", "--recall"]);
    van.until(|own| own.paste() == "only here");
    // A wider policy tells of what was held back.
    workshop.run(&["add", "later"]);
    workshop.run(&["sync", "policy", "--leaves", "everything"]);
    van.until_newest("later");
    // And nothing goes while it is paused.
    workshop.run(&["sync", "pause"]);
    workshop.run(&["add", "during the pause"]);
    van.until(|own| own.devices()[1].state == DeviceState::Away);
    assert!(workshop.run(&["status"]).contains("1 linked, sharing is paused"));
    assert!(van.run(&["status"]).contains("1 linked, none is connected at the moment"));
    assert_eq!(van.previews()[0], "later");
    workshop.run(&["sync", "resume"]);
    van.until_newest("during the pause");
    let devices = van.service.status().devices;
    assert_eq!((devices.linked, devices.connected, devices.paused), (1, 1, false));
}

#[test]
fn a_copy_here_is_pasted_there() {
    let (workshop, van) = pair();
    van.run(&["sync", "policy", "--follow"]);
    workshop.copy("Stage door code at reception");
    van.until(|own| own.paste() == "Stage door code at reception");
    // It does not come back as a copy of its own.
    assert_eq!(van.list()[0].device, "workshop");
    assert_eq!(van.list()[0].copies, 1);
    // What the person copies there stays, until something newer is copied elsewhere.
    van.copy("mine");
    workshop.until_newest("mine");
    assert_eq!(van.paste(), "mine");
    assert_eq!(workshop.paste(), "Stage door code at reception", "it does not follow");
    workshop.copy("newer");
    van.until(|own| own.paste() == "newer");
}

#[test]
fn what_is_forgotten_for_good_is_gone_everywhere() {
    let (workshop, van) = pair();
    workshop.run(&["add", "the old stage door code", "--pin", "--title", "Door"]);
    workshop.run(&["add", "something else"]);
    van.until_newest("something else");
    workshop.run(&["delete", "p1", "--for-good", "--yes"]);
    van.until(|own| own.list().len() == 1);
    assert_eq!(van.run(&["bin", "list", "--json"]).matches("\"id\"").count(), 0);
    // Only a copy brings it back.
    van.run(&["add", "the old stage door code"]);
    workshop.until_newest("the old stage door code");
    assert!(!workshop.list()[0].pinned && workshop.list()[0].title.is_none());
}

#[test]
fn three_devices_agree_through_the_one_in_the_middle() {
    let (workshop, van) = pair();
    let desk = Own::new("desk");
    desk.joins(&van);
    workshop.run(&["add", "from the workshop"]);
    desk.until_newest("from the workshop");
    workshop.until(|own| own.sees(&desk) == DeviceState::Connected);
    // The two at the ends know each other by now, and need nobody in between.
    van.service.kill();
    desk.run(&["add", "from the desk"]);
    workshop.until_newest("from the desk");
    workshop.run(&["device", "rename", "desk", "box office"]);
    desk.until(|own| own.name() == "box office");
    desk.run(&["device", "leave", "--yes"]);
    workshop.until(|own| own.devices().iter().all(|device| device.name != "box office"));
    assert_eq!(desk.devices().len(), 1);
    assert_eq!(desk.list().len(), 2);
}
