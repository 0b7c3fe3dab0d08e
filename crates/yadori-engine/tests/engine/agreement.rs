//! Random work on three linked devices, through what a person can do, with crashes: in the end all show the same. Once over
//! connections, and once by way of a relay alone, which is away, is brought back from a copy, and lies.
//!
//! `SEED=7` does one seed again, `OPERATIONS=3000` does more of it.

use crate::relayed::Relay;
use crate::support::{Device, names};
use std::collections::BTreeMap;
use yadori_core::merge::State;
use yadori_core::shared::Item;
use yadori_core::sharing::Policy;
use yadori_core::{ClipId, MillisSinceEpoch};
use yadori_engine::clock::now;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::keeping::drawers::Shown;
use yadori_engine::moving::export::{Form, Selection};
use yadori_engine::retention::delete::Slice;

/// A generator of numbers that is the same everywhere (SplitMix64, Steele et al. 2014).
struct TestRng(u64);

impl TestRng {
    fn below(&mut self, limit: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        ((z ^ (z >> 31)) % limit.max(1) as u64) as usize
    }
}

/// Few words, so that the same come up again and again, by every way.
const WORDS: [&str; 10] =
    ["Lamp 7", "Gel 202", "Load-in 14:30", "Cue 12", "The van", "lamp 7", "Row F", "Dimmer 3", "Ferry", "Moth"];

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// Something that a person does. That it cannot be done now (there is no such clip, nothing to undo) is an answer too.
async fn work(device: &mut Device, rng: &mut TestRng) -> String {
    let clips = device.list().await;
    let clip = clips.get(rng.below(clips.len())).map(|clip| clip.record.id.to_string()).unwrap_or_default();
    let word = WORDS[rng.below(WORDS.len())];
    let engine = device.engine.clone();
    let said = |done: Result<(), String>| done.err().map(|why| format!(" ({why})")).unwrap_or_default();
    macro_rules! done {
        ($what:expr, $outcome:expr) => {
            format!("{}{}", $what, said($outcome.await.map(drop).map_err(|error| error.to_string())))
        };
    }
    match rng.below(28) {
        0..=4 => {
            device.copy(word).await;
            format!("copy {word}")
        }
        5..=6 => {
            let copied_at = Some(MillisSinceEpoch(now().0 - 1_000 * rng.below(100_000) as u64));
            let new = NewClip { copied_at, title: Some("earlier".into()), ..NewClip::default() };
            done!(format!("add {word} earlier"), engine.keeping.add("text/plain", word.into(), new))
        }
        7..=8 => done!(format!("edit {clip} into {word}"), engine.keeping.edit(&clip, word.as_bytes(), None)),
        9 => done!(format!("reshape {clip}"), engine.keeping.reshape(&clip, &names(&["lower"]), true)),
        10 => done!(format!("pin {clip}"), engine.keeping.pin(&names(&[&clip]), Some(1))),
        11 => done!(format!("unpin {clip}"), engine.keeping.unpin(&names(&[&clip]))),
        12 => {
            let change = ClipChange { title: Some(format!("title {}", rng.below(99))), ..ClipChange::default() };
            done!(format!("name {clip}"), engine.keeping.change_attributes(&clip, &change))
        }
        13 => {
            let change = ClipChange { alias: Some("sig".into()), take_alias: true, ..ClipChange::default() };
            done!(format!("alias {clip}"), engine.keeping.change_attributes(&clip, &change))
        }
        14 => {
            let change = ClipChange { fills: Some(rng.below(2) == 0), ..ClipChange::default() };
            done!(format!("fill {clip}"), engine.keeping.change_attributes(&clip, &change))
        }
        15..=16 => done!(format!("delete {clip}"), engine.retention.delete(&names(&[&clip]), false)),
        17 => done!(format!("delete {clip} for good"), engine.retention.delete(&names(&[&clip]), true)),
        18 => done!("clear", engine.retention.clear(&Slice::default())),
        19..=20 => done!("undo", engine.retention.undo(None)),
        21 => done!("redo", engine.retention.redo(None)),
        22 => done!("restore", engine.retention.restore(&names(&["1"]))),
        23 => done!(format!("put {clip}"), engine.keeping.put_into_drawer("Venues", &names(&[&clip]), None)),
        24 => format!("import {}", import(device).await),
        25 => done!("pause sharing", engine.sync.pause_sync(None)),
        26 => done!("resume sharing", engine.sync.resume_sync()),
        _ => {
            device.crash().await;
            "crash".into()
        }
    }
}

/// What was exported a moment ago, or before something was deleted, is imported again.
async fn import(device: &Device) -> String {
    use std::io::Write;
    let mut export = device.engine.moving.export(&Selection::All, Form::Zip).await.unwrap();
    let mut file = device.engine.moving.incoming_file().unwrap();
    while let Some(piece) = export.pieces.recv().await {
        file.write_all(&piece.unwrap()).unwrap();
    }
    let _ = device.engine.retention.delete(&names(&["1"]), false).await;
    let mut progress = device.engine.moving.import(file);
    let mut last = None;
    while let Some(next) = progress.recv().await {
        last = next.report;
    }
    format!("{last:?}")
}

/// What a person sees: the clips in their order with all that was given to them, pins and drawers in theirs.
async fn seen(device: &Device) -> Vec<String> {
    let mut seen: Vec<String> = device
        .list()
        .await
        .into_iter()
        .map(|clip| {
            let record = clip.record;
            let drawer = record.drawer.as_ref().map(|drawer| drawer.name.clone());
            format!(
                "{} {:?} {:?} {:?} fills {} in {drawer:?} copied {:?}",
                record.text, record.title, record.alias, record.mark, record.fills, record.life.copied
            )
        })
        .collect();
    let pins = device.engine.keeping.pins().await.unwrap();
    seen.extend(pins.into_iter().map(|clip| format!("pinned {}", clip.record.text)));
    let drawer = device.engine.keeping.drawer("Venues").await.map(|drawer| drawer.items).unwrap_or_default();
    seen.extend(drawer.into_iter().map(|item| match item {
        Shown::Clip(clip) => format!("in the drawer {}", clip.record.text),
        Shown::Heading(words) => format!("heading {words}"),
    }));
    seen
}

/// All that a device would tell of its clips.
async fn states(device: &Device) -> BTreeMap<ClipId, State> {
    let (mut after, mut states) = (0, BTreeMap::new());
    let store = &device.engine.history.store;
    loop {
        let batch = store.outgoing_since(after, u64::MAX, usize::MAX, &Policy::default()).await.unwrap();
        states.extend(batch.items.into_iter().filter_map(|item| match item {
            Item::Clip(clip) => Some((clip.id, clip.state)),
            _ => None,
        }));
        if batch.upto == after {
            return states;
        }
        after = batch.upto;
    }
}

/// Holds what is on record against the fold of all that ever was: whatever is done, nothing is unlearnt.
async fn fold(device: &Device, known: &mut BTreeMap<ClipId, State>) -> Result<(), String> {
    for (id, state) in states(device).await {
        let before = known.entry(id).or_default();
        let folded = before.clone().merge(state.clone());
        if folded != state {
            return Err(format!("{}: {id} was {before:#?} and is {state:#?}", device.engine.history.device));
        }
        *before = state;
    }
    Ok(())
}

/// What befalls a relay, or what one does that lies. Each is done to its database, as its owner could.
const MISCHIEF: [(&str, &[&str]); 6] = [
    (
        "takes a copy of all it has",
        &[
            "CREATE OR REPLACE TABLE old_mailboxes AS SELECT * FROM mailboxes",
            "CREATE OR REPLACE TABLE old_outboxes AS SELECT * FROM outboxes",
            "CREATE OR REPLACE TABLE old_envelopes AS SELECT * FROM envelopes",
            "CREATE OR REPLACE TABLE old_contents AS SELECT * FROM contents",
        ],
    ),
    (
        "is brought back from that copy",
        &[
            "REPLACE INTO mailboxes SELECT * FROM old_mailboxes",
            "DELETE FROM outboxes",
            "INSERT INTO outboxes SELECT * FROM old_outboxes",
            "DELETE FROM envelopes",
            "INSERT INTO envelopes SELECT * FROM old_envelopes",
            "DELETE FROM contents",
            "INSERT INTO contents SELECT * FROM old_contents",
        ],
    ),
    ("withholds an envelope", &["DELETE FROM envelopes ORDER BY arrival DESC LIMIT 1"]),
    (
        "cuts one short",
        &["UPDATE envelopes SET sealed = LEFT(sealed, LENGTH(sealed) - 30) ORDER BY arrival DESC LIMIT 1"],
    ),
    (
        "swaps two",
        &["UPDATE envelopes one JOIN envelopes other ON other.mailbox = one.mailbox AND other.arrival <> one.arrival
         SET one.sealed = other.sealed WHERE one.arrival = (SELECT latest FROM mailboxes LIMIT 1)"],
    ),
    (
        "gives an old one again",
        &[
            "INSERT IGNORE INTO envelopes SELECT mailbox, arrival + 100000, outbox, number + 100000, expires_at, sealed
         FROM envelopes ORDER BY arrival LIMIT 1",
            "UPDATE mailboxes SET latest = latest + 100000",
        ],
    ),
];

/// Something befalls the relay.
async fn befall(relay: &mut Relay, rng: &mut TestRng, has_copy: &mut bool) -> String {
    let which = rng.below(MISCHIEF.len() + 2);
    let Some((what, statements)) = MISCHIEF.get(which) else {
        relay.stop().await;
        relay.again().await;
        return "the relay is away for a moment".into();
    };
    if which == 1 && !*has_copy {
        return "nothing to bring back".into();
    }
    *has_copy |= which == 0;
    let pool = relay.database().await;
    for statement in *statements {
        sqlx::query(*statement).execute(&pool).await.unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    pool.close().await;
    format!("the relay {what}")
}

/// Three devices, linked with each other; with a relay, they know each other from there alone.
async fn linked(relay: Option<&Relay>) -> [Device; 3] {
    let mut devices = [Device::new("workshop").await, Device::new("van").await, Device::new("desk").await];
    devices[0].engine.keeping.new_drawer("Venues").await.unwrap();
    if let Some(relay) = relay {
        for device in &mut devices {
            device.cut_off().await;
        }
        devices[0].engine.sync.set_relay(&relay.invitation().await).await.unwrap();
        for joins in &devices[1..] {
            let invitation = devices[0].engine.sync.invite_device(None, true).await.unwrap();
            joins.engine.sync.join_device(&invitation.addresses[0], &invitation.code).await.unwrap();
        }
    } else {
        devices[1].joins(&devices[0]).await;
        devices[2].joins(&devices[0]).await;
    }
    devices
}

async fn run(seed: u64, operations: u64, mut relay: Option<Relay>) {
    let mut rng = TestRng(seed);
    let mut devices = linked(relay.as_ref()).await;
    let mut has_copy = false;
    for device in &devices {
        let is_linked = || async {
            device.engine.overview.status().await.linked == 2
                && !device.engine.keeping.drawers().await.unwrap().is_empty()
        };
        device.until("linked with both", is_linked).await;
    }
    let mut done = Vec::new();
    let mut known = <[BTreeMap<ClipId, State>; 3]>::default();
    for _ in 0..operations {
        if let Some(relay) = relay.as_mut().filter(|_| rng.below(12) == 0) {
            done.push(befall(relay, &mut rng, &mut has_copy).await);
        }
        let which = rng.below(3);
        let what = work(&mut devices[which], &mut rng).await;
        done.push(format!("{which}: {what}"));
        if let Err(unlearnt) = fold(&devices[which], &mut known[which]).await {
            panic!("seed {seed}: {unlearnt}\n{}", done.join("\n"));
        }
    }
    for device in &mut devices {
        device.engine.sync.resume_sync().await.unwrap();
        if relay.is_some() {
            // Whatever befell the relay, it is asked at once.
            device.restart().await;
        }
        let _ = device.engine.sync.sync_now().await;
    }
    let [mut first, mut second, mut third] = devices.each_ref().map(|device| device.engine.history.ledger.listen());
    let agree = async {
        loop {
            let [a, b, c] = [seen(&devices[0]).await, seen(&devices[1]).await, seen(&devices[2]).await];
            if a == b && b == c {
                return;
            }
            // Looked at whenever anything changed on one of them, and once in a while.
            let changed = async {
                tokio::select! { _ = first.recv() => {}, _ = second.recv() => {}, _ = third.recv() => {} }
            };
            let _ = tokio::time::timeout(std::time::Duration::from_millis(200), changed).await;
        }
    };
    if tokio::time::timeout(crate::support::PATIENCE, agree).await.is_err() {
        let mut all = String::new();
        for device in &devices {
            all += &format!("{:#?}\n", seen(device).await);
        }
        panic!(
            "seed {seed}: they do not agree; again with SEED={seed} OPERATIONS={operations}\n{}\n{all}",
            done.join("\n")
        );
    }
    if let Some(mut relay) = relay {
        relay.stop().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_done_on_three_devices_they_agree_in_the_end() {
    let operations = number("OPERATIONS").unwrap_or(120);
    let seeds = number("SEED").map_or(vec![1], |seed| vec![seed]);
    for seed in seeds {
        run(seed, operations, None).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_done_on_three_devices_and_befalls_their_relay_they_agree_in_the_end() {
    let operations = number("OPERATIONS").unwrap_or(60);
    run(number("SEED").unwrap_or(1), operations, Some(Relay::start().await)).await;
}
