//! What linked devices cost: two services over loopback, each with a database of its own.

use super::{capture, fill, quantile, time};
use crate::bare::{bare_taking_in, file_bare, five_bare_databases, scratch};
use crate::report::Report;
use std::time::{Duration, Instant};
use yadori_api::Invitation;
use yadori_core::merge::{Register, State};
use yadori_core::{DeviceId, Stamp};
use yadori_e2e::faulty_proxy::FaultyProxy;
use yadori_e2e::home::Home;
use yadori_e2e::network::{self, Site};
use yadori_e2e::service::Service;
use yadori_link::connection;
use yadori_link::identity::Identity;
use yadori_link::tls::{Linked, TlsEndpoint};

/// Copies from one device to the other.
const COPIES: usize = 500;

pub fn join(joins: &Service, invites: &Service) {
    let invitation: Invitation = serde_json::from_str(&invites.run(&["device", "invite", "--json"])).expect("a code");
    joins.run(&["device", "join", &invitation.addresses[0], &invitation.code]);
}

pub fn links(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    merges(report);
    let (first, second) = (Home::new(), Home::of("van"));
    let (workshop, van) = (Service::simulated(&first), Service::simulated(&second));
    join(&van, &workshop);
    let (mut limit, mut filed) = runtime.block_on(round_trips());
    let (mut here, mut there) = (workshop.events(None), van.events(None));
    let mut ours = Vec::with_capacity(COPIES);
    for n in 0..COPIES {
        let text = format!("lamp {n}: {}", "focus on the lantern table, ".repeat(3).trim_end());
        let before = Instant::now();
        capture(&workshop, &mut here, &text);
        there.copied(&format!("lamp {n}:"));
        ours.push(before.elapsed());
    }
    let least = "a TLS round trip and two durable inserts";
    for share in [0.5, 0.99] {
        report.add(
            format!("a copy here to usable on the other device, p{}", (share * 100.0) as u32),
            quantile(&mut ours, share),
            "ms",
            Some((least, quantile(&mut limit, share))),
            Some(if share > 0.9 { 8.0 } else { 4.0 }),
            true,
        );
    }
    let limit = Some(("a TLS round trip, and the same rows in two databases", quantile(&mut filed, 0.5)));
    let what = "a copy here to usable on the other device, p50, beside all that must be done";
    report.add(what, quantile(&mut ours, 0.5), "ms", limit, None, true);
    drop((workshop, van));
    if !report.quick {
        on_the_wire(report);
        shapes(report, runtime);
    }
    whole_history(report, runtime);
}

/// Five devices, linked in a star or in a chain.
fn shapes(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    let bare = runtime.block_on(five_bare_databases(200)).as_secs_f64() * 1000.0;
    for (shape, connect) in [("a star", star as fn() -> Option<[Duration; 2]>), ("a chain", chain)] {
        let Some([first, all]) = connect() else { continue };
        for (what, spent) in [("one copy", first), ("200 copies", all)] {
            let millis = spent.as_secs_f64() * 1000.0;
            report.add(
                format!("{what} at one of five devices in {shape} to all of them"),
                millis,
                "ms",
                (what == "200 copies").then_some(("bare programs that file them in five databases, at once", bare)),
                (what == "200 copies" && shape == "a chain").then_some(1_000.0),
                false,
            );
        }
    }
}

fn copies(service: &Service, count: usize, name: &str) {
    let mut events = service.events(None);
    for n in 0..count {
        capture(service, &mut events, &format!("{name} {n}: Fresnel, gel 202, dimmer 14, circuit B"));
    }
}

/// What a small clip costs on the way, and a link on which nothing happens.
fn on_the_wire(report: &mut Report) {
    const CLIPS: usize = 200;
    let (first, second) = (Home::new(), Home::of("van"));
    second.configure_link("van", "", "listen = \"192.0.2.1:0\"");
    let (workshop, van) = (Service::simulated(&first), Service::simulated(&second));
    let invitation: Invitation = serde_json::from_str(&workshop.run(&["device", "invite", "--json"])).expect("a code");
    let road = FaultyProxy::to(&invitation.addresses[0]);
    van.run(&["device", "join", &road.address(), &invitation.code]);
    let mut there = van.events(None);
    copies(&workshop, 1, "first");
    there.copied("first 0");
    let before = road.carried();
    let mut here = workshop.events(None);
    for n in 0..CLIPS {
        capture(&workshop, &mut here, &format!("lamp {n}: Fresnel, gel 202, dimmer 14, circuit B"));
        there.copied(&format!("lamp {n}:"));
    }
    let each = (road.carried() - before) as f64 / CLIPS as f64;
    let text = 48.0;
    report.add(
        "bytes on the wire for a small clip, acknowledged and both ways",
        each,
        "bytes",
        Some(("its text", text)),
        Some(400.0),
        false,
    );
    let before = road.carried();
    let until = Instant::now() + Duration::from_secs(65);
    while there.any_within(until.saturating_duration_since(Instant::now())).is_some() {}
    report.add("bytes on an idle link in 65 seconds", (road.carried() - before) as f64, "bytes", None, None, false);
}

/// Five devices, four of which can be reached by nobody: how long it takes until all have one copy, and 200.
fn star() -> Option<[Duration; 2]> {
    let homes: Vec<Home> = (0..5).map(|n| Home::of(&format!("device{n}"))).collect();
    for (n, home) in homes.iter().enumerate().skip(1) {
        home.configure_link(&format!("device{n}"), "", "listen = \"192.0.2.1:0\"");
    }
    let devices: Vec<Service> = homes.iter().map(Service::simulated).collect();
    for device in &devices[1..] {
        join(device, &devices[0]);
    }
    let mut events: Vec<_> = devices[1..].iter().map(|device| device.events(None)).collect();
    let mut until = |count: usize, name: &str| {
        let before = Instant::now();
        copies(&devices[1], count, name);
        for events in &mut events[1..] {
            events.copied(&format!("{name} {}:", count - 1));
        }
        before.elapsed()
    };
    // The first says that all are connected.
    until(1, "warm");
    Some([until(1, "one"), until(200, "many")])
}

/// Five devices in a row, each of which reaches its neighbours only.
fn chain() -> Option<[Duration; 2]> {
    let networks = network::chain(5)?;
    let sites: Vec<Site> = (0..5).map(|n| Site::new(&networks[n], &format!("device{n}"))).collect();
    for pair in sites.windows(2) {
        let invitation: Invitation =
            serde_json::from_str(&pair[0].run(&["device", "invite", "--json"])).expect("a code");
        let near = |address: &&String| address.starts_with("10.77.");
        // The last of its addresses is the one on the cable to the next.
        let address = invitation.addresses.iter().rfind(near).expect("an address");
        pair[1].run(&["device", "join", address, &invitation.code]);
    }
    let mut events = sites[4].within(|far| far.events(None));
    let mut until = |count: usize, name: &str| {
        let before = Instant::now();
        sites[0].within(|near| copies(near, count, name));
        events.copied(&format!("{name} {}:", count - 1));
        before.elapsed()
    };
    until(1, "warm");
    Some([until(1, "one"), until(200, "many")])
}

/// Merging a million states.
fn merges(report: &mut Report) {
    const STATES: u64 = 1_000_000;
    let state = |n: u64| State {
        copied: Stamp::from_bits(n),
        origin: DeviceId([(n % 3) as u8; 16]),
        copies: 1,
        title: Register::new(Stamp::from_bits(n % 7), n.is_multiple_of(4).then(|| "a title".to_owned())),
        ..State::default()
    };
    let pairs: Vec<(State, State)> = (0..STATES).map(|n| (state(n), state(n.wrapping_mul(31) % STATES))).collect();
    let spent = time(|| {
        pairs.iter().map(|(one, other)| one.clone().merge(other.clone())).filter(|merged| merged.copies > 0).count()
    });
    report.add("merging states", STATES as f64 / spent.as_secs_f64() / 1e6, "million/s", None, None, false);
}

/// What a copy to another device costs at the least; and with all that must be done: it is filed in two databases, one after the
/// other.
pub async fn round_trips() -> (Vec<Duration>, Vec<Duration>) {
    let (scratch, other) = (scratch().await, scratch().await);
    let devices = [Identity::new().expect("a key"), Identity::new().expect("a key")];
    let pins = [devices[0].pin(), devices[1].pin()];
    let [one, two] = devices.map(|identity| {
        let linked = Linked::default();
        linked.set(pins);
        TlsEndpoint::new(std::sync::Arc::new(identity), linked)
    });
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = listener.local_addr().expect("an address");
    let answering = tokio::spawn(async move {
        let mut taken = two.take(listener.accept().await.expect("a connection").0, || false).await.expect("a device");
        while let Ok(said) = connection::receive(&mut taken).await {
            if connection::say(&mut taken, &said).await.is_err() {
                return;
            }
        }
    });
    let stream = tokio::net::TcpStream::connect(address).await.expect("a connection");
    let mut made = one.make(stream, Some(pins[1])).await.expect("a device");
    let (mut spent, mut filed) = (Vec::new(), Vec::new());
    for number in 1..=COPIES as u64 {
        let before = Instant::now();
        for _ in 0..2 {
            sqlx::query("INSERT INTO bare (content) VALUES (?)")
                .bind(vec![7u8; 150])
                .execute(&scratch.pool)
                .await
                .expect("an insert");
        }
        connection::say(&mut made, &[7; 300]).await.expect("an answer");
        connection::receive(&mut made).await.expect("an answer");
        spent.push(before.elapsed());
        let before = Instant::now();
        file_bare(&scratch.pool, number, b"focus on the lantern table").await;
        connection::say(&mut made, &[7; 300]).await.expect("an answer");
        connection::receive(&mut made).await.expect("an answer");
        file_bare(&other.pool, number, b"focus on the lantern table").await;
        filed.push(before.elapsed());
    }
    drop(made);
    answering.abort();
    scratch.end().await;
    other.end().await;
    (spent, filed)
}

/// Ten thousand clips with two hundred pictures to a device that was just linked.
fn whole_history(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    const CLIPS: u64 = 9_800;
    const PICTURES: u32 = 200;
    let (first, second) = (Home::new(), Home::of("van"));
    runtime.block_on(fill(&first.path().join("data/database"), CLIPS));
    let workshop = Service::simulated(&first);
    let posters: Vec<Vec<u8>> = (0..PICTURES).map(|n| yadori_e2e::sample::poster(&format!("poster {n}"))).collect();
    for poster in &posters {
        let headers = [("authorization", workshop.bearer()), ("content-type", "image/png".to_owned())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        assert!(workshop.request("POST", "/clips", &headers, poster).status < 300);
    }
    let van = Service::simulated(&second);
    for service in [&workshop, &van] {
        service.run(&["rules", "set", "count", "off"]);
    }
    let mut events = van.events(None);
    let before = Instant::now();
    join(&van, &workshop);
    loop {
        let state: yadori_api::Sync = van.get("/sync").json();
        if van.status().count == CLIPS + u64::from(PICTURES) && state.elsewhere == 0 {
            break;
        }
        for _ in 0..200 {
            if events.any_within(Duration::from_millis(20)).is_none() {
                break;
            }
        }
    }
    let spent = before.elapsed().as_secs_f64();
    drop((events, workshop, van));
    let bare = bare_taking_in(runtime, CLIPS, 200, &posters);
    report.add(
        "10,000 clips with 200 pictures to a newly linked device",
        spent,
        "s",
        Some(("bare programs that insert its rows and decode its pictures", bare.as_secs_f64())),
        Some(1.5),
        false,
    );
}
