//! What other devices tell, taken into a real database: by the batch or one by one, once or twice, in any order.

use crate::support::{of, private_of, try_to_file};
use bytes::Bytes;
use std::collections::BTreeMap;
use yadori_core::amounts::DAY;
use yadori_core::format::Format;
use yadori_core::merge::{InDrawer, Register, State};
use yadori_core::shared::{Body, BodyFormat, Clip, ContentPiece, Device, Drawer, Hash, Item};
use yadori_core::sharing::Policy;
use yadori_core::{ClipId, DeviceId, Kind, Mark, MillisSinceEpoch, Rank, Source, Stamp};
use yadori_store::{AppliedContent, ApplyOutcome, Cursor, CursorAdvance, NewClip, OperationKind, Piece, Store};

const AT: MillisSinceEpoch = MillisSinceEpoch(1_790_000_000_000);
/// Bytes told in one batch, about.
const BATCH: usize = 100_000;

const TELLER: DeviceId = DeviceId([9; 16]);

/// Texts that a careless statement would change.
const TEXTS: [&str; 10] = [
    "Fresnel 3, gel 201",
    "a NUL \0 and a bell \u{7}, a tab \t and a return \r\n",
    "quotes \" and ' and ` and \\ and \\u0041",
    "'); DROP TABLE clips; --",
    "{\"nth\": 1}, ]",
    "🎭 Кукла 人形 \u{2028} e\u{301} \u{202e}",
    " ",
    "\u{fffd}\u{feff}\u{10ffff}",
    "null",
    "%_\\%",
];

/// Numbers that are the same in every run.
///
/// Stamps are of an era, so that each has something new to say.
struct TestRng(u64, u64);

impl TestRng {
    fn below(&mut self, count: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % count
    }

    fn stamp(&mut self) -> Stamp {
        Stamp::from_bits(Stamp::at_start_of(AT).to_bits() + (10 * self.1 + self.below(12)) * 70_001)
    }

    fn register<T: Default + Ord>(&mut self, value: T) -> Register<T> {
        if self.below(3) == 0 { Register::default() } else { Register::new(self.stamp(), value) }
    }

    fn order(&mut self) -> Rank {
        Rank::from_slice(&[b'b' + self.below(20) as u8, b'm']).unwrap()
    }

    fn body(&mut self, words: &str) -> Body {
        let here = |mime: &str, data: Vec<u8>| BodyFormat {
            mime: mime.to_owned(),
            size: data.len() as u64,
            hash: *blake3::hash(&data).as_bytes(),
            data: Some(Bytes::from(data)),
        };
        let mut formats = vec![here("text/plain;charset=utf-8", words.as_bytes().to_vec())];
        if self.below(2) == 0 {
            formats.push(here("text/html", format!("<b>{words}</b>\0").into_bytes()));
        }
        if self.below(4) == 0 {
            formats.push(here("text/rtf", vec![self.below(256) as u8; 20_000]));
        }
        if self.below(4) == 0 {
            let hash: Hash = [self.below(3) as u8; 32];
            formats.push(BodyFormat { mime: "image/png".into(), size: 100_000, hash, data: None });
        }
        let named = (self.below(2) == 0).then(|| TEXTS[self.below(10) as usize].to_owned());
        Body {
            size: formats.iter().map(|format| format.size).sum(),
            pixels: None,
            extent: Some((1, words.chars().count() as u64)),
            text: None,
            caption: named.clone(),
            source: Source { application: named.clone(), window: named, page: None, selected: self.below(2) == 0 },
            formats,
        }
    }

    fn clip(&mut self) -> Item {
        let words = TEXTS[self.below(10) as usize];
        let seldom = |dice: &mut Self, of: u64| if dice.below(of) == 0 { dice.stamp() } else { Stamp::NEVER };
        let alias = (self.below(3) > 0).then(|| ["sig", "van", "x'\"\\"][self.below(3) as usize].to_owned());
        let lies =
            (self.below(2) == 0).then(|| InDrawer { drawer: [self.below(2) as u8 + 1; 16], place: self.order() });
        let pin = (self.below(2) == 0).then(|| self.order());
        let title = (self.below(3) > 0).then(|| TEXTS[self.below(10) as usize].to_owned());
        let mark = (self.below(2) == 0).then(|| Mark::ALL[self.below(Mark::ALL.len() as u64) as usize]);
        let state = State {
            copied: self.stamp(),
            origin: DeviceId([3 + self.below(3) as u8; 16]),
            restored: seldom(self, 6),
            deleted: seldom(self, 5),
            cleared: seldom(self, 5),
            purged: seldom(self, 12),
            copies: 1 + self.below(5) as u32,
            recalls: self.below(5) as u32,
            recalled_at: MillisSinceEpoch(self.below(2) * AT.0),
            title: self.register(title),
            mark: self.register(mark),
            alias: self.register(alias),
            fills: self.register(true),
            pin: self.register(pin),
            drawer: self.register(lies),
        };
        let state = state.settled();
        // One copy, wherever it is told of, has one content.
        let of_copy = || TestRng(state.copied.to_bits() + u64::from(state.origin.0[0]), 0).body(words);
        let body = state.is_live(Stamp::NEVER).then(of_copy);
        Item::Clip(Box::new(Clip { id: ClipId::of(Kind::Text, words.as_bytes()), kind: Kind::Text, state, body }))
    }

    fn item(&mut self) -> Item {
        if self.below(12) > 0 {
            return self.clip();
        }
        Item::Drawer(Drawer {
            id: [self.below(2) as u8 + 1; 16],
            name: TEXTS[self.below(5) as usize].to_owned(),
            place: self.order(),
            changed: self.stamp(),
            removed: self.below(4) == 0,
        })
    }
}

/// A device that is linked.
fn linked(number: u8) -> Device {
    Device { key: [number; 32], linked: Register::new(Stamp::from_bits(1), true), ..Device::default() }
}

/// How far the feed of a device was read.
async fn read_of(store: &Store, device: &Device) -> Option<Cursor> {
    let records = store.devices().await.unwrap().into_iter();
    let known = records.filter_map(|record| Some((record.device?.key, record.read)));
    known.filter(|(key, _)| *key == device.key).find_map(|(_, read)| read)
}

/// Takes in the next batch of a device's feed.
async fn hear_from(store: &Store, device: &Device, items: &[Item]) -> Option<u64> {
    hear(store, device, items).await.change
}

async fn hear(store: &Store, device: &Device, items: &[Item]) -> ApplyOutcome {
    let before = read_of(store, device).await;
    let passage = CursorAdvance { before, after: ([7; 8], before.map_or(1, |(_, upto)| upto + 1)) };
    let heard = store.apply(device.id(), Some(passage), items, &Policy::default, AT).await.unwrap();
    let heard = heard.expect("it is linked, and read up to there");
    for record in &heard.records {
        // What follows from it is the same as what is read, unless a later change of the same batch took its place.
        let read = store.clips(&[record.number]).await.unwrap().remove(0);
        assert!(*record == **read || record.change < read.change, "{record:?} is {read:?}");
    }
    assert!(heard.records.is_sorted_by(|one, next| one.change < next.change));
    heard
}

/// The same, of a device that is linked now if it was not.
async fn apply(store: &Store, items: &[Item]) -> Option<u64> {
    store.note_device(&linked(8)).await.unwrap();
    hear_from(store, &linked(8), items).await
}

/// Everything that it would tell, and what it lacks.
async fn all_of(store: &Store) -> (BTreeMap<String, Item>, Vec<(Hash, u64)>) {
    let (mut after, mut told) = (0, BTreeMap::new());
    loop {
        let batch = store.outgoing_since(after, u64::MAX, BATCH, &Policy::default()).await.unwrap();
        for item in batch.items {
            let name = match &item {
                Item::Clip(clip) => clip.id.to_string(),
                Item::Drawer(drawer) => format!("drawer {}", drawer.id[0]),
                Item::Device(_) => continue,
                other => panic!("{other:?}"),
            };
            assert!(told.insert(name, item).is_none(), "told twice");
        }
        if batch.upto == after || batch.upto == store.latest_change() {
            let mut wanted = store.wanted(u64::MAX).await.unwrap();
            wanted.sort_unstable();
            return (told, wanted);
        }
        after = batch.upto;
    }
}

/// What a store tells of the changes after one must be what another tells, which has just been opened and knows nothing but the
/// records. Gives how many clips that is.
async fn tells_what_the_records_say(store: &Store, url: &str, after: u64) -> usize {
    let told = store.outgoing_since(after, u64::MAX, BATCH, &Policy::default()).await.unwrap();
    let reads = Store::open(url, ("workshop", [1; 16])).await.unwrap();
    let read = reads.outgoing_since(after, told.upto, BATCH, &Policy::default()).await.unwrap();
    assert_eq!((told.upto, &told.items), (read.upto, &read.items));
    told.items.len()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_came_a_moment_ago_is_told_from_memory_as_the_records_say() {
    let records = private_of(1).await;
    let (store, url) = (&records.store, records.database.url());
    // What was filed here.
    let source =
        Source { application: Some("Müller".repeat(90)), window: Some("Gel '202".into()), ..Source::default() };
    let before = store.latest_change();
    let long = "gel 202 ".repeat(5_000);
    for (n, text) in (0u64..).zip(TEXTS.iter().copied().chain([long.as_str()])) {
        let at = Stamp::at_start_of(AT.plus(n));
        let formats = [Format::plain(text), Format::new("text/html", format!("<b>{text}</b>\0").into_bytes())];
        let formats = &formats[..if n % 2 == 0 && text.len() < 100 { 2 } else { 1 }];
        let size = formats.iter().map(|format| format.data.len() as u64).sum();
        let title = (n % 3 == 0).then_some("Spare 'lamp'");
        let clip = NewClip { copied: at, filed: at, size, title, caption: title, shared: true, ..of(text, &source) };
        let mut filing = store.begin_filing().await.unwrap();
        filing.put_content(formats).await.unwrap();
        assert!(filing.commit(&clip, formats).await.unwrap().new);
    }
    assert_eq!(tells_what_the_records_say(store, url, before).await, 11);
    assert_eq!(tells_what_the_records_say(store, url, before + 4).await, 7);
    // It is told from memory: what somebody else does to the records behind its back goes unnoticed; what it does itself does not.
    let gone = Stamp::at_start_of(AT.plus(1_000));
    records.database.ask("UPDATE clips SET tombstone = TRUE, seq = 1000 WHERE no = 1");
    let first = store.outgoing_since(before, before + 1, BATCH, &Policy::default()).await.unwrap().items;
    assert!(matches!(&first[..], [Item::Clip(clip)] if clip.body.is_some()), "{first:?}");
    store.purge(&[2], gone).await.unwrap();
    let first = store.outgoing_since(before, before + 1, BATCH, &Policy::default()).await.unwrap().items;
    assert!(first.is_empty(), "{first:?}");
    assert_eq!(tells_what_the_records_say(store, url, before).await, 10);
    // What others told, in records where there was nothing.
    let records = private_of(1).await;
    let (store, url) = (&records.store, records.database.url());
    store.note_device(&linked(8)).await.unwrap();
    let (mut dice, mut brought) = (TestRng(17, 0), 0);
    for era in 0..80 {
        dice.1 = era;
        let before = store.latest_change();
        let mut items: Vec<Item> = (0..4 - era / 6 % 4).map(|_| dice.item()).collect();
        if era % 2 == 0 {
            for item in &mut items {
                // Copied there.
                let Item::Clip(clip) = item else { continue };
                clip.state.origin = linked(8).id();
            }
        }
        let records = hear(store, &linked(8), &items).await.records;
        brought += records.len();
        tells_what_the_records_say(store, url, before).await;
    }
    assert!(brought > 0, "some of them need not be read");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_batch_of_new_clips_need_not_be_read() {
    let records = private_of(1).await;
    let store = &records.store;
    store.note_device(&linked(8)).await.unwrap();
    let clip = |n: u64, more: Option<BodyFormat>| {
        let words = TEXTS[n as usize];
        let data = Some(Bytes::from_static(words.as_bytes()));
        let plain = BodyFormat {
            mime: "text/plain;charset=utf-8".into(),
            size: words.len() as u64,
            hash: *blake3::hash(words.as_bytes()).as_bytes(),
            data,
        };
        let formats: Vec<BodyFormat> = [Some(plain), more].into_iter().flatten().collect();
        let body = Body {
            size: formats.iter().map(|format| format.size).sum(),
            pixels: None,
            extent: Some((1, 7)),
            text: None,
            caption: Some("Caption".into()),
            source: Source { application: Some("Writer".into()), ..Source::default() },
            formats,
        };
        let state =
            State { copied: Stamp::at_start_of(AT.plus(n)), origin: linked(8).id(), copies: 2, ..State::default() };
        let id = ClipId::of(Kind::Text, words.as_bytes());
        Item::Clip(Box::new(Clip { id, kind: Kind::Text, state, body: Some(body) }))
    };
    let format = |mime: &str, size: usize, data: Option<Bytes>| {
        let hash = data.as_ref().map_or([3; 32], |data| *blake3::hash(data).as_bytes());
        Some(BodyFormat { mime: mime.into(), size: size as u64, hash, data })
    };
    let rtf = Bytes::from(vec![7; 40_000]);
    let items = [
        clip(0, None),
        clip(1, format("text/html", 3, Some(Bytes::from_static(b"<p>")))),
        clip(2, format("image/png", 100_000, None)),
        clip(3, format("text/rtf", rtf.len(), Some(rtf))),
    ];
    let before = store.latest_change();
    let heard = hear(store, &linked(8), &items).await;
    let told: Vec<_> = heard.records.iter().map(|record| (record.change - before, record.elsewhere)).collect();
    assert_eq!(told, [(1, false), (2, false), (3, true), (4, false)]);
    assert!(hear(store, &linked(8), &items).await.records.is_empty(), "there is nothing new");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_batch_comes_to_the_same_as_its_parts_and_twice_is_nothing_new() {
    let (whole, parts) = tokio::join!(private_of(1), private_of(2));
    let mut live = 0;
    let mut folded: BTreeMap<String, State> = BTreeMap::new();
    for seed in 0..40 {
        let mut dice = TestRng(seed, seed);
        let items: Vec<Item> = (0..25).map(|_| dice.item()).collect();
        for item in &items {
            if let Item::Clip(clip) = item {
                let known = folded.remove(&clip.id.to_string()).unwrap_or_default();
                folded.insert(clip.id.to_string(), known.merge(clip.state.clone()));
            }
        }
        apply(&whole.store, &items).await;
        for item in &items {
            apply(&parts.store, std::slice::from_ref(item)).await;
        }
        let told = all_of(&whole.store).await;
        let of_parts = all_of(&parts.store).await;
        for (name, item) in &told.0 {
            assert_eq!(Some(item), of_parts.0.get(name), "seed {seed}");
            // Each is what the law makes of all that was ever told of it. An alias may be another clip's, and a drawer
            // may be removed.
            if let Item::Clip(clip) = item {
                let law = folded[name].clone();
                let (alias, drawer) = (clip.state.alias.clone(), clip.state.drawer.clone());
                assert!(alias >= law.alias || alias.stamp >= law.alias.stamp, "seed {seed}");
                assert!(drawer.stamp >= law.drawer.stamp, "seed {seed}");
                assert_eq!(clip.state, State { alias, drawer, ..law }, "seed {seed}");
            }
        }
        assert_eq!((told.0.len(), &told.1), (of_parts.0.len(), &of_parts.1), "seed {seed}");
        let known: Vec<Item> = told.0.into_values().collect();
        assert_eq!(apply(&whole.store, &known).await, None, "seed {seed}");
        live += known.iter().filter(|item| matches!(item, Item::Clip(clip) if clip.body.is_some())).count();
    }
    assert!(live > 100, "{live} clips were ever in the history");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_that_tell_each_other_everything_come_to_the_same_and_to_an_end() {
    let (one, two) = tokio::join!(private_of(1), private_of(2));
    for seed in 0..40 {
        for (records, side) in [(&one, 0), (&two, 1000)] {
            let mut dice = TestRng(seed + side, seed);
            let items: Vec<Item> = (0..15).map(|_| dice.item()).collect();
            apply(&records.store, &items).await;
        }
        let mut rounds = 0;
        loop {
            let here: Vec<Item> = all_of(&one.store).await.0.into_values().collect();
            let news = apply(&two.store, &here).await;
            let there: Vec<Item> = all_of(&two.store).await.0.into_values().collect();
            if apply(&one.store, &there).await.is_none() && news.is_none() {
                break;
            }
            rounds += 1;
            assert!(rounds < 6, "seed {seed}: there is no end to it");
        }
        // Nobody takes in a clip in the history if nobody tells what it consists of.
        let is_whole =
            |item: &Item| !matches!(item, Item::Clip(clip) if clip.state.is_live(Stamp::NEVER) && clip.body.is_none());
        let (here, there) = (all_of(&one.store).await.0, all_of(&two.store).await.0);
        for (name, item) in here.iter().filter(|(_, item)| is_whole(item)) {
            assert_eq!(Some(item), there.get(name), "seed {seed}");
        }
        assert!(here.values().any(is_whole));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_deleted_is_remembered_until_everybody_has_passed_it() {
    let records = private_of(1).await;
    let store = &records.store;
    let away = linked(9);
    store.note_device(&away).await.unwrap();
    let clip = |copied, deleted, cleared| {
        let state = State { copied, deleted, cleared, copies: 1, ..State::default() };
        let body = state.is_live(Stamp::NEVER).then(|| TestRng(1, 1).body(TEXTS[0]));
        Item::Clip(Box::new(Clip { id: ClipId([1; 16]), kind: Kind::Text, state, body }))
    };
    let (early, late) = (Stamp::at_start_of(AT), Stamp::at_start_of(AT.plus(1)));
    hear_from(store, &away, &[clip(early, Stamp::NEVER, Stamp::NEVER)]).await;
    hear_from(store, &away, &[clip(early, late, Stamp::NEVER)]).await;
    // A day in the bin, then its content goes; months later there is still the trace.
    let months_later = AT.plus(179 * DAY);
    while store.purge_due(months_later, &[]).await.unwrap().is_some() {}
    let trace = store.outgoing_since(0, u64::MAX, BATCH, &Policy::default()).await.unwrap().items;
    let of_clip =
        |items: &[Item]| items.iter().filter(|item| matches!(item, Item::Clip(clip) if clip.body.is_none())).count();
    assert_eq!(of_clip(&trace), 1, "{trace:?}");
    // So what the other still has does not bring it back.
    hear_from(store, &away, &[clip(early, Stamp::NEVER, Stamp::NEVER)]).await;
    assert!(store.clips(&[1]).await.unwrap().iter().all(|record| !record.is_live()));
    // Once it has passed, nothing is left.
    store.acknowledged(away.id(), (store.feed().await.unwrap(), store.latest_change()), months_later).await.unwrap();
    while store.purge_due(months_later, &[]).await.unwrap().is_some() {}
    assert_eq!(of_clip(&store.outgoing_since(0, u64::MAX, BATCH, &Policy::default()).await.unwrap().items), 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_acknowledged_counts_for_the_feed_that_it_is_about_while_the_device_is_linked() {
    let records = private_of(1).await;
    let store = &records.store;
    let away = linked(9);
    store.note_device(&away).await.unwrap();
    let acknowledged = async || store.device(away.id()).await.unwrap().unwrap().acknowledged;
    let before = store.feed().await.unwrap();
    store.acknowledged(away.id(), (before, 40), AT).await.unwrap();
    store.acknowledged(away.id(), (before, 30), AT).await.unwrap();
    assert_eq!(acknowledged().await, 40);
    // What was said before the feed was begun anew is noted late.
    store.begin_new_feed().await.unwrap();
    store.acknowledged(away.id(), (before, 41), AT.plus(1)).await.unwrap();
    let known = store.device(away.id()).await.unwrap().unwrap();
    assert_eq!((known.acknowledged, known.seen_at), (0, Some(AT.plus(1))));
    let feed = store.feed().await.unwrap();
    store.acknowledged(away.id(), (feed, 5), AT).await.unwrap();
    assert_eq!(acknowledged().await, 5);
    // The same after it was let go of.
    store.forget_links().await.unwrap();
    store.acknowledged(away.id(), (feed, 6), AT).await.unwrap();
    assert_eq!(acknowledged().await, 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_deleted_long_ago_cannot_be_read_any_more_and_still_never_comes_back() {
    let records = private_of(1).await;
    let store = &records.store;
    store.hash_tombstones_with([7; 32]);
    let away = linked(9);
    store.note_device(&away).await.unwrap();
    let at = |millis| Stamp::at_start_of(AT.plus(millis));
    let clip = |number: u8, state: State| {
        let body = state.is_live(Stamp::NEVER).then(|| TestRng(number.into(), 1).body(TEXTS[0]));
        Clip { id: ClipId([number; 16]), kind: Kind::Text, state: State { copies: 1, ..state }, body }
    };
    let copied = |stamp| State { copied: stamp, origin: TELLER, ..State::default() };
    let pinned = |stamp, of| State { pin: Register::new(stamp, Some(Rank::between(None, None))), ..copied(of) };
    let tell = async |clips: &[Clip]| {
        let items: Vec<Item> = clips.iter().map(|clip| Item::Clip(Box::new(clip.clone()))).collect();
        hear_from(store, &away, &items).await;
    };
    // Deleted, cleared after it was unpinned, forgotten for good, and cleared; all of that is a day and half a year ago.
    let first: Vec<Clip> = (1..=4).map(|number| clip(number, copied(at(0)))).collect();
    tell(&first).await;
    tell(&[
        clip(1, State { deleted: at(10), ..copied(at(0)) }),
        clip(2, State { pin: Register::new(at(8), None), cleared: at(10), ..copied(at(0)) }),
        clip(3, State { deleted: at(10), purged: at(10), ..copied(at(0)) }),
        clip(4, State { cleared: at(10), ..copied(at(0)) }),
    ])
    .await;
    let half_a_year_later = AT.plus(181 * DAY);
    while store.purge_due(half_a_year_later, &[]).await.unwrap().is_some() {}
    let told = async || {
        let items = store.outgoing_since(0, u64::MAX, BATCH, &Policy::default()).await.unwrap().items.into_iter();
        let clips = items.filter_map(|item| match item {
            Item::Clip(clip) => Some((clip.id, clip.state)),
            _ => None,
        });
        clips.collect::<BTreeMap<ClipId, State>>()
    };
    assert_eq!(told().await, BTreeMap::new());
    // The one that was away is read anew from the beginning.
    assert_eq!(read_of(store, &away).await, None);

    // It tells of what it still has; it has pinned one before that was unpinned, and one before it was cleared.
    tell(&[
        clip(1, copied(at(0))),
        clip(2, pinned(at(5), at(0))),
        clip(3, pinned(at(5), at(0))),
        clip(4, pinned(at(5), at(0))),
    ])
    .await;
    let state_of = async |number: u8| told().await.remove(&ClipId([number; 16])).unwrap();
    for number in 1..=3 {
        let state = state_of(number).await;
        assert!(!state.is_live(Stamp::NEVER), "clip {number}: {state:?}");
    }
    assert!(state_of(3).await.is_purged());
    // What was kept wins over a clear, however late that is heard of.
    assert!(state_of(4).await.is_live(Stamp::NEVER));
    // What was deleted can be copied again.
    tell(&[clip(1, copied(at(20)))]).await;
    assert!(state_of(1).await.is_live(Stamp::NEVER));

    // What was hashed, copied here again and cleared again is hashed again, with all that was known of it before.
    let id = ClipId::of(Kind::Text, b"again");
    let first = Clip { id, ..clip(5, copied(at(0))) };
    let unpinned = State { pin: Register::new(at(8), None), cleared: at(10), ..copied(at(0)) };
    tell(&[first]).await;
    tell(&[Clip { id, ..clip(5, unpinned) }]).await;
    while store.purge_due(half_a_year_later, &[]).await.unwrap().is_some() {}
    let filed = try_to_file(store, "again", AT.plus(20).0, &[]).await.unwrap();
    assert!(told().await[&id].is_live(Stamp::NEVER));
    store.begin_step(OperationKind::Clear, vec![filed.number], at(30)).await.unwrap();
    while store.purge_due(half_a_year_later, &[]).await.unwrap().is_some() {}
    assert_eq!(told().await.get(&id), None);
    tell(&[Clip { id, ..clip(5, pinned(at(5), at(0))) }]).await;
    assert!(!told().await[&id].is_live(Stamp::NEVER));

    // Once nobody is left who could bring anything back, nothing is left.
    let removed = Device { linked: Register::new(Stamp::from_bits(2), false), ..away.clone() };
    store.note_device(&removed).await.unwrap();
    while store.purge_due(half_a_year_later, &[]).await.unwrap().is_some() {}
    apply(store, &[Item::Clip(Box::new(clip(2, copied(at(0)))))]).await;
    assert!(state_of(2).await.is_live(Stamp::NEVER));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_batch_that_is_under_way_when_its_device_is_to_be_read_anew_is_not_taken_in() {
    let records = private_of(1).await;
    let store = &records.store;
    let van = linked(9);
    let item = |number: u8| Item::Clip(Box::new(large(number, true).0));
    let apply_batch =
        async |passage, number| store.apply(van.id(), passage, &[item(number)], &Policy::default, AT).await.unwrap();
    let of = |before, after| Some(CursorAdvance { before, after });
    let (first, second) = (([7; 8], 5), ([7; 8], 9));
    // Nobody is heard who is not linked, not even with what is handed over by hand.
    assert!(apply_batch(of(None, first), 1).await.is_none() && apply_batch(None, 1).await.is_none());
    store.note_device(&van).await.unwrap();
    assert!(apply_batch(of(None, first), 1).await.is_some());
    // What it told before is to be told again, perhaps since more may be taken in now. The batch that was on its way
    // does not stand for that.
    store.share_anew("policy", "{}").await.unwrap();
    assert!(apply_batch(of(Some(first), second), 2).await.is_none());
    assert_eq!(read_of(store, &van).await, None);
    assert!(apply_batch(of(None, first), 1).await.is_some() && apply_batch(of(Some(first), second), 2).await.is_some());
    assert_eq!(read_of(store, &van).await, Some(second));
    // Nor does it when the device is let go of.
    store.forget_links().await.unwrap();
    assert!(apply_batch(of(Some(second), ([7; 8], 10)), 3).await.is_none() && apply_batch(None, 3).await.is_none());
    assert_eq!((read_of(store, &van).await, all_of(store).await.0.len()), (None, 2));
}

/// A clip with content that lies in a blob of its own; `here` if it travels along.
fn large(number: u8, here: bool) -> (Clip, Bytes) {
    let data = Bytes::from(vec![number; 40_000]);
    let size = data.len() as u64;
    let format = BodyFormat {
        mime: "text/rtf".into(),
        size,
        hash: *blake3::hash(&data).as_bytes(),
        data: here.then(|| data.clone()),
    };
    let state = State { copied: Stamp::at_start_of(AT), copies: 1, ..State::default() };
    let words = format!("large {number}");
    let id = ClipId::of(Kind::Text, words.as_bytes());
    let body = Body { size, formats: vec![format], text: Some(words), ..Body::default() };
    (Clip { id, kind: Kind::Text, state, body: Some(body) }, data)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_copy_brings_along_what_another_clip_lacked() {
    let records = private_of(1).await;
    let store = &records.store;
    let (lacking, data) = large(1, false);
    apply(store, &[Item::Clip(Box::new(lacking.clone()))]).await;
    assert_eq!(store.count_elsewhere().await.unwrap(), 1);
    let before = store.latest_change();
    let filed = try_to_file(store, "with the same content", AT.0, &[yadori_core::Format::new("text/rtf", data)]).await;
    assert!(filed.unwrap().new);
    assert_eq!(store.count_elsewhere().await.unwrap(), 0);
    let changed = store.changed_since(before, 10).await.unwrap();
    assert_eq!(changed.iter().map(|record| record.change).collect::<Vec<_>>(), [before + 1, before + 2]);
    assert!(changed.iter().any(|record| record.id == lacking.id), "{changed:?}");
    assert_eq!(store.latest_change(), before + 2);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pieces_of_several_contents_are_taken_in_together() {
    let records = private_of(1).await;
    let store = &records.store;
    let contents: Vec<_> = (1..=4).map(|number| large(number, false)).collect();
    let hash = |place: usize| contents[place].0.body.as_ref().unwrap().formats[0].hash;
    apply(store, &contents.iter().map(|(clip, _)| Item::Clip(Box::new(clip.clone()))).collect::<Vec<_>>()).await;
    let piece = |place: usize, at: usize, data: Bytes| ContentPiece { hash: hash(place), at: at as u64, data };
    let whole = |place: usize| contents[place].1.clone();
    let before = store.latest_change();
    let nobodys = ContentPiece { hash: [9; 32], at: 0, data: Bytes::from_static(b"nobody wants it") };
    let pieces = [
        piece(0, 0, whole(0)),
        piece(1, 0, whole(0)),
        piece(2, 0, whole(2).slice(..15_000)),
        nobodys,
        piece(3, 0, whole(3)),
    ];
    let applied = store.apply_content(&pieces).await.unwrap();
    let came = [Piece::Whole, Piece::Lie, Piece::More(15_000), Piece::Unwanted, Piece::Whole];
    assert_eq!(applied.pieces, came);
    assert_eq!(applied.change, Some(before + 2));
    assert_eq!(applied.moved.iter().map(|(_, change)| *change).collect::<Vec<_>>(), [before + 1, before + 2]);
    assert!(applied.pictures.is_empty() && !applied.is_another_clip);
    let wanted: BTreeMap<Hash, u64> = store.wanted(u64::MAX).await.unwrap().into_iter().collect();
    assert_eq!(wanted, BTreeMap::from([(hash(1), 0), (hash(2), 15_000)]));
    // What is said once more, or goes on elsewhere, does no harm; the rest makes all of it whole.
    let pieces = [
        piece(0, 0, whole(0)),
        piece(2, 9, whole(2)),
        piece(2, 15_000, whole(2).slice(15_000..)),
        piece(1, 0, whole(1)),
    ];
    let applied = store.apply_content(&pieces).await.unwrap();
    assert_eq!(applied.pieces, [Piece::Whole, Piece::More(15_000), Piece::Whole, Piece::Whole]);
    assert_eq!(applied.moved.len(), 2);
    assert_eq!(store.count_elsewhere().await.unwrap(), 0);
    assert_eq!(store.latest_change(), before + 4);
    assert_eq!(store.apply_content(&[]).await.unwrap(), AppliedContent::default());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn content_of_another_clip_takes_nothing_along_with_it() {
    let records = private_of(1).await;
    let store = &records.store;
    // The words of the first are told as those of another clip.
    let data = [Bytes::from("lamp 7, ".repeat(5_000)), Bytes::from("lamp 8, ".repeat(5_000))];
    let told = |id: &str, data: &Bytes| {
        let (clip, _) = large(1, false);
        let hash = *blake3::hash(data).as_bytes();
        let format = BodyFormat { mime: "text/plain;charset=utf-8".into(), size: data.len() as u64, hash, data: None };
        let body = Body { size: format.size, formats: vec![format], ..Body::default() };
        Clip { id: ClipId::of(Kind::Text, id.as_bytes()), body: Some(body), ..clip }
    };
    let [first, second] = [told("something else", &data[0]), told(std::str::from_utf8(&data[1]).unwrap(), &data[1])];
    apply(store, &[Item::Clip(Box::new(first.clone())), Item::Clip(Box::new(second.clone()))]).await;
    let pieces = data.map(|data| ContentPiece { hash: *blake3::hash(&data).as_bytes(), at: 0, data });
    let applied = store.apply_content(&pieces).await.unwrap();
    assert!(applied.is_another_clip);
    assert_eq!(applied.moved.len(), 1);
    assert!(!store.clip(first.id).await.unwrap().unwrap().is_live());
    let kept = store.clip(second.id).await.unwrap().unwrap();
    assert!(kept.is_live() && !kept.elsewhere);
    let formats = store.formats(kept.number).await.unwrap();
    assert_eq!(store.content(&formats[0]).await.unwrap(), pieces[1].data);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn what_comes_from_all_sides_at_once_is_taken_in() {
    const ROUNDS: u8 = 60;
    let records = private_of(1).await;
    let store = &records.store;
    let file = async {
        for number in 0..ROUNDS {
            let formats = [yadori_core::Format::new("text/rtf", large(number, true).1)];
            let text = format!("text {number}");
            while let Err(error) = try_to_file(store, &text, AT.0 + u64::from(number), &formats).await {
                assert!(error.is_deadlock(), "{error:?}");
            }
        }
    };
    let told = async {
        store.note_device(&linked(9)).await.unwrap();
        for number in (0..ROUNDS).rev() {
            hear_from(store, &linked(9), &[Item::Clip(Box::new(large(number, true).0))]).await;
        }
    };
    let fetched = async {
        for number in (0..ROUNDS).step_by(2) {
            let (clip, data) = large(number.wrapping_mul(7) % ROUNDS, false);
            let hash = clip.body.as_ref().unwrap().formats[0].hash;
            apply(store, &[Item::Clip(Box::new(clip))]).await;
            store.apply_content(&[ContentPiece { hash, at: 0, data }]).await.unwrap();
        }
    };
    tokio::join!(file, told, fetched);
    assert!(store.wanted(u64::MAX).await.unwrap().is_empty());
    assert_eq!(store.count_elsewhere().await.unwrap(), 0);
}
