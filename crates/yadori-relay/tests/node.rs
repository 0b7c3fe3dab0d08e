//! Nodes with a real database, asked as devices ask them.

use std::path::PathBuf;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tempfile::TempDir;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use yadori_link::envelope::{LARGEST, Place};
use yadori_link::group::{Group, GroupSecret};
use yadori_link::pairing::Side;
use yadori_link::relay::meeting::Meeting;
use yadori_link::relay::{Arrivals, RelayClient, RelayError};
use yadori_relay::node::{Config, Node, Tls, owners_records};
use yadori_relay::records::{Token, now};

/// Longer than anything takes here.
const LONG: Duration = Duration::from_secs(60);

const DAY: u64 = 86_400_000;

struct Relay {
    node: Node,
    home: TempDir,
}

impl Relay {
    async fn start() -> Self {
        let home = tempfile::Builder::new().prefix("yadori-relay-").tempdir().unwrap();
        let node = Node::start(&config(home.path().to_owned(), None)).await.unwrap();
        Self { node, home }
    }

    async fn restart(self) -> Self {
        let Self { node, home } = self;
        node.stop().await;
        let node = Node::start(&config(home.path().to_owned(), None)).await.unwrap();
        Self { node, home }
    }

    /// The URL of its database.
    fn database(&self) -> String {
        std::fs::read_to_string(self.home.path().join("database.url")).unwrap()
    }

    async fn token(&self, quota_bytes: u64) -> [u8; 16] {
        let mut token = [0; 16];
        getrandom::fill(&mut token).unwrap();
        let hash = *blake3::hash(&token).as_bytes();
        let known = Token { hash, note: "van".into(), made_at: now(), mailboxes_left: 1, quota_bytes, days: 30 };
        self.node.records().add_token(&known).await.unwrap();
        token
    }

    fn client(&self) -> RelayClient {
        client_of(&self.node)
    }

    /// A group with a mailbox of so many bytes.
    async fn group(&self, quota_bytes: u64) -> Group {
        let group = group(&self.node);
        let token = self.token(quota_bytes).await;
        self.client().open_mailbox(&token, &group).await.unwrap();
        group
    }
}

fn client_of(node: &Node) -> RelayClient {
    RelayClient::new(&format!("https://{}", node.address), node.pin).unwrap()
}

fn config(home: PathBuf, database_url: Option<String>) -> Config {
    let here = "127.0.0.1:0".parse().unwrap();
    Config { home, listen: here, owners: Some(here), database_url, tls: Tls::Own }
}

fn group(node: &Node) -> Group {
    let mut mailbox = [0; 16];
    getrandom::fill(&mut mailbox).unwrap();
    let address = format!("https://{}", node.address);
    Group {
        address,
        pin: node.pin,
        mailbox,
        epoch: 1,
        secret: GroupSecret::random().unwrap(),
        without: Default::default(),
    }
}

const VAN: [u8; 16] = [1; 16];
const SHED: [u8; 16] = [2; 16];

fn at(outbox: [u8; 16], number: u64) -> Place {
    Place { outbox, number }
}

/// Returns when somebody waits at this node.
async fn is_waited(node: &Node) {
    while node.metrics().waiting.load(Ordering::Relaxed) == 0 {
        tokio::task::yield_now().await;
    }
}

#[tokio::test]
async fn envelopes_wait_in_their_order_until_they_are_removed() {
    let relay = Relay::start().await;
    let (client, group) = (relay.client(), relay.group(1 << 20).await);
    assert_eq!(client.put_envelope(&group, at(VAN, 1), b"one".to_vec()).await.unwrap(), 1);
    assert_eq!(client.put_envelope(&group, at(SHED, 1), b"two".to_vec()).await.unwrap(), 2);
    assert_eq!(client.put_envelope(&group, at(VAN, 7), b"three".to_vec()).await.unwrap(), 3);
    // Sent again, since the answer was lost, it is there once; another in its place is refused.
    assert_eq!(client.put_envelope(&group, at(VAN, 7), b"three".to_vec()).await.unwrap(), 3);
    for number in [7, 4] {
        let taken = client.put_envelope(&group, at(VAN, number), b"other".to_vec()).await.unwrap_err();
        assert!(matches!(&taken, RelayError::Refused { kind, last: Some(7), .. } if kind == "number-taken"), "{taken}");
    }
    let fetch = async |after, own| client.envelopes(&group, after, &own, Duration::ZERO).await.unwrap();
    let words = |Arrivals { found, latest, .. }: Arrivals| {
        let words: Vec<String> = found.into_iter().map(|found| String::from_utf8(found.envelope).unwrap()).collect();
        (words.join(" "), latest)
    };
    assert_eq!(words(fetch(0, SHED).await), ("one three".into(), 3));
    assert_eq!(words(fetch(1, VAN).await), ("two".into(), 3));
    assert_eq!(words(fetch(3, SHED).await), (String::new(), 3));

    let relay = relay.restart().await;
    let client = relay.client();
    client.remove_envelopes(&group, at(VAN, 1)).await.unwrap();
    let Arrivals { found, own, .. } = client.envelopes(&group, 0, &SHED, Duration::ZERO).await.unwrap();
    assert_eq!(own, 1);
    assert_eq!((found.len(), found[0].place, found[0].arrival), (1, at(VAN, 7), 3));
    assert_eq!(client.usage(&group).await.unwrap().bytes, 8);
    client.remove_envelopes(&group, at(VAN, 9)).await.unwrap();
    assert_eq!(client.outboxes(&group).await.unwrap(), [(VAN, 7), (SHED, 1)].into());
    // A number that was used is not used again, though the envelope is gone.
    assert!(client.put_envelope(&group, at(VAN, 7), b"three".to_vec()).await.unwrap_err().is("number-taken"));
    client.erase(&group).await.unwrap();
    assert!(client.usage(&group).await.unwrap_err().is("no-mailbox"));
    relay.node.stop().await;
}

#[tokio::test]
async fn whoever_waits_hears_of_it_by_any_node() {
    let relay = Relay::start().await;
    let other_home = tempfile::tempdir().unwrap();
    let second = Node::start(&config(other_home.path().to_owned(), Some(relay.database()))).await.unwrap();
    let group = relay.group(1 << 20).await;
    for (waits_at, puts_at, number) in [(&relay.node, &relay.node, 1), (&second, &relay.node, 2), (&second, &second, 3)]
    {
        let (waiting, putting) = (client_of(waits_at), client_of(puts_at));
        let wait = async {
            let Arrivals { found, latest, .. } = waiting.envelopes(&group, number - 1, &SHED, LONG).await.unwrap();
            (found[0].place.number, latest)
        };
        let put = async {
            is_waited(waits_at).await;
            putting.put_envelope(&group, at(VAN, number), b"sealed".to_vec()).await.unwrap();
        };
        assert_eq!(tokio::join!(wait, put).0, (number, number));
    }
    // A node that ends lets nobody wait.
    let waiting = client_of(&second);
    let wait = waiting.envelopes(&group, 3, &SHED, LONG);
    let end = async {
        is_waited(&second).await;
        second.stop().await;
    };
    let (waited, ()) = tokio::join!(wait, end);
    assert!(waited.is_ok_and(|Arrivals { found, latest, own }| found.is_empty() && latest == 3 && own == 0));
    relay.node.stop().await;
}

#[tokio::test]
async fn strangers_are_refused_and_nobody_has_more_than_their_share() {
    let relay = Relay::start().await;
    let (client, mine) = (relay.client(), relay.group(1000).await);
    client.put_envelope(&mine, at(VAN, 1), vec![7; 900]).await.unwrap();
    let full = client.put_envelope(&mine, at(VAN, 2), vec![7; 101]).await.unwrap_err();
    assert!(full.is("full") && full.to_string().contains("900 of 1000 bytes"), "{full}");
    let large = client.put_envelope(&mine, at(VAN, 2), vec![7; LARGEST + 1]).await.unwrap_err();
    assert!(matches!(large, RelayError::Refused { .. } | RelayError::Unreachable(_)), "{large}");
    client.put_envelope(&mine, at(VAN, 2), vec![7; 100]).await.unwrap();
    // Sent again, since the answer was lost, it needs no more room.
    client.put_envelope(&mine, at(VAN, 2), vec![7; 100]).await.unwrap();

    // Another key, and another mailbox, are refused alike.
    let guessed = Group { secret: GroupSecret::random().unwrap(), ..mine.clone() };
    let elsewhere = Group { mailbox: [9; 16], ..mine.clone() };
    for stranger in [&guessed, &elsewhere] {
        let errors = [
            client.usage(stranger).await.unwrap_err(),
            client.outboxes(stranger).await.unwrap_err(),
            client.envelopes(stranger, 0, &VAN, Duration::ZERO).await.unwrap_err(),
            client.put_envelope(stranger, at(VAN, 3), vec![1]).await.map(drop).unwrap_err(),
            client.remove_envelopes(stranger, at(VAN, 9)).await.unwrap_err(),
            client.pieces(stranger, &[1; 32]).await.map(drop).unwrap_err(),
            client.piece(stranger, &[1; 32], 0).await.map(drop).unwrap_err(),
            client.put_piece(stranger, &[1; 32], 0, vec![1]).await.unwrap_err(),
            client.handover(stranger, &VAN).await.map(drop).unwrap_err(),
            client.change_access(stranger, stranger, &[(VAN, vec![1])]).await.unwrap_err(),
            client.erase(stranger).await.unwrap_err(),
        ];
        assert!(errors.iter().all(|error| error.is("no-mailbox")), "{errors:?}");
    }
    assert_eq!(client.usage(&mine).await.unwrap().bytes, 1000);

    // A token opens one mailbox, once; the same once more is no other.
    let (token, other) = (relay.token(1000).await, group(&relay.node));
    client.open_mailbox(&token, &other).await.unwrap();
    client.open_mailbox(&token, &other).await.unwrap();
    assert!(client.open_mailbox(&token, &group(&relay.node)).await.unwrap_err().is("no-token"));
    assert!(client.open_mailbox(&[8; 16], &group(&relay.node)).await.unwrap_err().is("no-token"));
    // Who tries tokens without end has to wait; who has one does not. Several try at once, so that it is more than a slow machine
    // is granted anew.
    let mut trying = tokio::task::JoinSet::new();
    for several in 0..16u8 {
        let (client, other) = (client_of(&relay.node), other.clone());
        trying.spawn(async move {
            let mut tried = Vec::new();
            for number in 0..8u8 {
                tried.push(client.open_mailbox(&[several * 8 + number; 16], &other).await.unwrap_err());
            }
            tried
        });
    }
    let tried: Vec<RelayError> = trying.join_all().await.into_iter().flatten().collect();
    assert!(tried.iter().all(|error| error.is("no-token") || error.is("too-many")), "{tried:?}");
    assert!(["no-token", "too-many"].iter().all(|kind| tried.iter().any(|error| error.is(kind))), "{tried:?}");
    let taken = Group { secret: GroupSecret::random().unwrap(), ..mine.clone() };
    assert!(client.open_mailbox(&relay.token(1000).await, &taken).await.unwrap_err().is("taken"));

    // Who asks without end has to wait, and nobody else. Several ask at once, so that it is more than a slow machine is granted anew.
    let mut asking = tokio::task::JoinSet::new();
    for _ in 0..16 {
        let (client, mine) = (client_of(&relay.node), mine.clone());
        asking.spawn(async move {
            for _ in 0..125 {
                if let Err(error) = client.usage(&mine).await {
                    return Some(error);
                }
            }
            None
        });
    }
    let refused: Vec<RelayError> = asking.join_all().await.into_iter().flatten().collect();
    assert!(!refused.is_empty() && refused.iter().all(|error| error.is("too-many")), "{refused:?}");
    client.usage(&other).await.unwrap();

    let wrong_pin = RelayClient::new(&format!("https://{}", relay.node.address), Some([5; 32])).unwrap();
    assert!(matches!(wrong_pin.usage(&other).await, Err(RelayError::Unreachable(_))));
    relay.node.stop().await;
}

/// Of many that come at once, by way of two nodes, as many get in as there is room for.
#[tokio::test]
async fn a_quota_holds_when_many_come_at_once() {
    let relay = Relay::start().await;
    let group = relay.group(1000).await;
    let home = tempfile::tempdir().unwrap();
    let second = Node::start(&config(home.path().to_owned(), Some(relay.database()))).await.unwrap();
    let mut coming = tokio::task::JoinSet::new();
    for device in 0..24u8 {
        let (client, group) = (client_of(if device % 2 == 0 { &relay.node } else { &second }).patient(), group.clone());
        coming.spawn(async move {
            loop {
                match client.put_envelope(&group, at([device; 16], 1), vec![7; 100]).await {
                    Ok(_) => return true,
                    Err(error) if error.is("full") => return false,
                    Err(error) => assert!(error.may_pass(), "{error}"),
                }
            }
        });
    }
    assert_eq!(coming.join_all().await.into_iter().filter(|is_in| *is_in).count(), 10);
    assert_eq!(relay.client().usage(&group).await.unwrap().bytes, 1000);
    second.stop().await;
    relay.node.stop().await;
}

/// The first node of a new version changes the tables while the others serve, and all that was kept is there.
#[tokio::test]
async fn tables_are_changed_while_an_older_node_serves() {
    let relay = Relay::start().await;
    let (client, group) = (relay.client(), relay.group(1 << 20).await);
    // As the first version left it. The node that runs is asked for nothing that was not there then.
    let pool = sqlx::MySqlPool::connect(&relay.database()).await.unwrap();
    for undone in ["DROP TABLE meetings, meeting_messages, handovers", "DELETE FROM migrations WHERE version > 1"] {
        sqlx::query(undone).execute(&pool).await.unwrap();
    }
    let (done, mut count) = tokio::sync::watch::channel(0);
    let writing = tokio::spawn({
        let group = group.clone();
        async move {
            for number in 1..=40u64 {
                // As a device does, to which a node that cannot serve at the moment says so.
                while let Err(error) = client.put_envelope(&group, at(VAN, number), vec![7; 300]).await {
                    assert!(error.may_pass(), "{error}");
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
                done.send_replace(number);
            }
        }
    });
    count.wait_for(|count| *count >= 5).await.unwrap();
    let homes = [tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap()];
    let starts = homes.each_ref().map(|home| {
        let config = config(home.path().to_owned(), Some(relay.database()));
        async move { Node::start(&config).await.unwrap() }
    });
    // Two at once, as it happens.
    let [first, second] = starts;
    let (first, second) = tokio::join!(first, second);
    assert!(*count.borrow() < 40, "nothing was left to be done meanwhile");
    writing.await.unwrap();
    for node in [&first, &second] {
        let client = client_of(node);
        // Three nodes have more connections than a database of one's own allows.
        let Arrivals { found, latest, .. } = loop {
            match client.envelopes(&group, 0, &SHED, Duration::ZERO).await {
                Ok(found) => break found,
                Err(error) => assert!(error.may_pass(), "{error}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        };
        let numbers: Vec<u64> = found.iter().map(|found| found.place.number).collect();
        assert_eq!((numbers, latest), ((1..=40).collect(), 40));
    }
    let there = Group { address: format!("https://{}", second.address), pin: second.pin, ..group };
    let meeting = Meeting::open(&there, 60).await.unwrap();
    assert_eq!(meeting.free_line().await.unwrap(), 0);
    pool.close().await;
    first.stop().await;
    second.stop().await;
    relay.node.stop().await;
}

/// Who was removed from the group is let in no more; for whom something was left, finds it by the old key.
#[tokio::test]
async fn another_key_is_left_for_those_who_have_the_old_one() {
    let relay = Relay::start().await;
    let (client, mine) = (relay.client(), relay.group(1000).await);
    let next = mine.with_new_secret([]).unwrap();
    let room = client.change_access(&mine, &next, &[(VAN, vec![7; 1001])]).await.unwrap_err();
    assert!(room.is("full"), "{room}");
    client.usage(&mine).await.expect("nothing to be changed");

    let left = [(VAN, b"for the van".to_vec()), (SHED, b"for the shed".to_vec())];
    client.change_access(&mine, &next, &left).await.unwrap();
    // Sent again, since the answer was lost, it is done; to anything else the old key is of no use.
    client.change_access(&mine, &next, &left).await.unwrap();
    let another = next.with_new_secret([]).unwrap();
    assert!(client.change_access(&mine, &another, &left).await.unwrap_err().is("no-mailbox"));
    assert!(client.usage(&mine).await.unwrap_err().is("no-mailbox"));
    assert_eq!(client.usage(&next).await.unwrap().bytes, 23);

    assert_eq!(client.handover(&mine, &VAN).await.unwrap(), "for the van");
    assert_eq!(client.handover(&mine, &SHED).await.unwrap(), "for the shed");
    for (key, outbox) in [(&mine, [5; 16]), (&next, VAN), (&another, VAN)] {
        assert!(client.handover(key, &outbox).await.unwrap_err().is("no-mailbox"));
    }
    // The next one is found one after the other, and all expire.
    client.change_access(&next, &another, &[(VAN, b"again".to_vec())]).await.unwrap();
    assert_eq!(client.handover(&mine, &VAN).await.unwrap(), "for the van");
    assert_eq!(client.handover(&next, &VAN).await.unwrap(), "again");
    let too_long = client.change_access(&another, &mine, &[(VAN, vec![7; 50_000])]).await.unwrap_err();
    assert!(too_long.to_string().contains("40960 bytes"), "{too_long}");
    while relay.node.records().expire(now() + 31 * 86_400_000).await.unwrap() {}
    assert!(client.handover(&next, &VAN).await.unwrap_err().is("no-mailbox"));
    assert_eq!(client.usage(&another).await.unwrap().bytes, 0);
    relay.node.stop().await;
}

#[tokio::test]
async fn contents_are_kept_once_and_everything_expires() {
    let relay = Relay::start().await;
    let (client, group) = (relay.client(), relay.group(10_000).await);
    let hash = [4; 32];
    assert_eq!(client.piece(&group, &hash, 0).await.unwrap(), None);
    for _ in 0..2 {
        client.put_piece(&group, &hash, 0, vec![1; 300]).await.unwrap();
        client.put_piece(&group, &hash, 1, vec![2; 200]).await.unwrap();
    }
    assert_eq!(client.pieces(&group, &hash).await.unwrap(), 2);
    assert_eq!(client.piece(&group, &hash, 1).await.unwrap().unwrap(), vec![2; 200]);
    client.put_envelope(&group, at(VAN, 1), vec![3; 100]).await.unwrap();
    assert_eq!(client.usage(&group).await.unwrap().bytes, 600);

    let records = owners_records(relay.home.path(), None).await.unwrap();
    assert!(!records.expire(now() + 29 * DAY).await.unwrap());
    while records.expire(now() + 31 * DAY).await.unwrap() {}
    assert_eq!(client.usage(&group).await.unwrap().bytes, 0);
    assert_eq!(client.pieces(&group, &hash).await.unwrap(), 0);
    assert!(client.envelopes(&group, 0, &SHED, Duration::ZERO).await.unwrap().found.is_empty());
    let known = records.tokens().await.unwrap();
    assert_eq!((known.len(), known[0].mailboxes_left, &known[0].note[..]), (1, 0, "van"));
    assert!(records.remove_token(&known[0].hash).await.unwrap());
    assert_eq!(records.mailboxes(9).await.unwrap().len(), 1);
    records.close().await;
    relay.node.stop().await;
    let none = tempfile::tempdir().unwrap();
    let error = owners_records(none.path(), None).await.err().expect("nothing runs there").to_string();
    assert!(error.contains("does not run"), "{error}");
}

#[tokio::test]
async fn two_that_are_not_linked_meet_by_a_secret_and_every_try_has_a_line_of_its_own() {
    let relay = Relay::start().await;
    let group = relay.group(1 << 20).await;
    let nobody = Group { secret: GroupSecret::random().unwrap(), ..group.clone() };
    assert!(Meeting::open(&nobody, 60).await.unwrap_err().is("no-mailbox"));
    assert!(Meeting::open(&group, 1_000_000).await.unwrap_err().is("bad-request"));
    let meeting = Meeting::open(&group, 60).await.unwrap();
    assert_eq!(meeting.free_line().await.unwrap(), 0);
    let joining = tokio::spawn({
        let meeting = meeting.clone();
        async move {
            meeting.joined(0).await.unwrap();
            let mut invites = meeting.line(0, Side::Invites).unwrap();
            let mut said = vec![0; 100_000];
            invites.read_exact(&mut said).await.unwrap();
            invites.write_all(&said).await.unwrap();
            invites.shutdown().await.unwrap();
            // It is heard that the other ended it, too.
            invites.read_to_end(&mut said).await.unwrap();
            said
        }
    });
    let mut joins = meeting.line(0, Side::Joins).unwrap();
    let said: Vec<u8> = (0..100_000u32).map(|n| n as u8).collect();
    joins.write_all(&said).await.unwrap();
    let mut heard = Vec::new();
    joins.read_to_end(&mut heard).await.unwrap();
    assert_eq!(heard, said);
    drop(joins);
    assert_eq!(joining.await.unwrap(), said);
    // Another try has the next line.
    assert_eq!(meeting.free_line().await.unwrap(), 1);

    // Whoever has another secret hears nothing, and another meeting ends this one.
    let guess = Meeting { secret: [7; 16], ..meeting.clone() };
    assert!(guess.free_line().await.unwrap_err().is("no-meeting"));
    let next = Meeting::open(&group, 60).await.unwrap();
    assert!(meeting.free_line().await.unwrap_err().is("no-meeting"));
    assert_eq!(next.free_line().await.unwrap(), 0);
    // One that is over already does not end it.
    meeting.close(&group).await.unwrap();
    assert_eq!(next.free_line().await.unwrap(), 0);
    next.close(&group).await.unwrap();
    assert!(next.free_line().await.unwrap_err().is("no-meeting"));
    // Or until it is over.
    let next = Meeting::open(&group, 60).await.unwrap();
    assert_eq!(next.free_line().await.unwrap(), 0);
    relay.node.records().expire(now() + 61_000).await.unwrap();
    assert!(next.joined(0).await.unwrap_err().is("no-meeting"));
    relay.node.stop().await;
}

/// Who reads nothing, or sends half of what it announced, keeps nobody else waiting, nor the node from ending.
#[tokio::test]
async fn slow_ones_keep_nobody_waiting() {
    let home = tempfile::Builder::new().prefix("yadori-relay-").tempdir().unwrap();
    let config = Config { tls: Tls::None, ..config(home.path().to_owned(), None) };
    let relay = Relay { node: Node::start(&config).await.unwrap(), home };
    let mut group = group(&relay.node);
    group.address = format!("http://{}", relay.node.address);
    let client = RelayClient::new(&group.address, None).unwrap();
    client.open_mailbox(&relay.token(1 << 24).await, &group).await.unwrap();
    client.put_envelope(&group, at(VAN, 1), vec![7; 3 << 20]).await.unwrap();
    let name = data_encoding::BASE32_NOPAD.encode(&group.mailbox).to_lowercase();
    let key = data_encoding::BASE32_NOPAD.encode(&group.access_key()).to_lowercase();
    let mut slow = Vec::new();
    for number in 0..40 {
        let mut stream = tokio::net::TcpStream::connect(relay.node.address).await.unwrap();
        let (what, announced, said) = match number % 2 {
            0 => ("GET", "envelopes?after=0".to_owned(), 0),
            _ => ("PUT", format!("outboxes/{}/envelopes/{}", "a".repeat(26), number + 1), 5000),
        };
        let head = format!(
            "{what} /v1/mailboxes/{name}/{announced} HTTP/1.1\r\nhost: here\r\nauthorization: Bearer {key}\r\ncontent-length: {said}\r\n\r\n"
        );
        stream.write_all(head.as_bytes()).await.unwrap();
        stream.write_all(&vec![7; said / 2]).await.unwrap();
        slow.push(stream);
    }
    for number in 2..20 {
        client.put_envelope(&group, at(VAN, number), vec![7; 100]).await.unwrap();
    }
    let seen = client.envelopes(&group, 0, &SHED, Duration::ZERO).await.unwrap();
    assert_eq!((seen.latest, seen.found[0].envelope.len()), (19, 3 << 20));
    tokio::time::timeout(LONG, relay.node.stop()).await.expect("an end");
    drop(slow);
}
