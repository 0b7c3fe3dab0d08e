//! A relay, as its owner runs it.

use crate::home::Home;
use crate::process::{Process, built};
use rustix::process::Signal;
use std::io::{BufRead, BufReader, Write};
use std::process::{Command, Stdio};

/// A relay that runs.
pub struct Relay {
    process: Process,
    address: String,
    owners: String,
    home: Home,
    more: Vec<String>,
}

impl Relay {
    /// Starts one at any port, with a database of its own.
    ///
    /// # Panics
    /// If it does not start.
    pub fn start() -> Self {
        Self::at(Home::bare(), "127.0.0.1:0", &[])
    }

    /// Starts one of this home, at this address, with more of its options.
    ///
    /// # Panics
    /// If it does not start.
    pub fn at(home: Home, listen: &str, more: &[String]) -> Self {
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

    /// Where devices reach it: a number and a port.
    pub fn address(&self) -> &str {
        &self.address
    }

    /// Its home.
    pub fn home(&self) -> &Home {
        &self.home
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.process.pid()
    }

    /// The URL of its own database.
    ///
    /// # Panics
    /// If it has none.
    pub fn database_url(&self) -> String {
        std::fs::read_to_string(self.home.path().join("relay/database.url")).expect("a database of its own")
    }

    fn command(home: &Home) -> Command {
        let mut command = Command::new(built("yadori-relay"));
        command.arg("--home").arg(home.path().join("relay")).current_dir(home.path());
        command
    }

    /// What a command of its owner says.
    ///
    /// # Panics
    /// If it fails.
    pub fn say(&self, arguments: &[&str]) -> String {
        let output = Self::command(&self.home).args(arguments).output().expect("the program");
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// A copy of all that it keeps, as its owner makes it.
    ///
    /// # Panics
    /// If that fails.
    pub fn backup(&self) -> String {
        self.say(&["backup"])
    }

    /// Starts a relay at another machine's address, with the key of that one and this copy of what it kept.
    ///
    /// # Panics
    /// If it does not start, or the copy is not brought back.
    pub fn restored(address: &str, key: &[u8], copy: &str) -> Self {
        let home = Home::bare();
        std::fs::create_dir(home.path().join("relay")).expect("a folder");
        std::fs::write(home.path().join("relay/relay.pem"), key).expect("its key");
        let relay = Self::at(home, address, &[]);
        let mut command = Self::command(&relay.home);
        let mut restoring = command.arg("restore").stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().expect("it");
        restoring.stdin.take().expect("its input").write_all(copy.as_bytes()).expect("it reads");
        let done = restoring.wait_with_output().expect("its end");
        let said = String::from_utf8_lossy(&done.stdout);
        assert!(done.status.success() && said.starts_with("Brought back. Restart the nodes"), "{said}");
        relay.crash_and_start()
    }

    /// What a person types on their device: it opens one mailbox.
    pub fn invitation(&self) -> String {
        self.say(&["token", "new", "--address", &format!("https://{}", self.address), "--note", "for the van"])
    }

    /// One of its metrics.
    ///
    /// # Panics
    /// If there is none of this name.
    pub fn metric(&self, name: &str) -> u64 {
        let text = self.ask("/metrics");
        let line = text.lines().find_map(|line| line.strip_prefix(&format!("yadori_relay_{name} ")));
        line.unwrap_or_else(|| panic!("no {name} in {text}")).parse().expect("a number")
    }

    /// The status with which it says whether it is ready.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn ready(&self) -> u16 {
        let agent = ureq::Agent::new_with_config(ureq::Agent::config_builder().http_status_as_error(false).build());
        agent.get(format!("{}/readyz", self.owners)).call().expect("an answer").status().as_u16()
    }

    /// What it tells its owner's machines.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn ask(&self, path: &str) -> String {
        ureq::get(format!("{}{path}", self.owners))
            .call()
            .expect("an answer")
            .body_mut()
            .read_to_string()
            .expect("text")
    }

    /// It is killed, and started again at the same address.
    ///
    /// # Panics
    /// If it does not start.
    pub fn crash_and_start(mut self) -> Self {
        self.process.end(Signal::KILL);
        let Self { address, home, process, more, .. } = self;
        drop(process);
        Self::at(home, &address, &more)
    }
}
