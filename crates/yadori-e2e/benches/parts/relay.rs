//! What a relay bears, and what it costs: beside the same inserts by a bare client, and the same bytes through a bare TLS server.

use super::links::{join, round_trips};
use super::{capture, quantile, resident_mib};
use crate::report::Report;
use sqlx::mysql::MySqlPoolOptions;
use sqlx::{AssertSqlSafe, MySqlPool, QueryBuilder};
use std::fs;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::runtime::Runtime;
use tokio::sync::Semaphore;
use tokio::task::JoinSet;
use yadori_e2e::cluster::{Cluster, SERVERS};
use yadori_e2e::home::Home;
use yadori_e2e::relay::Relay;
use yadori_e2e::service::Service;
use yadori_link::envelope::Place;
use yadori_link::group::{Group, GroupSecret};
use yadori_link::identity::Identity;
use yadori_link::relay::tls::RelayTls;
use yadori_link::relay::{PIECE, RelayClient, RelayInvitation};

/// Runs, of which the one in the middle counts.
const RUNS: usize = 5;
/// Devices that ask at the same time.
const AT_ONCE: usize = 32;
/// Envelopes that each leaves; less than a mailbox may ask for at once.
const EACH: u64 = 40;
/// Bytes of an envelope of one short clip.
const ENVELOPE: usize = 1024;
/// Devices that are on, with nothing to do.
const IDLE: usize = 10_000;
/// For how long they wait; less than devices do, so that all come round while it is measured.
const WAIT: Duration = Duration::from_secs(55);
/// For how long they are watched.
const WATCHED: Duration = Duration::from_secs(60);

/// Between two copies of a person.
const PACE: Duration = Duration::from_millis(200);

const OUTBOX: [u8; 16] = [1; 16];
const OTHER: [u8; 16] = [2; 16];

/// How a relay is reached.
#[derive(Clone)]
struct Way {
    address: String,
    pin: Option<[u8; 32]>,
}

impl Way {
    fn to(relay: &Relay) -> Self {
        let invitation: RelayInvitation = relay.invitation().parse().expect("an invitation");
        Self { address: invitation.address, pin: invitation.pin }
    }

    fn client(&self) -> RelayClient {
        RelayClient::new(&self.address, self.pin).expect("an address")
    }

    /// Groups with mailboxes of a gibibyte, put into the database by its owner.
    async fn groups(&self, pool: &MySqlPool, count: usize) -> Vec<Group> {
        let group = |_| {
            let (mut mailbox, secret) = ([0; 16], GroupSecret::random().expect("chance"));
            getrandom::fill(&mut mailbox).expect("chance");
            let (address, pin) = (self.address.clone(), self.pin);
            Group { address, pin, mailbox, epoch: 1, secret, without: Default::default() }
        };
        let groups: Vec<Group> = (0..count).map(group).collect();
        for some in groups.chunks(500) {
            let mut insert =
                QueryBuilder::new("INSERT INTO mailboxes (id, access, token, made_at, used_at, quota_bytes, days) ");
            insert.push_values(some, |mut row, group| {
                row.push_bind(group.mailbox.to_vec()).push_bind(blake3::hash(&group.access_key()).as_bytes().to_vec());
                row.push_bind(vec![0u8; 32]).push_bind(0u64).push_bind(0u64).push_bind(1u64 << 30).push_bind(30u32);
            });
            insert.build().execute(pool).await.expect("mailboxes");
        }
        groups
    }
}

pub fn relay(report: &mut Report, runtime: &Runtime) {
    copies(report, runtime);
    {
        let relay = Relay::start();
        let way = Way::to(&relay);
        let pool = runtime.block_on(database(&relay.database_url()));
        runtime.block_on(envelopes(report, &way, &pool));
        runtime.block_on(bytes(report, &way, &pool));
        runtime.block_on(pool.close());
    }
    {
        let relay = Relay::start();
        let way = Way::to(&relay);
        let pool = runtime.block_on(database(&relay.database_url()));
        runtime.block_on(idle(report, &relay, &way, &pool));
        runtime.block_on(growth(report, &way, &pool));
        runtime.block_on(pool.close());
    }
    nodes(report, runtime);
}

/// A database, of which the relay has most of the connections.
async fn database(url: &str) -> MySqlPool {
    MySqlPoolOptions::new().max_connections(4).connect(url).await.expect("its database")
}

fn middle(mut figures: Vec<f64>) -> f64 {
    figures.sort_by(f64::total_cmp);
    figures[figures.len() / 2]
}

/// Every group has one device that leaves envelopes, one after the other, all at the same time. Gives envelopes a second.
async fn leave(ways: &[Way], groups: &[Group], first: u64) -> f64 {
    let mut devices = JoinSet::new();
    let clients: Vec<RelayClient> = (0..groups.len()).map(|n| ways[n % ways.len()].client()).collect();
    // Their connections are made before.
    for (client, group) in clients.iter().zip(groups) {
        client.usage(group).await.expect("a mailbox");
    }
    let before = Instant::now();
    for (client, group) in clients.into_iter().zip(groups.iter().cloned()) {
        devices.spawn(async move {
            for number in first..first + EACH {
                let place = Place { outbox: OUTBOX, number };
                client.put_envelope(&group, place, vec![7; ENVELOPE]).await.expect("an envelope");
            }
        });
    }
    devices.join_all().await;
    (groups.len() as u64 * EACH) as f64 / before.elapsed().as_secs_f64()
}

async fn envelopes(report: &mut Report, way: &Way, pool: &MySqlPool) {
    sqlx::query("CREATE TABLE bare (no BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, sealed MEDIUMBLOB NOT NULL) ENGINE = InnoDB")
        .execute(pool)
        .await
        .expect("a table");
    let (mut ours, mut bare, mut looks) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..RUNS {
        let groups = way.groups(pool, AT_ONCE).await;
        ours.push(leave(std::slice::from_ref(way), &groups, 1).await);
        let before = Instant::now();
        let mut clients = JoinSet::new();
        for _ in 0..AT_ONCE {
            let pool = pool.clone();
            clients.spawn(async move {
                for _ in 0..EACH {
                    let insert = sqlx::query("INSERT INTO bare (sealed) VALUES (?)").bind(vec![7u8; ENVELOPE]);
                    insert.execute(&pool).await.expect("an insert");
                }
            });
        }
        clients.join_all().await;
        bare.push((AT_ONCE as u64 * EACH) as f64 / before.elapsed().as_secs_f64());
        let mut devices = JoinSet::new();
        let before = Instant::now();
        for group in groups {
            let client = way.client();
            devices.spawn(async move {
                for _ in 0..EACH {
                    let found = client.envelopes(&group, 0, &OTHER, Duration::ZERO).await.expect("what is there").found;
                    assert_eq!(found.len() as u64, EACH);
                }
            });
        }
        devices.join_all().await;
        looks.push((AT_ONCE as u64 * EACH * EACH) as f64 / before.elapsed().as_secs_f64());
    }
    report.add(
        format!("envelopes left at one node by {AT_ONCE} devices at once, each durable, in a second"),
        middle(ours),
        "/s",
        Some(("the same inserts by a bare client", middle(bare))),
        None,
        true,
    );
    report.add("envelopes fetched from one node, in a second", middle(looks), "/s", None, None, false);
}

/// Takes requests to leave a piece, and throws them away.
async fn bare_server(identity: Identity) -> Way {
    let (tls, pin) = (RelayTls::of_identity(&identity).expect("a key"), identity.pin());
    let listener = TcpListener::bind("127.0.0.1:0").await.expect("a port");
    let address = format!("https://{}", listener.local_addr().expect("an address"));
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let tls = tls.clone();
            tokio::spawn(async move {
                let mut stream = tls.take(stream).await.expect("a device");
                let mut buffer = Vec::with_capacity(2 * PIECE);
                while let Ok(1..) = stream.read_buf(&mut buffer).await {
                    let Some(end) = memchr::memmem::find(&buffer, b"\r\n\r\n") else { continue };
                    if buffer.len() < end + 4 + PIECE {
                        continue;
                    }
                    buffer.clear();
                    stream.write_all(b"HTTP/1.1 201 Created\r\ncontent-length: 0\r\n\r\n").await.expect("an answer");
                }
            });
        }
    });
    Way { address, pin: Some(pin) }
}

async fn bytes(report: &mut Report, way: &Way, pool: &MySqlPool) {
    const DEVICES: usize = 4;
    const PIECES: u32 = 16;
    let bare = bare_server(Identity::new().expect("a key")).await;
    let carry = async |way: &Way| {
        let groups = way.groups(pool, DEVICES).await;
        let mut devices = JoinSet::new();
        let before = Instant::now();
        for group in groups {
            let client = way.client();
            devices.spawn(async move {
                for piece in 0..PIECES {
                    client.put_piece(&group, &[1; 32], piece, vec![7; PIECE]).await.expect("a piece");
                }
            });
        }
        devices.join_all().await;
        f64::from(DEVICES as u32 * PIECES) / before.elapsed().as_secs_f64()
    };
    let (mut ours, mut limit) = (Vec::new(), Vec::new());
    for _ in 0..RUNS {
        ours.push(carry(way).await);
        limit.push(carry(&bare).await);
    }
    let limit = middle(limit);
    let least = "a bare TLS server, which keeps nothing";
    report.add("contents left at one node, durable", middle(ours), "MiB/s", Some((least, limit)), None, true);
}

/// A copy on one device, until it can be used on another that it never meets.
fn copies(report: &mut Report, runtime: &Runtime) {
    const COPIES: usize = 200;
    let relay = Relay::start();
    let homes = [Home::new(), Home::of("van")];
    {
        let [workshop, van] = homes.each_ref().map(Service::simulated);
        join(&van, &workshop);
        workshop.run(&["relay", "set", &relay.invitation()]);
        let mut heard = van.events(None);
        while !van.run(&["sync", "status"]).contains("answers") {
            heard.any_within(Duration::from_millis(50));
        }
    }
    for (home, name) in homes.iter().zip(["workshop", "van"]) {
        home.configure_link(name, "", "direct = false");
    }
    let [workshop, van] = homes.each_ref().map(Service::simulated);
    let (mut here, mut there) = (workshop.events(None), van.events(None));
    let mut ours = Vec::with_capacity(COPIES);
    capture(&workshop, &mut here, "first of all");
    there.copied("first of all");
    for n in 0..COPIES {
        let text = format!("lamp {n}: {}", "focus on the lantern table, ".repeat(3).trim_end());
        let before = Instant::now();
        capture(&workshop, &mut here, &text);
        there.copied(&format!("lamp {n}:"));
        ours.push(before.elapsed());
        // At the pace of somebody who copies fast: a mailbox may ask for so much a second only.
        std::thread::sleep(PACE.saturating_sub(before.elapsed()));
    }
    let (mut limit, _) = runtime.block_on(round_trips());
    for share in [0.5, 0.99] {
        report.add(
            format!("a copy here to usable there by way of a relay, p{}", (share * 100.0) as u32),
            quantile(&mut ours, share),
            "ms",
            Some(("a TLS round trip and two durable inserts", quantile(&mut limit, share))),
            (share > 0.9).then_some(300.0),
            false,
        );
    }
}

/// What came in by the interface of this machine itself.
fn carried() -> u64 {
    let all = fs::read_to_string("/proc/net/dev").expect("the interfaces");
    let here = all.lines().find_map(|line| line.trim().strip_prefix("lo:")).expect("this machine itself");
    here.split_whitespace().next().and_then(|bytes| bytes.parse().ok()).expect("a number")
}

/// Processor time of a process, in seconds.
fn processor(pid: u32) -> f64 {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).expect("the process");
    let ticks: Vec<u64> =
        stat.rsplit(") ").next().expect("its figures").split(' ').filter_map(|n| n.parse().ok()).collect();
    // The 14th and 15th field of proc(5); two are before the bracket, and the state is no number.
    (ticks[10] + ticks[11]) as f64 / rustix::param::clock_ticks_per_second() as f64
}

async fn questions(pool: &MySqlPool) -> u64 {
    let asked: (String, String) =
        sqlx::query_as("SHOW GLOBAL STATUS LIKE 'Questions'").fetch_one(pool).await.expect("its status");
    asked.1.parse().expect("a number")
}

/// Devices that are on, on one node, with nothing to do.
async fn idle(report: &mut Report, relay: &Relay, way: &Way, pool: &MySqlPool) {
    let groups = way.groups(pool, IDLE).await;
    let before = resident_mib(relay.pid());
    let mut devices = JoinSet::new();
    // As many connect at once as have time for it.
    let door = Arc::new(Semaphore::new(64));
    for group in groups {
        let (way, door) = (way.clone(), door.clone());
        devices.spawn(async move {
            let client = way.client();
            let coming = door.acquire().await.expect("a way in");
            client.usage(&group).await.expect("a mailbox");
            drop(coming);
            loop {
                let arrivals = client.envelopes(&group, 0, &OUTBOX, WAIT).await.expect("an answer");
                assert!(arrivals.found.is_empty());
            }
        });
    }
    while relay.metric("waiting_devices") < IDLE as u64 {
        assert!(devices.try_join_next().is_none(), "a device gave up");
        tokio::task::yield_now().await;
    }
    let per_device = |figure: f64| figure / IDLE as f64;
    report.add(
        "memory of a node, for each of 10,000 devices that are on",
        per_device((resident_mib(relay.pid()) - before) * 1024.0),
        "KiB",
        None,
        None,
        false,
    );
    let (asked, bytes, spent, since) = (questions(pool).await, carried(), processor(relay.pid()), Instant::now());
    tokio::time::sleep(WATCHED).await;
    let minutes = since.elapsed().as_secs_f64() / 60.0;
    // Devices ask every 110 seconds; here they do twice as often.
    let share = WAIT.as_secs_f64() / 110.0;
    let figures = [
        ("bytes, both ways", (carried() - bytes) as f64, "B/min"),
        ("questions to the database", (questions(pool).await - asked) as f64, "/min"),
        ("processor time of the node", (processor(relay.pid()) - spent) * 1000.0, "ms/min"),
    ];
    for (what, figure, unit) in figures {
        let each = per_device(figure) / minutes * share;
        report.add(format!("an idle device: {what}"), each, unit, None, None, false);
    }
    assert_eq!(relay.metric("requests_failed_total"), 0);
    devices.shutdown().await;
}

/// The same requests, with more and more mailboxes in the database.
async fn growth(report: &mut Report, way: &Way, pool: &MySqlPool) {
    const TIMES: u64 = 100;
    let mut flat: Option<[f64; 2]> = None;
    let mut there: u64 =
        sqlx::query_scalar("SELECT CAST(COUNT(*) AS UNSIGNED) FROM mailboxes").fetch_one(pool).await.expect("a number");
    for mailboxes in [10_000u64, 100_000, 1_000_000] {
        // In the order of their numbers: it is the requests afterwards that are measured.
        let (from, to) = (there + 1, mailboxes);
        if from <= to {
            for statement in [
                format!(
                    "INSERT INTO mailboxes SELECT UNHEX(MD5(seq)), REPEAT('a', 32), REPEAT('t', 32), 0, 0, 1, 0, 400, 1 << 30, 30
                     FROM seq_{from}_to_{to} ORDER BY MD5(seq)"
                ),
                format!(
                    "INSERT INTO envelopes SELECT UNHEX(MD5(seq)), 1, REPEAT('o', 16), 1, 1 << 52, REPEAT('e', 400)
                     FROM seq_{from}_to_{to} ORDER BY MD5(seq)"
                ),
                format!("INSERT INTO outboxes SELECT UNHEX(MD5(seq)), REPEAT('o', 16), 1 FROM seq_{from}_to_{to} ORDER BY MD5(seq)"),
            ] {
                sqlx::query(AssertSqlSafe(statement)).execute(pool).await.expect("mailboxes");
            }
            there = to;
        }
        let groups = way.groups(pool, TIMES as usize).await;
        let client = way.client();
        let (mut left, mut looked) = (Vec::new(), Vec::new());
        for group in &groups {
            let before = Instant::now();
            let place = Place { outbox: OUTBOX, number: 1 };
            client.put_envelope(group, place, vec![7; ENVELOPE]).await.expect("an envelope");
            left.push(before.elapsed());
            let before = Instant::now();
            client.envelopes(group, 0, &OTHER, Duration::ZERO).await.expect("what is there");
            looked.push(before.elapsed());
        }
        let now = [quantile(&mut left, 0.5), quantile(&mut looked, 0.5)];
        let limit = *flat.get_or_insert(now);
        for (what, (now, limit)) in ["leaving an envelope", "fetching it"].iter().zip(now.into_iter().zip(limit)) {
            report.add(
                format!("{what} with {mailboxes} mailboxes, p50"),
                now,
                "ms",
                Some(("with 10,000", limit)),
                Some(1.5),
                true,
            );
        }
    }
}

/// One, two and three nodes before a cluster of three database servers, all on this one machine.
fn nodes(report: &mut Report, runtime: &Runtime) {
    let cluster = Cluster::start();
    let start = |number: usize| {
        let more = ["--plain", "--database-url", &cluster.url(number)].map(str::to_owned);
        Relay::at(Home::bare(), "127.0.0.1:0", &more)
    };
    let relays: Vec<Relay> = (0..SERVERS).map(start).collect();
    let ways: Vec<Way> =
        relays.iter().map(|relay| Way { address: format!("http://{}", relay.address()), pin: None }).collect();
    let pool = runtime.block_on(database(&cluster.url(0)));
    let mut one = None;
    for nodes in 1..=SERVERS {
        let figure = runtime.block_on(async {
            let mut figures = Vec::new();
            for _ in 0..RUNS {
                let groups = ways[0].groups(&pool, AT_ONCE).await;
                figures.push(leave(&ways[..nodes], &groups, 1).await);
            }
            middle(figures)
        });
        let limit = *one.get_or_insert(figure);
        report.add(
            format!("envelopes left at {nodes} of three nodes before one cluster, in a second"),
            figure,
            "/s",
            Some(("one node", limit)),
            None,
            true,
        );
    }
    runtime.block_on(pool.close());
}
