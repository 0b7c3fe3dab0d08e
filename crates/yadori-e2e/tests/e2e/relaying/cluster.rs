//! Three relays before a database of three servers, of which one after the other is killed.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::watch;
use tokio::task::JoinSet;
use tokio::time::error::Elapsed;
use tokio::time::timeout;
use yadori_e2e::PATIENCE;
use yadori_e2e::cluster::{Cluster, SERVERS};
use yadori_e2e::home::Home;
use yadori_e2e::relay::Relay;
use yadori_link::envelope::Place;
use yadori_link::group::{Group, GroupSecret};
use yadori_link::relay::{Arrivals, RelayClient, RelayError, RelayInvitation};

/// Mailboxes, each with two devices that write.
const MAILBOXES: usize = 2;

/// The outboxes of these two.
const OUTBOXES: [[u8; 16]; 2] = [[1; 16], [2; 16]];

/// The number of the last envelope of each outbox.
type Seen = BTreeMap<[u8; 16], u64>;

/// Envelopes that every device leaves at the relays between two mishaps.
const STRETCH: u64 = 15;

/// Before the next relay is asked, when one is not there.
const PAUSE: Duration = Duration::from_millis(50);

/// Longer than any answer takes, but for one that will not come.
const LONG: Duration = Duration::from_secs(20);

fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("chance");
    bytes
}

/// A device that goes to another relay when one fails it.
struct Device {
    relays: Vec<RelayClient>,
    at: usize,
}

impl Device {
    fn new(addresses: &[String], at: usize) -> Self {
        let relays = addresses.iter().map(|address| RelayClient::new(&format!("http://{address}"), None));
        let relays: Vec<RelayClient> = relays.collect::<Result<_, _>>().expect("addresses");
        Self { at: at % relays.len(), relays }
    }

    /// Leaves an envelope at one of the relays.
    async fn put(&mut self, group: &Group, place: Place, sealed: Vec<u8>) {
        loop {
            let asked = timeout(LONG, self.relays[self.at].put_envelope(group, place, sealed.clone())).await;
            if self.settle(asked).await.is_some() {
                return;
            }
        }
    }

    /// What one of the relays has, after this arrival.
    async fn look(&mut self, group: &Group, after: u64) -> Arrivals {
        loop {
            let asked = self.relays[self.at].envelopes(group, after, &[9; 16], Duration::from_secs(1));
            let asked = timeout(LONG, asked).await;
            if let Some(found) = self.settle(asked).await {
                return found;
            }
        }
    }

    /// What a relay answered; or goes to the next one if it cannot serve at the moment.
    async fn settle<T>(&mut self, asked: Result<Result<T, RelayError>, Elapsed>) -> Option<T> {
        match asked {
            Ok(Ok(done)) => return Some(done),
            Ok(Err(RelayError::Refused { kind, detail, retry_after, .. })) => {
                assert!(kind == "away" || kind == "too-many", "{kind}: {detail}");
                tokio::time::sleep(retry_after.unwrap_or_default().min(Duration::from_millis(200))).await;
            }
            Ok(Err(RelayError::Garbled(what))) => panic!("{what}"),
            Ok(Err(RelayError::Address(_) | RelayError::Unreachable(_))) | Err(_) => tokio::time::sleep(PAUSE).await,
        }
        self.at = (self.at + 1) % self.relays.len();
        None
    }
}

/// What an envelope holds: enough to tell it from every other.
fn sealed(outbox: [u8; 16], number: u64) -> Vec<u8> {
    [&outbox[..], &number.to_le_bytes(), &[7; 2000]].concat()
}

/// Leaves one envelope after the other, up to the one that `last` says. Tells how many were acknowledged.
async fn write(
    mut device: Device,
    group: Arc<Group>,
    outbox: [u8; 16],
    mut last: watch::Receiver<u64>,
    done: watch::Sender<u64>,
) {
    for number in 1.. {
        if last.wait_for(|last| number <= *last).await.is_err() {
            return;
        }
        let place = Place { outbox, number };
        device.put(&group, place, sealed(outbox, number)).await;
        if done.send(number).is_err() {
            return;
        }
    }
}

/// Follows a mailbox as a device does that only reads, until it has seen all of `wanted`. Gives what it saw of each outbox.
async fn read(mut device: Device, group: Arc<Group>, mut wanted: watch::Receiver<Option<Seen>>) -> Seen {
    let (mut after, mut seen) = (0, Seen::new());
    loop {
        let enough = |seen: &Seen, wanted: &Option<Seen>| {
            wanted.as_ref().is_some_and(|all| all.iter().all(|(outbox, last)| seen.get(outbox) >= Some(last)))
        };
        if enough(&seen, &wanted.borrow_and_update()) {
            return seen;
        }
        for found in device.look(&group, after).await.found {
            let Place { outbox, number } = found.place;
            assert!(found.arrival > after, "arrival {} after {after}", found.arrival);
            assert_eq!(seen.insert(outbox, number).unwrap_or(0) + 1, number, "one is missing, or came twice");
            assert_eq!(found.envelope, sealed(outbox, number));
            after = found.arrival;
        }
    }
}

/// Returns when every device has left so many envelopes more. Each then has as many before it, so that what comes next
/// finds them at work.
async fn goes_on(written: &mut [watch::Receiver<u64>], last: &watch::Sender<u64>) {
    let goals: Vec<u64> = written.iter().map(|done| *done.borrow() + STRETCH).collect();
    last.send_replace(goals.iter().max().expect("a device") + STRETCH);
    for (done, goal) in written.iter_mut().zip(goals) {
        let reached = timeout(PATIENCE * 2, done.wait_for(|done| *done >= goal)).await;
        reached.expect("devices go on in time").expect("a device that writes");
    }
}

async fn open(relay: &Relay, address: &str, database: &str) -> Arc<Group> {
    let group = Group {
        address: format!("http://{address}"),
        pin: None,
        mailbox: random(),
        epoch: 1,
        secret: GroupSecret::random().expect("chance"),
        without: Default::default(),
    };
    let said =
        relay.say(&["token", "new", "--address", "https://relay.example.org", "--public", "--database-url", database]);
    let invitation: RelayInvitation = said.parse().expect("an invitation");
    let client = RelayClient::new(&group.address, None).expect("an address");
    client.open_mailbox(&invitation.token, &group).await.expect("a mailbox");
    Arc::new(group)
}

#[test]
fn nothing_acknowledged_is_lost_while_relays_and_servers_of_their_database_are_killed() {
    let mut cluster = Cluster::start();
    let start = |number: usize| {
        let more = ["--plain", "--database-url", &cluster.url(number)].map(str::to_owned);
        Relay::at(Home::bare(), "127.0.0.1:0", &more)
    };
    let mut relays: Vec<Relay> = (0..SERVERS).map(start).collect();
    let addresses: Vec<String> = relays.iter().map(|relay| relay.address().to_owned()).collect();
    let runtime =
        tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    let (mut devices, mut readers) = (JoinSet::new(), JoinSet::new());
    let (mut groups, mut written, mut wanted) = (Vec::new(), Vec::new(), Vec::new());
    let last = watch::Sender::new(0);
    for mailbox in 0..MAILBOXES {
        let group = runtime.block_on(open(&relays[mailbox], &addresses[mailbox], &cluster.url(mailbox)));
        for (at, outbox) in OUTBOXES.into_iter().enumerate() {
            let (done, follow) = watch::channel(0);
            let writer = Device::new(&addresses, mailbox + at);
            devices.spawn_on(write(writer, group.clone(), outbox, last.subscribe(), done), runtime.handle());
            written.push(follow);
        }
        let (all, reads) = watch::channel(None);
        let reader = Device::new(&addresses, mailbox + 2);
        readers.spawn_on(read(reader, group.clone(), reads), runtime.handle());
        wanted.push(all);
        groups.push(group);
    }
    runtime.block_on(goes_on(&mut written, &last));

    // A relay, and a server of the database.
    let killed = relays.remove(0).crash_and_start();
    relays.insert(0, killed);
    runtime.block_on(goes_on(&mut written, &last));
    cluster.kill(0);
    runtime.block_on(goes_on(&mut written, &last));
    assert_eq!(relays[0].ready(), 503);
    assert_eq!(relays[2].ready(), 200);

    // A second one. The last cannot know whether the others go on without it, and does nothing.
    cluster.kill(1);
    let status =
        "SELECT variable_value FROM information_schema.global_status WHERE variable_name = 'wsrep_cluster_status'";
    cluster.until("the last one is alone", || cluster.ask(2, status) == "non-Primary");
    let before: Vec<u64> = written.iter().map(|done| *done.borrow()).collect();
    for relay in &relays {
        assert_eq!(relay.ready(), 503);
    }
    let refused = runtime.block_on(async {
        let relay = RelayClient::new(&format!("http://{}", addresses[2]), None).expect("an address");
        relay.put_envelope(&groups[0], Place { outbox: [3; 16], number: 1 }, b"alone".to_vec()).await
    });
    assert!(refused.as_ref().is_err_and(|error| error.is("away")), "{refused:?}");
    let after: Vec<u64> = written.iter().map(|done| *done.borrow()).collect();
    assert_eq!(before, after, "it went on alone");

    // Back again: the one that knows more as it was, the other with an empty disk.
    cluster.bring_back(1);
    cluster.until_ready(1);
    runtime.block_on(goes_on(&mut written, &last));
    cluster.replace(0);
    cluster.until_ready(0);
    runtime.block_on(goes_on(&mut written, &last));
    assert_eq!(relays.iter().map(Relay::ready).collect::<Vec<_>>(), [200; SERVERS]);

    // All that was acknowledged was seen by those who read, once and in its order, and every relay has it.
    runtime.block_on(devices.shutdown());
    let acknowledged: Vec<Seen> = written
        .chunks(OUTBOXES.len())
        .map(|of_mailbox| OUTBOXES.into_iter().zip(of_mailbox).map(|(outbox, done)| (outbox, *done.borrow())).collect())
        .collect();
    for (all, acknowledged) in wanted.iter().zip(&acknowledged) {
        all.send_replace(Some(acknowledged.clone()));
    }
    runtime.block_on(async {
        timeout(PATIENCE, readers.join_all()).await.expect("readers have seen all in time");
        for (group, acknowledged) in groups.iter().zip(&acknowledged) {
            for number in 0..SERVERS {
                let reader = Device::new(&addresses[number..=number], 0);
                let (_, wanted) = watch::channel(Some(acknowledged.clone()));
                timeout(PATIENCE, read(reader, group.clone(), wanted)).await.expect("all of it is there");
            }
        }
    });
}
