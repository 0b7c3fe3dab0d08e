//! Devices in networks of their own, joined by a cable: the network goes, comes back, and is another.

use yadori_api::Invitation;
use yadori_e2e::missing::{Missing, not_tried};
use yadori_e2e::network::{Site, chain};

fn joins(new: &Site, old: &Site, network: &str) {
    let invitation: Invitation = serde_json::from_str(&old.run(&["device", "invite", "--json"])).unwrap();
    let address = invitation.addresses.iter().find(|address| address.starts_with(network)).unwrap();
    new.run(&["device", "join", address, &invitation.code]);
}

#[test]
fn two_that_never_meet_agree_through_the_one_in_between() {
    let Some(networks) = chain(3) else {
        not_tried(Missing::Networks);
        return;
    };
    let [workshop, desk, van] = ["workshop", "desk", "van"];
    let (workshop, desk, van) =
        (Site::new(&networks[0], workshop), Site::new(&networks[1], desk), Site::new(&networks[2], van));
    joins(&desk, &workshop, "10.77.0.");
    joins(&van, &desk, "10.77.1.");
    workshop.run(&["add", "from one end", "--pin"]);
    van.run(&["add", "from the other end"]);
    van.until(|own| own.has("from one end"));
    workshop.until(|own| own.has("from the other end"));
    van.run(&["delete", "p1"]);
    workshop.until(|own| !own.has("from one end"));
    // One end is cut off; what both do meanwhile is settled when the cable is back.
    networks[2].ip("link set cable1b down");
    van.run(&["add", "while it was cut off"]);
    workshop.run(&["clear", "--yes"]);
    networks[2].ip("link set cable1b up");
    workshop.until(|own| own.has("while it was cut off"));
    van.until(|own| !own.has("from the other end"));
}

#[test]
fn what_gets_lost_on_the_way_comes_all_the_same() {
    let Some(networks) = chain(2) else {
        not_tried(Missing::Networks);
        return;
    };
    let (workshop, van) = (Site::new(&networks[0], "workshop"), Site::new(&networks[1], "van"));
    if !networks.iter().all(|network| network.lose(4)) {
        not_tried(Missing::PacketLoss);
        return;
    }
    joins(&van, &workshop, "10.77.0.");
    for number in 0..20 {
        workshop.run(&["add", &format!("cue {number}")]);
        van.run(&["add", &format!("lamp {number}")]);
    }
    let large = "a line of a long list\n".repeat(20_000);
    workshop.run(&["add", &large[..60_000]]);
    van.until(|own| (0..20).all(|number| own.has(&format!("cue {number}"))));
    workshop.until(|own| (0..20).all(|number| own.has(&format!("lamp {number}"))));
    van.until(|own| {
        own.run(&["list", "--json"]).contains("\"size\": 60000")
            && !own.run(&["list", "-n", "100", "--json"]).contains("\"elsewhere\": true")
    });
    assert_eq!(van.run(&["show", "1", "--raw"]), large[..60_000]);
}

#[test]
fn they_find_each_other_again_whatever_becomes_of_the_network() {
    let Some(networks) = chain(2) else {
        not_tried(Missing::Networks);
        return;
    };
    let [here, there] = &networks[..] else { unreachable!() };
    let (workshop, van) = (Site::new(here, "workshop"), Site::new(there, "van"));
    let invitation: Invitation = serde_json::from_str(&workshop.run(&["device", "invite", "--json"])).unwrap();
    assert!(invitation.addresses[0].starts_with("10.77.0.1:"), "{:?}", invitation.addresses);
    van.run(&["device", "join", &invitation.addresses[0], &invitation.code]);
    workshop.run(&["add", "over the cable"]);
    van.until(|own| own.has("over the cable"));

    // The van comes to another place of the network; its connection leads nowhere now.
    there.ip("addr del 10.77.0.2/24 dev cable0b");
    there.ip("addr add 10.77.0.9/24 dev cable0b");
    workshop.run(&["add", "after the move"]);
    van.until(|own| own.has("after the move"));
    workshop.until(|own| own.run(&["device", "list", "--json"]).contains("10.77.0.9:"));

    // The cable is out, and back.
    there.ip("link set cable0b down");
    van.until(|own| !own.is_connected());
    workshop.run(&["add", "while it was out"]);
    there.ip("link set cable0b up");
    van.until(|own| own.has("while it was out"));

    // Both are switched off, and are elsewhere when they come back: nobody knows an address of the other.
    let ports = |site: &Site| site.run(&["device", "list", "--json"]);
    let before = (ports(&workshop), ports(&van));
    here.ip("addr del 10.77.0.1/24 dev cable0");
    there.ip("addr del 10.77.0.9/24 dev cable0b");
    here.ip("addr add 10.78.0.1/24 dev cable0");
    there.ip("addr add 10.78.0.2/24 dev cable0b");
    let (workshop, van) = (workshop.again(), van.again());
    workshop.run(&["add", "in another network"]);
    van.until(|own| own.has("in another network"));
    assert!(!before.0.contains("10.78.") && !before.1.contains("10.78."));
}
