//! Devices that never meet, and the relay as its owner runs it.

mod cluster;

use super::own::{Own, pair};
use rustix::process::Signal;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};
use yadori_e2e::home::Home;
use yadori_e2e::process::{Process, built};
use yadori_e2e::service::Service;

/// A relay that runs.
struct Relay {
    process: Process,
    address: String,
    owners: String,
    home: Home,
    more: Vec<String>,
}

impl Relay {
    fn start() -> Self {
        Self::at(Home::bare(), "127.0.0.1:0", &[])
    }

    /// One of this home, at this address, with more of its options.
    fn at(home: Home, listen: &str, more: &[String]) -> Self {
        let mut command = Self::command(&home);
        command.args(["serve", "--listen", listen, "--owners", "127.0.0.1:0"]).args(more).stdout(Stdio::piped());
        let mut process = Process::spawn(command);
        let mut lines = BufReader::new(process.child().stdout.take().expect("its output")).lines();
        let mut said = |before: &str| {
            let line = lines.next().expect("a line").expect("text");
            line.strip_prefix(before).unwrap_or_else(|| panic!("it says {line}")).to_owned()
        };
        let (address, owners) = (said("listening at "), said("metrics and health at "));
        Self { process, address, owners, home, more: more.to_owned() }
    }

    fn command(home: &Home) -> Command {
        let mut command = Command::new(built("yadori-relay"));
        command.arg("--home").arg(home.path().join("relay")).current_dir(home.path());
        command
    }

    /// What a command of its owner says.
    fn say(&self, arguments: &[&str]) -> String {
        let output = Self::command(&self.home).args(arguments).output().expect("the program");
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    fn invitation(&self) -> String {
        self.say(&["token", "new", "--address", &format!("https://{}", self.address), "--note", "for the van"])
    }

    fn metric(&self, name: &str) -> u64 {
        let text = self.ask("/metrics");
        let line = text.lines().find_map(|line| line.strip_prefix(&format!("yadori_relay_{name} ")));
        line.unwrap_or_else(|| panic!("no {name} in {text}")).parse().expect("a number")
    }

    /// The status with which it says whether it is ready.
    fn ready(&self) -> u16 {
        let agent = ureq::Agent::new_with_config(ureq::Agent::config_builder().http_status_as_error(false).build());
        agent.get(format!("{}/readyz", self.owners)).call().expect("an answer").status().as_u16()
    }

    fn ask(&self, path: &str) -> String {
        ureq::get(format!("{}{path}", self.owners))
            .call()
            .expect("an answer")
            .body_mut()
            .read_to_string()
            .expect("text")
    }

    /// It is killed, and started again at the same address.
    fn crash_and_start(mut self) -> Self {
        self.process.end(Signal::KILL);
        let Self { address, home, process, more, .. } = self;
        drop(process);
        Self::at(home, &address, &more)
    }
}

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
    let wrong = invitation.replace(&format!(":{}", relay.address.rsplit_once(':').unwrap().1), ":9");
    let (_, said) = workshop.service.fail(&["relay", "set", &wrong]);
    assert!(said.contains("cannot be reached"), "{said}");
    let set = workshop.run(&["relay", "set", &invitation]);
    assert!(set.contains(&relay.address) && set.contains("of 1 GiB, for 30 days"), "{set}");
    let (_, said) = workshop.service.fail(&["relay", "set", &invitation]);
    assert!(said.contains("there is a relay already") && said.contains("yadori relay remove"), "{said}");
    van.until(|own| own.run(&["sync", "status"]).contains(&format!("{} answers", relay.address)));

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
    assert!(relay.metric("envelopes_received_total") > 0);
    let workshop_home = workshop.killed();
    let words: [&[u8]; 2] = [b"kestrel over", b"heron by"];
    assert!(relay.home.files_with(&words).is_empty(), "the relay can read it");

    // The relay is killed, too.
    let relay = relay.crash_and_start();
    let van = Own { service: Service::simulated(&away), home: away };
    van.until_newest("kestrel over the quay");
    van.run(&["pin", "1"]);
    let workshop = Own { service: Service::simulated(&workshop_home), home: workshop_home };
    workshop.until(|own| own.list().iter().any(|clip| clip.pinned));
    assert_eq!(workshop.shown(), van.shown());
    assert!(relay.home.files_with(&words).is_empty(), "the relay can read it");

    // The owner sees how much, and not what.
    assert!(relay.say(&["token", "list"]).contains("0 mailboxes left, 1024 MiB, 30 days  for the van"));
    let mailboxes = relay.say(&["admin", "list"]);
    assert_eq!(mailboxes.lines().count(), 1, "{mailboxes}");
    let left = workshop.run(&["relay", "remove", "--yes"]);
    assert_eq!(left, "Left the relay; what lay there is erased.\n");
    assert!(relay.say(&["admin", "list"]).is_empty());
    van.until(|own| own.run(&["relay"]).contains("the relay does not know the key of this device"));
}
