//! A start reads the index from its snapshot, and knows what it would know from the records.

use crate::support::{Device, names};
use bytes::Bytes;
use jiff::tz::TimeZone;
use std::fs;
use yadori_core::MillisSinceEpoch;
use yadori_core::search::{Index, Query, When};
use yadori_engine::history::index::Ledger;
use yadori_engine::history::snapshot::Snapshots;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::retention::delete::Slice;

/// More than a snapshot is worth making for.
const CLIPS: usize = 520;

async fn add(device: &Device, text: String, attributes: NewClip) {
    device.engine.keeping.add("text/plain", Bytes::from(text), attributes).await.unwrap();
}

async fn filled() -> Device {
    let device = Device::new("workshop").await;
    for n in 0..CLIPS {
        add(&device, format!("Lamp {n} over the stage, cue {}", n / 7), NewClip::default()).await;
    }
    device
}

/// What an index answers.
fn answers(index: &Index) -> Vec<String> {
    let when = When { now: MillisSinceEpoch(1_000_000), zone: TimeZone::UTC };
    let found = ["lamp 77", "stge", "cue -over", "device:workshop", "\"over the\"", "is:pinned", "renamed", "new"].map(
        |text| {
            let query = Query::parse(text, &when).unwrap();
            format!("{text}: {:?}", index.search(&query, None, 1_000).0)
        },
    );
    [vec![format!("{:?}", index.page(None, 1_000)), format!("{:?}", index.candidates())], found.to_vec()].concat()
}

/// The engine answers as if it had read every clip.
async fn knows_all(device: &Device) {
    let history = &device.engine.history;
    let fresh = Ledger::open(history.store.clone(), &Snapshots::new(None)).await.unwrap();
    let known = answers(&*history.ledger.read().await);
    assert_eq!(known, answers(&*fresh.read().await));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_start_reads_the_snapshot_and_what_has_changed_since() {
    let mut device = filled().await;
    let path = device.snapshot().path;
    device.restart().await;
    assert!(path.exists(), "it is made at the end, and used");
    knows_all(&device).await;
    // Nothing ends in good order from here on.
    add(&device, "a new lamp".into(), NewClip { pin: true, ..NewClip::default() }).await;
    let change = ClipChange { title: Some("renamed".into()), ..ClipChange::default() };
    device.engine.keeping.change_attributes("20", &change).await.unwrap();
    device.engine.retention.delete(&names(&["30", "31"]), false).await.unwrap();
    device.copy("Lamp 7 over the stage, cue 1").await;
    for _ in 0..2 {
        device.crash().await;
        assert!(path.exists(), "the one from before is used, with the changes since");
        knows_all(&device).await;
    }
    // The name of another device is in no change that the index is told of.
    device.execute("INSERT INTO devices (id, name, own) VALUES (REPEAT('s', 16), 'study', FALSE)");
    device.crash().await;
    assert!(!path.exists(), "the names of devices are in it");
    knows_all(&device).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_snapshot_is_thrown_away_when_in_doubt() {
    let mut device = filled().await;
    let path = device.snapshot().path;
    let make = async |device: &mut Device| {
        add(device, format!("new {:?}", std::time::Instant::now()), NewClip::default()).await;
        device.off().await;
        assert!(path.exists());
    };
    make(&mut device).await;
    let whole = fs::read(&path).unwrap();
    device.on().await;
    assert!(path.exists());
    let mut flipped = whole.clone();
    *flipped.last_mut().unwrap() ^= 1;
    let doubtful = [whole[..whole.len() - 1].to_vec(), whole[..20].to_vec(), Vec::new(), b"nonsense".to_vec(), flipped];
    for (nth, content) in doubtful.into_iter().chain([whole]).enumerate() {
        make(&mut device).await;
        // The last is one from before, whole: somebody has brought it back from a copy.
        fs::write(&path, content).unwrap();
        device.on().await;
        assert!(!path.exists(), "{nth}");
        knows_all(&device).await;
    }
    // And the records are from before, the snapshot is not.
    make(&mut device).await;
    device.on().await;
    device.execute("UPDATE settings SET value = REPEAT('0', 32) WHERE name = 'snapshot'");
    device.crash().await;
    assert!(!path.exists());
    // The tombstone of a clip goes before anybody has read that it was deleted.
    make(&mut device).await;
    device.on().await;
    device.engine.retention.delete(&names(&["5"]), false).await.unwrap();
    device.execute(
        "UPDATE clips SET tombstone = TRUE, deleted = 1 << 16, copied = 1, restored = 0 WHERE gone IS NOT NULL",
    );
    let now = yadori_engine::clock::now();
    device.engine.history.store.purge_due(now, &[]).await.unwrap();
    assert_eq!(device.ask("SELECT COUNT(*) FROM clips WHERE tombstone = TRUE"), "0\n");
    device.crash().await;
    assert!(!path.exists());
    knows_all(&device).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_forgotten_for_good_is_in_no_snapshot() {
    let mut device = filled().await;
    let path = device.snapshot().path;
    device.restart().await;
    assert!(path.exists());
    device.engine.retention.delete(&names(&["3"]), true).await.unwrap();
    assert!(!path.exists());
    device.restart().await;
    assert!(path.exists());
    // Nor is what lies in a private drawer, whether it is open or not.
    device.engine.private_drawers.new_drawer("Bank", "lantern under the bridge").await.unwrap();
    add(&device, "a secret lamp".into(), NewClip { drawer: Some("Bank".into()), ..NewClip::default() }).await;
    let before = fs::read(&path).unwrap();
    device.engine.make_snapshot().await;
    assert!(fs::read(&path).unwrap() == before, "none is made while it is open");
    device.engine.private_drawers.close("Bank").await.unwrap();
    assert!(!path.exists(), "it is closed, and what was in it is forgotten");
    device.engine.make_snapshot().await;
    device.crash().await;
    assert!(path.exists());
    knows_all(&device).await; // Of a small history there is none.
    device.engine.retention.clear(&Slice::default()).await.unwrap();
    device.off().await;
    assert!(!path.exists());
}
