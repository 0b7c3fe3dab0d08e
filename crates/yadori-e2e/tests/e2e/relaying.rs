//! Devices that never meet, and the relay as its owner runs it.

mod cluster;

use super::own::{Own, pair};
use yadori_e2e::home::Home;
use yadori_e2e::relay::Relay;
use yadori_e2e::service::Service;

/// The device again, which now neither makes nor takes connections.
fn cut_off(own: Own, name: &str) -> Own {
    let home = own.killed();
    home.configure_link(name, "", "direct = false");
    let service = Service::simulated(&home);
    Own { home, service }
}

#[test]
fn two_places_have_one_history_by_way_of_a_relay_that_reads_none_of_it() {
    let relay = Relay::start();
    assert_eq!((relay.ask("/healthz"), relay.ask("/readyz")), ("alive\n".into(), "ready\n".into()));
    let (workshop, van) = pair();
    let (code, said) = workshop.service.fail(&["relay"]);
    assert!(code == 1 && said.contains("yadori relay set"), "{said}");
    let (_, said) = workshop.service.fail(&["relay", "set", "relay.example.org"]);
    assert!(said.contains("not the address of a relay"), "{said}");
    let invitation = relay.invitation();
    let wrong = invitation.replace(&format!(":{}", relay.address().rsplit_once(':').unwrap().1), ":9");
    let (_, said) = workshop.service.fail(&["relay", "set", &wrong]);
    assert!(said.contains("cannot be reached"), "{said}");
    let set = workshop.run(&["relay", "set", &invitation]);
    assert!(set.contains(relay.address()) && set.contains("of 1 GiB, for 30 days"), "{set}");
    let (_, said) = workshop.service.fail(&["relay", "set", &invitation]);
    assert!(said.contains("there is a relay already") && said.contains("yadori relay remove"), "{said}");
    van.until(|own| own.run(&["sync", "status"]).contains(&format!("{} answers", relay.address())));

    // Now they are in two places. One is on when the other is off.
    let van = cut_off(van, "van");
    let workshop = cut_off(workshop, "workshop");
    let away = van.killed();
    workshop.run(&["add", "kestrel over the quay", "--title", "heron by the mill"]);
    workshop.until(|own| {
        let relay: yadori_api::Relay = serde_json::from_str(&own.run(&["relay", "--json"])).unwrap();
        relay.behind == 0 && relay.waiting > 0
    });
    assert!(workshop.run(&["relay"]).contains("This device last left something there"));
    let listed = workshop.run(&["device", "list"]);
    assert!(listed.contains(&format!("The relay https://{} answers", relay.address())), "{listed}");
    assert!(relay.metric("envelopes_received_total") > 0);
    let workshop_home = workshop.killed();
    let words: [&[u8]; 2] = [b"kestrel over", b"heron by"];
    assert!(relay.home().files_with(&words).is_empty(), "the relay can read it");

    // The relay is killed, too.
    let relay = relay.crash_and_start();
    let van = Own { service: Service::simulated(&away), home: away };
    van.until_newest("kestrel over the quay");
    van.run(&["pin", "1"]);
    let workshop = Own { service: Service::simulated(&workshop_home), home: workshop_home };
    workshop.until(|own| own.list().iter().any(|clip| clip.pinned));
    assert_eq!(workshop.shown(), van.shown());
    assert!(relay.home().files_with(&words).is_empty(), "the relay can read it");

    // A third one, which has met none of them, is linked by way of the relay.
    let home = Home::of("booth");
    home.configure_link("booth", "", "direct = false");
    let booth = Own { service: Service::simulated(&home), home };
    let said = workshop.run(&["device", "invite", "--via", "relay"]);
    let command = said.lines().find_map(|line| line.trim().strip_prefix("yadori device join '")).expect("a command");
    let (url, code) = command.split_once("' ").expect("a URL and a code");
    let met = booth.run(&["device", "join", url, code]);
    assert!(met.starts_with("Linked with workshop"), "{met}");
    booth.until_newest("kestrel over the quay");
    assert!(relay.home().files_with(&words).is_empty(), "the relay can read it");
    let findings = String::from_utf8(booth.service.run_with(&["doctor", "--json"], b"").stdout).expect("text");
    assert!(findings.contains(&format!("https://{} is in use", relay.address())), "{findings}");
    drop(booth);

    // The owner sees how much, and not what.
    assert!(relay.say(&["token", "list"]).contains("0 mailboxes left, 1024 MiB, 30 days  for the van"));
    let mailboxes = relay.say(&["admin", "list"]);
    assert_eq!(mailboxes.lines().count(), 1, "{mailboxes}");
    let left = workshop.run(&["relay", "remove", "--yes"]);
    assert_eq!(left, "Left the relay; what lay there is erased.\n");
    assert!(relay.say(&["admin", "list"]).is_empty());
    van.until(|own| own.run(&["relay"]).contains("the relay does not know the key of this device"));
}

/// Nothing is lost that the devices have: what came after the copy was made is told again.
#[test]
fn a_relay_whose_machine_is_lost_comes_back_from_its_copy() {
    let relay = Relay::start();
    let (workshop, van) = pair();
    workshop.run(&["relay", "set", &relay.invitation()]);
    let answers = format!("{} answers", relay.address());
    van.until(|own| own.run(&["sync", "status"]).contains(&answers));
    let van = cut_off(van, "van");
    let workshop = cut_off(workshop, "workshop");
    workshop.run(&["add", "Lamp 7"]);
    van.until_newest("Lamp 7");
    let copy = relay.backup();
    assert!(copy.contains("CREATE TABLE `mailboxes`") && !copy.contains("Lamp 7"), "{copy}");
    let key = std::fs::read(relay.home().path().join("relay/relay.pem")).expect("its key");
    workshop.run(&["add", "Gel 201"]);
    van.until_newest("Gel 201");

    let address = relay.address().to_owned();
    drop(relay);
    van.run(&["add", "Load-in 14:30"]);
    workshop.run(&["add", "Ferry at 06:40"]);
    let relay = Relay::restored(&address, &key, &copy);
    for own in [&workshop, &van] {
        own.until(|own| own.list().len() == 4);
    }
    assert_eq!(workshop.shown(), van.shown());
    assert_eq!(relay.say(&["admin", "list"]).lines().count(), 1);
    let said = [workshop.run(&["relay"]), van.run(&["relay"])].concat();
    assert!(said.contains("it has gone back to an earlier time"), "{said}");
}
