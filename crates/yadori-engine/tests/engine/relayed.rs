//! Devices that never meet, and a relay.

use crate::shared::linked;
use crate::support::{Device, names};
use bytes::Bytes;
use tempfile::TempDir;
use yadori_core::MillisSinceEpoch;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::sync::relay::RelayFailureKind;
use yadori_engine::sync::{InviteError, JoinError};
use yadori_link::envelope::{Letter, seal_letter};
use yadori_link::group::{Group, GroupSecret};
use yadori_link::identity::Identity;
use yadori_relay::node::{Config, Node, Tls, invitation};
use yadori_relay::records::{Token, now};

pub struct Relay {
    node: Option<Node>,
    config: Config,
    _home: TempDir,
}

impl Relay {
    pub async fn start() -> Self {
        let home = tempfile::Builder::new().prefix("yadori-relay-").tempdir().unwrap();
        let listen = "127.0.0.1:0".parse().unwrap();
        let path = home.path().to_owned();
        let mut config = Config { home: path, listen, owners: None, database_url: None, tls: Tls::Own };
        let node = Node::start(&config).await.unwrap();
        config.listen = node.address;
        Self { node: Some(node), config, _home: home }
    }

    fn node(&self) -> &Node {
        self.node.as_ref().expect("a node")
    }

    pub async fn stop(&mut self) {
        self.node.take().expect("a node").stop().await;
    }

    pub async fn again(&mut self) {
        self.node = Some(Node::start(&self.config).await.unwrap());
    }

    /// Its database.
    pub async fn database(&self) -> sqlx::MySqlPool {
        let url = std::fs::read_to_string(self.config.home.join("database.url")).unwrap();
        sqlx::MySqlPool::connect(&url).await.unwrap()
    }

    pub async fn invitation(&self) -> String {
        let token = [9; 16];
        let hash = *blake3::hash(&token).as_bytes();
        let known =
            Token { hash, note: String::new(), made_at: now(), mailboxes_left: 1, quota_bytes: 1 << 28, days: 30 };
        self.node().records().add_token(&known).await.unwrap();
        let address = format!("https://{}", self.node().address);
        invitation(&address, &token, self.node().pin.as_ref())
    }
}

/// Two linked devices that have met for the last time: they know a relay.
async fn apart() -> (Device, Device, Relay) {
    let relay = Relay::start().await;
    let (mut workshop, mut van) = linked().await;
    workshop.engine.sync.set_relay(&relay.invitation().await).await.unwrap();
    van.until("told of the relay", || async { van.engine.sync.relay_status().await.is_some_and(|at| at.answers) })
        .await;
    // From now on neither reaches the other.
    workshop.cut_off().await;
    van.cut_off().await;
    (workshop, van, relay)
}

async fn waiting(device: &Device) -> u64 {
    device.engine.sync.relay_status().await.map_or(0, |at| at.waiting)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_done_on_one_device_is_so_on_the_other_though_they_never_meet() {
    let (workshop, mut van, mut relay) = apart().await;
    workshop.copy("Lamp 7").await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    let named = ClipChange { title: Some("Spare lamp".into()), alias: Some("lamp".into()), ..ClipChange::default() };
    van.engine.keeping.change_attributes("1", &named).await.unwrap();
    let has_title = || async {
        let found = workshop.engine.history.find_clip(":lamp").await;
        found.is_ok_and(|(record, _)| record.title.as_deref() == Some("Spare lamp"))
    };
    workshop.until("told of the title", has_title).await;
    // Content that does not travel along: it comes by itself, or when it is wanted.
    for (times, comes) in [(70_000, true), (250_000, false)] {
        let words = Bytes::from("many words ".repeat(times));
        van.engine.keeping.add("text/plain", words.clone(), NewClip::default()).await.unwrap();
        let is_there = || async {
            let Some(clip) = workshop.list().await.into_iter().next() else { return false };
            clip.record.size == words.len() as u64 && clip.record.elsewhere != comes
        };
        workshop.until("told of the long text", is_there).await;
        said_all(&van).await;
        workshop.engine.recalling.recall(&names(&["1"]), &Default::default()).await.unwrap();
        assert_eq!(workshop.pasted().len(), words.len());
    }

    // The relay is away for a while, and the other is killed.
    relay.stop().await;
    workshop.copy("Gel 201").await;
    workshop.engine.retention.delete(&names(&[":lamp"]), false).await.unwrap();
    van.crash().await;
    relay.again().await;
    let agrees =
        || async { van.shown().await.first().is_some_and(|first| first == "Gel 201") && van.list().await.len() == 3 };
    van.until("told of what was done meanwhile", agrees).await;
    // What everybody has does not lie there any more, but for the last letter.
    workshop.until("rid of what was read", || async { waiting(&workshop).await <= 1 }).await;
    let at = workshop.engine.sync.relay_status().await.unwrap();
    assert_eq!((at.lies, at.last_error, at.last_lie), (0, None, None));
    relay.stop().await;
}

/// One is on when the other is off.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn they_need_not_be_on_at_the_same_time() {
    let (mut workshop, mut van, mut relay) = apart().await;
    van.off().await;
    for text in ["one", "two", "three"] {
        workshop.copy(text).await;
    }
    said_all(&workshop).await;
    workshop.off().await;
    van.on().await;
    van.until("told", || async { van.shown().await == ["three", "two", "one"] }).await;
    relay.stop().await;
}

/// What a device does after its home was brought back from a copy has numbers that others have read before.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_device_that_was_brought_back_from_a_copy_is_heard() {
    let (mut workshop, van, mut relay) = apart().await;
    workshop.copy("Lamp 7").await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    said_all(&workshop).await;
    let copy = [
        "SELECT value FROM settings WHERE name = 'relay-state'",
        "SELECT last FROM feed",
        "SELECT acked FROM devices WHERE own = FALSE",
    ];
    let [state, last, acknowledged] = copy.map(|asked| workshop.ask(asked).trim().to_owned());
    workshop.copy("Gel 201").await;
    workshop.copy("Load-in 14:30").await;
    van.until("told of both", || async { van.shown().await.len() == 3 }).await;
    workshop.off().await;
    workshop.execute(&format!(
        "DELETE FROM formats WHERE clip_no IN (SELECT no FROM clips WHERE text <> 'Lamp 7'); DELETE FROM clips WHERE text <> 'Lamp 7';
         UPDATE feed SET last = {last}; UPDATE devices SET acked = {acknowledged} WHERE own = FALSE;
         UPDATE settings SET value = '{state}' WHERE name = 'relay-state'",
    ));
    workshop.on().await;
    workshop.copy("Ferry at 06:40").await;
    let all = ["Ferry at 06:40", "Load-in 14:30", "Gel 201", "Lamp 7"];
    van.until("told of the ferry", || async { van.shown().await == all }).await;
    relay.stop().await;
}

/// A relay that gives what it should not is found out, and nothing of it is taken in.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_relay_that_lies_is_named_and_not_believed() {
    let (workshop, van, mut relay) = apart().await;
    workshop.copy("Lamp 7").await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    let lies = async || {
        let told = [&workshop, &van].map(|device| device.engine.sync.relay_status());
        let [one, two] = told;
        one.await.unwrap().lies + two.await.unwrap().lies
    };
    assert_eq!(lies().await, 0);
    let pool = relay.database().await;
    sqlx::query(
        "INSERT INTO envelopes (mailbox, arrival, outbox, number, expires_at, sealed)
         SELECT mailbox, arrival + 1000, outbox, number + 1000, expires_at, sealed FROM envelopes ORDER BY arrival DESC LIMIT 1",
    )
    .execute(&pool)
    .await
    .unwrap();
    sqlx::query("UPDATE mailboxes SET latest = latest + 1000").execute(&pool).await.unwrap();
    pool.close().await;
    // It is told of the next arrival, and finds the other.
    workshop.copy("Load-in 14:30").await;
    van.until("warned", || async { lies().await == 1 }).await;
    let told = || async { van.shown().await == ["Load-in 14:30", "Lamp 7"] };
    van.until("told all the same", told).await;
    let told = [workshop.engine.sync.relay_status().await.unwrap(), van.engine.sync.relay_status().await.unwrap()];
    let named = told.into_iter().find_map(|at| at.last_lie).unwrap();
    assert!(named.contains("was changed, or comes from elsewhere"), "{named}");

    // What another household has left at the same relay is put into this mailbox.
    let stranger = Identity::new().unwrap();
    let group = Group {
        address: format!("https://{}", relay.node().address),
        pin: None,
        mailbox: [4; 16],
        epoch: 1,
        secret: GroupSecret::random().unwrap(),
        without: Default::default(),
    };
    let letter = Letter {
        now: MillisSinceEpoch(now()),
        feed: [1; 8],
        before: 0,
        upto: 0,
        items: Vec::new(),
        reads: Vec::new(),
        key: None,
    };
    let sealed = seal_letter(&group, &stranger, 1, &letter).unwrap();
    let pool = relay.database().await;
    sqlx::query("UPDATE mailboxes SET latest = latest + 1").execute(&pool).await.unwrap();
    sqlx::query("INSERT INTO envelopes SELECT id, latest, ?, 1, 1 << 60, ? FROM mailboxes")
        .bind(&group.outbox(&stranger.pin())[..])
        .bind(&sealed)
        .execute(&pool)
        .await
        .unwrap();
    pool.close().await;
    workshop.copy("Gel 201").await;
    // Both look at it.
    van.until("warned again", || async { lies().await == 3 }).await;
    van.until("told of the gel", || async { van.shown().await[0] == "Gel 201" }).await;
    relay.stop().await;
}

/// A relay that was brought back from a copy has lost what came since; everything is told again.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_relay_that_forgets_loses_nothing() {
    let (mut workshop, mut van, mut relay) = apart().await;
    workshop.copy("Lamp 7").await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    van.off().await;
    workshop.copy("Gel 201").await;
    said_all(&workshop).await;
    workshop.off().await;
    let pool = relay.database().await;
    for forgets in ["DELETE FROM envelopes", "DELETE FROM outboxes", "UPDATE mailboxes SET latest = 1, bytes = 0"] {
        sqlx::query(forgets).execute(&pool).await.unwrap();
    }
    pool.close().await;
    van.on().await;
    workshop.on().await;
    van.until("told of the gel", || async { van.shown().await == ["Gel 201", "Lamp 7"] }).await;
    let lies = |at: Option<yadori_engine::sync::relay::RelayStatus>| at.is_some_and(|at| at.last_lie.is_some());
    let warned =
        || async { lies(workshop.engine.sync.relay_status().await) || lies(van.engine.sync.relay_status().await) };
    van.until("warned", warned).await;
    relay.stop().await;
}

/// What is changed often while another device is away is told to it once, or a few times.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_outbox_that_has_grown_is_told_anew() {
    let (workshop, mut van, mut relay) = apart().await;
    van.off().await;
    let text = "many words ".repeat(5_000);
    workshop.engine.keeping.add("text/plain", text.clone().into(), NewClip::default()).await.unwrap();
    let mut most = 0;
    for number in 0..60 {
        let title = ClipChange { title: Some(format!("Lamp {number}")), ..ClipChange::default() };
        workshop.engine.keeping.change_attributes("1", &title).await.unwrap();
        said_all(&workshop).await;
        most = most.max(waiting(&workshop).await);
    }
    assert!((10..40).contains(&most) && waiting(&workshop).await < 40, "{most} envelopes for 60 changes");
    van.on().await;
    let has_title = || async {
        let listed = van.list().await;
        listed.first().is_some_and(|clip| clip.record.title.as_deref() == Some("Lamp 59"))
    };
    van.until("told of the last title", has_title).await;
    relay.stop().await;
}

/// After a relay has gone back, what comes has numbers that were there before, and is found all the same.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_comes_with_a_number_from_before_is_found() {
    let (mut workshop, van, mut relay) = apart().await;
    van.copy("Lamp 7").await;
    workshop.until("told of the lamp", || async { workshop.shown().await == ["Lamp 7"] }).await;
    said_all(&workshop).await;
    workshop.off().await;
    van.copy("Gel 201").await;
    said_all(&van).await;
    let pool = relay.database().await;
    for gone_back in
        ["DELETE FROM envelopes WHERE arrival = 1", "UPDATE envelopes SET arrival = 1 ORDER BY arrival DESC LIMIT 1"]
    {
        sqlx::query(gone_back).execute(&pool).await.unwrap();
    }
    pool.close().await;
    workshop.on().await;
    workshop.until("told of the gel", || async { workshop.shown().await == ["Gel 201", "Lamp 7"] }).await;
    relay.stop().await;
}

/// A third device, linked with two that never meet.
async fn with_a_third(workshop: &mut Device, van: &Device, name: &str) -> Device {
    workshop.direct_again().await;
    let mut third = Device::new(name).await;
    third.joins(workshop).await;
    let answers = || async { third.engine.sync.relay_status().await.is_some_and(|at| at.answers) };
    third.until("told of the relay", answers).await;
    let count = workshop.engine.sync.devices().await.unwrap().len();
    let knows = || async { van.engine.sync.devices().await.unwrap().len() == count };
    van.until("told of the third", knows).await;
    workshop.cut_off().await;
    third.cut_off().await;
    third
}

/// Four devices that never meet, and have one clip: a workshop, a van, a shed and a booth.
async fn four() -> ([Device; 4], Relay) {
    let (mut workshop, van, relay) = apart().await;
    let shed = with_a_third(&mut workshop, &van, "shed").await;
    let booth = with_a_third(&mut workshop, &van, "booth").await;
    shed.until("told of the booth", || async { shed.engine.sync.devices().await.unwrap().len() == 4 }).await;
    workshop.copy("Lamp 7").await;
    for device in [&van, &shed, &booth] {
        device.until("told of the lamp", || async { device.shown().await == ["Lamp 7"] }).await;
    }
    ([workshop, van, shed, booth], relay)
}

/// Until a device has put into its outbox all that it has to tell.
async fn said_all(device: &Device) {
    let latest = device.engine.history.ledger.settled().await;
    let posted = || async { device.engine.sync.relay_status().await.is_some_and(|at| at.posted_upto >= latest) };
    device.until("done with telling the relay", posted).await;
}

/// Who is removed reads nothing that comes after; the others find the new key at the relay, even if they were off.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn who_was_removed_gets_nothing_new_from_the_relay() {
    let ([workshop, mut van, shed, booth], mut relay) = four().await;
    van.off().await;
    // One is removed after the other, so that there are two keys to be found.
    let epoch = async |device: &Device| -> Vec<u8> {
        device.ask("SELECT value FROM settings WHERE name = 'relay'").into_bytes()
    };
    let at_first = epoch(&workshop).await;
    workshop.engine.sync.remove_device("shed", false).await.unwrap();
    workshop.copy("Gel 201").await;
    said_all(&workshop).await;
    booth.until("told of the gel", || async { booth.shown().await == ["Gel 201", "Lamp 7"] }).await;
    workshop.engine.sync.remove_device("booth", false).await.unwrap();
    workshop.copy("Load-in 14:30").await;
    said_all(&workshop).await;
    assert_ne!(epoch(&workshop).await, at_first);
    van.on().await;
    let all = ["Load-in 14:30", "Gel 201", "Lamp 7"];
    van.until("told of all", || async { van.shown().await == all }).await;
    van.copy("Ferry at 06:40").await;
    workshop.until("told of the ferry", || async { workshop.shown().await[0] == "Ferry at 06:40" }).await;
    for (removed, knows) in [(&shed, &["Lamp 7"][..]), (&booth, &["Gel 201", "Lamp 7"])] {
        let told = || async {
            let at = removed.engine.sync.relay_status().await;
            at.is_some_and(|at| at.last_error.is_some_and(|error| error.kind == RelayFailureKind::NoMailbox))
        };
        removed.until("told that the key is another one", told).await;
        assert_eq!(removed.shown().await, knows);
    }
    let lies = [workshop.engine.sync.relay_status().await.unwrap(), van.engine.sync.relay_status().await.unwrap()];
    assert_eq!(lies.map(|at| (at.lies, at.last_lie)), [(0, None), (0, None)]);
    relay.stop().await;
}

/// Two devices that are off for each other remove different ones at the same time: both are out, and the two go on.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_are_removed_at_the_same_time_by_two_that_do_not_know_of_it() {
    let ([workshop, mut van, shed, booth], mut relay) = four().await;
    said_all(&van).await;
    relay.stop().await;
    workshop.engine.sync.remove_device("shed", false).await.unwrap();
    van.engine.sync.remove_device("booth", false).await.unwrap();
    // A key that was made and not yet told survives the end of the program.
    van.crash().await;
    workshop.copy("Gel 201").await;
    van.copy("Load-in 14:30").await;
    relay.again().await;
    for device in [&workshop, &van] {
        device.until("told of both", || async { device.shown().await.len() == 3 }).await;
        let removed = || async {
            let known = device.engine.sync.devices().await.unwrap();
            known.iter().filter(|known| ["shed", "booth"].contains(&known.name.as_str())).count() == 0
        };
        device.until("rid of both", removed).await;
    }
    workshop.copy("Ferry at 06:40").await;
    van.until("told of the ferry", || async { van.shown().await[0] == "Ferry at 06:40" }).await;
    for removed in [&shed, &booth] {
        assert!(!removed.shown().await.contains(&"Ferry at 06:40".to_owned()));
    }
    relay.stop().await;
}

/// They have never met, and never do.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_that_cannot_reach_each_other_are_linked_by_way_of_the_relay() {
    let mut relay = Relay::start().await;
    let (mut workshop, mut van, mut booth) =
        (Device::new("workshop").await, Device::new("van").await, Device::new("booth").await);
    for device in [&mut workshop, &mut van, &mut booth] {
        device.cut_off().await;
    }
    assert!(matches!(workshop.engine.sync.invite_device(None, true).await, Err(InviteError::NoRelay)));
    workshop.engine.sync.set_relay(&relay.invitation().await).await.unwrap();
    workshop.copy("Lamp 7").await;
    let replaced = workshop.engine.sync.invite_device(None, true).await.unwrap();
    let invitation = workshop.engine.sync.invite_device(None, true).await.unwrap();
    let [url] = &invitation.addresses[..] else { panic!("{invitation:?}") };
    let over = van.engine.sync.join_device(&replaced.addresses[0], &replaced.code).await;
    assert!(matches!(over, Err(JoinError::NotInvited(_))), "{over:?}");
    // A slip of the pen is one of three tries.
    let wrong = van.engine.sync.join_device(url, &replaced.code).await;
    assert!(matches!(wrong, Err(JoinError::WrongCode)), "{wrong:?}");
    assert!(van.engine.sync.relay_status().await.is_none());
    let met = van.engine.sync.join_device(url, &invitation.code).await.unwrap();
    assert_eq!(met.name, "workshop");

    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    van.copy("Gel 201").await;
    workshop.until("told of the gel", || async { workshop.shown().await == ["Gel 201", "Lamp 7"] }).await;
    // It is over for everybody else.
    let late = booth.engine.sync.join_device(url, &invitation.code).await;
    assert!(matches!(late, Err(JoinError::NotInvited(_))), "{late:?}");
    relay.stop().await;
}

/// Many copies at once are more than a mailbox may ask for: they come a little later, and nobody is blamed.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_burst_of_copies_comes_over_and_the_relay_is_not_blamed() {
    let (workshop, van, mut relay) = apart().await;
    let words = |n: usize| format!("Cue {n}");
    for n in 0..150 {
        let new = NewClip::default();
        workshop.engine.keeping.add("text/plain", words(n).into(), new).await.unwrap();
    }
    van.until("told of all", || async { van.list().await.len() == 150 }).await;
    for device in [&workshop, &van] {
        let at = device.engine.sync.relay_status().await.unwrap();
        assert_eq!((at.lies, at.last_error), (0, None));
    }
    relay.stop().await;
}

/// What the relay refuses was never there: that it does not know it later is no lie.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_letter_that_is_refused_is_not_missed_later() {
    let (workshop, van, mut relay) = apart().await;
    let pool = relay.database().await;
    sqlx::query("UPDATE mailboxes SET quota_bytes = 1").execute(&pool).await.unwrap();
    workshop.copy("Lamp 7").await;
    let is_full = || async {
        let at = workshop.engine.sync.relay_status().await.unwrap();
        at.last_error.is_some_and(|error| error.kind == RelayFailureKind::Full)
    };
    workshop.until("told that it is full", is_full).await;
    sqlx::query("UPDATE mailboxes SET quota_bytes = 1 << 30").execute(&pool).await.unwrap();
    pool.close().await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    assert_eq!(workshop.engine.sync.relay_status().await.unwrap().lies, 0);
    relay.stop().await;
}
