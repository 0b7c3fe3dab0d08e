//! One of the person's devices, as the end-to-end tests of linked devices have them.

use serde_json::{Value, json};
use std::time::{Duration, Instant};
use yadori_api::{Clip, Device, DeviceState, Invitation};
use yadori_e2e::PATIENCE;
use yadori_e2e::faulty_proxy::FaultyProxy;
use yadori_e2e::home::Home;
use yadori_e2e::service::Service;

/// A device of the person.
pub struct Own {
    /// Ends before its home goes.
    pub service: Service,
    pub home: Home,
}

/// Two that are linked.
pub fn pair() -> (Own, Own) {
    let (workshop, van) = (Own::new("workshop"), Own::new("van"));
    van.joins(&workshop);
    (workshop, van)
}

impl Own {
    pub fn new(name: &str) -> Self {
        let home = Home::of(name);
        let service = Service::simulated(&home);
        Self { home, service }
    }

    /// One that nobody can reach: it must reach the others, and does so by the road on which it first came.
    pub fn unreachable(name: &str) -> Self {
        let home = Home::of(name);
        home.configure_link(name, "", "listen = \"192.0.2.1:0\"");
        let service = Service::simulated(&home);
        Self { home, service }
    }

    /// One whose clock is off by this much, as faketime(1) writes it.
    pub fn at(name: &str, off: &str) -> Self {
        let home = Home::of(name);
        let service = Service::at(&home, off);
        Self { home, service }
    }

    /// The same device, after its clock was set.
    pub fn set_to(self, off: &str) -> Self {
        let home = self.killed();
        let service = Service::at(&home, off);
        Self { home, service }
    }

    /// What is said of another device besides its state.
    pub fn notes_of(&self, other: &str) -> String {
        self.devices()
            .iter()
            .find(|device| device.name == other)
            .map(|device| device.notes.iter().map(|note| note.message.as_str()).collect::<Vec<_>>().join("; "))
            .unwrap_or_default()
    }

    pub fn run(&self, arguments: &[&str]) -> String {
        self.service.run(arguments)
    }

    pub fn invite(&self) -> Invitation {
        serde_json::from_str(&self.run(&["device", "invite", "--json"])).unwrap()
    }

    pub fn joins(&self, other: &Self) {
        let invitation = other.invite();
        self.run(&["device", "join", &invitation.addresses[0], &invitation.code]);
        self.until(|own| own.sees(other) == DeviceState::Connected);
    }

    /// Joins another over a road.
    pub fn joins_over(&self, other: &Self) -> FaultyProxy {
        let invitation = other.invite();
        let road = FaultyProxy::to(&invitation.addresses[0]);
        self.run(&["device", "join", &road.address(), &invitation.code]);
        self.until(|own| own.sees(other) == DeviceState::Connected);
        road
    }

    pub fn devices(&self) -> Vec<Device> {
        serde_json::from_str(&self.run(&["device", "list", "--json"])).unwrap()
    }

    pub fn name(&self) -> String {
        self.devices()[0].name.clone()
    }

    pub fn sees(&self, other: &Self) -> DeviceState {
        let name = other.name();
        self.devices().iter().find(|device| device.name == name).map_or(DeviceState::Away, |device| device.state)
    }

    /// Waits, from event to event, until it is as it should be.
    pub fn until(&self, as_it_should_be: impl Fn(&Self) -> bool) {
        let mut events = self.service.events(None);
        let deadline = Instant::now() + PATIENCE;
        while !as_it_should_be(self) {
            assert!(
                Instant::now() < deadline,
                "it did not come to be as it should be: {} clips, {:?}, {:?}",
                self.service.status().count,
                self.devices(),
                self.previews()
            );
            // What is put on a clipboard is no event of the history.
            events.any_within(Duration::from_millis(50));
            // Several changes that came at once are one reason to look.
            while events.any_within(Duration::ZERO).is_some() {}
        }
    }

    pub fn list(&self) -> Vec<Clip> {
        self.service.clips(&["list", "-n", "100"])
    }

    pub fn previews(&self) -> Vec<String> {
        self.list().into_iter().map(|clip| clip.preview).collect()
    }

    pub fn until_newest(&self, preview: &str) {
        self.until(|own| own.list().first().is_some_and(|clip| clip.preview == preview));
    }

    pub fn copy(&self, text: &str) {
        let copied = json!({ "formats": [{ "mime": "text/plain", "text": text }] });
        assert_eq!(self.service.post("/simulated/copy", &copied).status, 204);
    }

    pub fn paste(&self) -> String {
        self.service.get("/simulated/paste?format=text/plain").text()
    }

    /// What a person sees of every clip, but for what is this device's own.
    pub fn shown(&self) -> Vec<Value> {
        let clips: Vec<Value> = serde_json::from_str(&self.run(&["list", "-n", "1000", "--json"])).unwrap();
        let shown = |clip: Value| {
            json!([
                clip["id"],
                clip["preview"],
                clip["title"],
                clip["pinned"],
                clip["drawer"],
                clip["alias"],
                clip["mark"],
                clip["copied_at"],
                clip["size"],
                clip["device"]
            ])
        };
        clips.into_iter().map(shown).collect()
    }

    /// Kills its service; what it has stays.
    pub fn killed(self) -> Home {
        self.service.kill();
        self.home
    }

    /// The device with this home, started again.
    pub fn started(home: Home) -> Self {
        let service = Service::simulated(&home);
        Self { home, service }
    }

    pub fn restarted(self) -> Self {
        Self::started(self.killed())
    }
}
