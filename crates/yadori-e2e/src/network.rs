//! Networks of their own for devices, joined by cables.

use crate::PATIENCE;
use crate::home::Home;
use crate::process::Process;
use crate::service::{Service, client, command};
use crate::waiting::until_within;
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use std::fs::File;
use std::io::{BufRead, BufReader};
use std::os::fd::AsFd;
use std::panic::resume_unwind;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use yadori_api::{ClipPage, Device, DeviceState};

/// A network that ends with the test.
pub struct Network(Process);

impl Network {
    fn new() -> Option<Self> {
        let mut holder = Command::new("unshare");
        holder
            .args(["--net", "sh", "-c", "echo there; exec sleep infinity"])
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        let mut holder = Process::spawn(holder);
        let mut said = String::new();
        BufReader::new(holder.child().stdout.take().unwrap()).read_line(&mut said).unwrap();
        said.starts_with("there").then_some(Self(holder))
    }

    /// The same command within this network.
    fn within(&self, command: &Command) -> Command {
        let mut within = Command::new("nsenter");
        within.arg("--net").arg(format!("--target={}", self.0.pid())).arg("--");
        within.arg(command.get_program()).args(command.get_args());
        within.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin");
        within.envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))));
        within
    }

    /// Does something in a thread that is in this network: what it opens there stays so.
    fn enter<T: Send>(&self, work: impl FnOnce() -> T + Send) -> T {
        let there = File::open(format!("/proc/{}/ns/net", self.0.pid())).expect("the network");
        let enters = || {
            move_into_link_name_space(there.as_fd(), Some(LinkNameSpaceType::Network)).expect("the network");
            work()
        };
        std::thread::scope(|scope| scope.spawn(enters).join().unwrap_or_else(|panic| resume_unwind(panic)))
    }

    /// Changes something in it, as ip(8) does.
    ///
    /// # Panics
    /// If that does not work.
    pub fn ip(&self, arguments: &str) {
        let told = self.change("ip", &arguments.split(' ').collect::<Vec<_>>());
        assert!(told.is_ok(), "ip {arguments}: {told:?}");
    }

    /// From now on, so many of a hundred packets that come in over a cable are lost, at random; within the device none
    /// is. Tells whether that can be done here: the kernel must have nftables.
    ///
    /// # Panics
    /// If nft(8) is not there.
    #[must_use]
    pub fn lose(&self, of_a_hundred: u32) -> bool {
        let rule = format!("add rule ip lossy input iif != lo numgen random mod 100 < {of_a_hundred} drop");
        let chain = "add chain ip lossy input { type filter hook input priority 0; }";
        ["add table ip lossy", chain, &rule].into_iter().all(|line| self.change("nft", &[line]).is_ok())
    }

    fn change(&self, program: &str, arguments: &[&str]) -> Result<(), String> {
        let mut changing = Command::new(program);
        changing.args(arguments);
        let done = self.within(&changing).output().expect(program);
        if done.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&done.stderr).into_owned()) }
    }
}

/// Networks in a row, with a cable from each to the next: what is in one reaches its neighbours only. Nothing, where
/// none can be made.
///
/// # Panics
/// If they can be made, but not joined.
pub fn chain(count: usize) -> Option<Vec<Network>> {
    let networks: Vec<Network> = (0..count).map_while(|_| Network::new()).collect();
    if networks.len() < count {
        return None;
    }
    for (cable, ends) in networks.windows(2).enumerate() {
        let (near, far) = (format!("cable{cable}"), format!("cable{cable}b"));
        ends[0].ip(&format!("link add {near} type veth peer name {far} netns {}", ends[1].0.pid()));
        for (place, (network, end)) in [(&ends[0], near), (&ends[1], far)].into_iter().enumerate() {
            network.ip("link set lo up");
            network.ip(&format!("addr add 10.77.{cable}.{}/24 dev {end}", place + 1));
            network.ip(&format!("link set {end} up"));
        }
    }
    Some(networks)
}

/// A device in a network.
pub struct Site<'a> {
    network: &'a Network,
    /// Ends before its home goes.
    service: Service,
    home: Home,
}

fn serve(network: &Network, home: &Path) -> Service {
    let mut within = network.within(&command(home, "simulated", None));
    within.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    Service::start(home, within)
}

impl<'a> Site<'a> {
    /// A device of this name, which looks for others around it.
    ///
    /// # Panics
    /// If it does not start.
    pub fn new(network: &'a Network, name: &str) -> Self {
        let home = Home::of(name);
        home.configure_link(name, "", "listen = \"0.0.0.0:0\"\nfind = true");
        let service = serve(network, home.path());
        Self { network, home, service }
    }

    /// Ends it and starts it again.
    ///
    /// # Panics
    /// If it does not start.
    #[must_use]
    pub fn again(self) -> Self {
        let Self { network, home, service } = self;
        drop(service);
        let service = serve(network, home.path());
        Self { network, home, service }
    }

    /// Runs the client.
    ///
    /// # Panics
    /// If it fails.
    pub fn run(&self, arguments: &[&str]) -> String {
        let mut asked = client(self.home.path());
        asked.args(arguments);
        let output = self.network.within(&asked).output().unwrap();
        assert!(output.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Does something with its service, from within its network.
    pub fn within<T: Send>(&self, work: impl FnOnce(&Service) -> T + Send) -> T {
        self.network.enter(|| work(&self.service))
    }

    /// Asks until it is as it should be.
    ///
    /// # Panics
    /// If it does not come to be so.
    pub fn until(&self, as_it_should_be: impl Fn(&Self) -> bool) {
        // A connection that leads nowhere has to be found out first.
        let waiting = (2 * PATIENCE, Duration::from_millis(20));
        until_within(
            waiting,
            "a device is as it should be",
            || as_it_should_be(self),
            || self.run(&["device", "list"]),
        );
    }

    /// Whether a clip is in its history.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn has(&self, preview: &str) -> bool {
        let page: ClipPage = self.within(|service| service.get("/clips?limit=200").json());
        page.clips.iter().any(|clip| clip.preview == preview)
    }

    /// Whether there is a connection with another device.
    ///
    /// # Panics
    /// If it does not answer.
    pub fn is_connected(&self) -> bool {
        let devices: Vec<Device> = serde_json::from_str(&self.run(&["device", "list", "--json"])).unwrap();
        devices.iter().any(|device| device.state == DeviceState::Connected)
    }
}
