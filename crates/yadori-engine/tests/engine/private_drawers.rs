//! Drawers with a passphrase.

use crate::shared::linked;
use crate::support::{Device, names};
use bytes::Bytes;
use std::time::Duration;
use yadori_core::Mark;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::keeping::drawers::{DrawerError, NewHeading, Private, Shown, Summary};
use yadori_engine::moving::export::{Form, Selection};
use yadori_engine::private_drawers::PrivateDrawerError;

const PHRASE: &str = "lantern under the bridge";

/// A picture of more than a mebibyte, which is sealed in several pieces.
fn picture() -> Bytes {
    let (side, header) = (640u32, 54u32);
    let size = header + side * side * 3;
    let mut bmp = b"BM".to_vec();
    for word in [size, 0, header, 40, side, side, 1 | 24 << 16, 0, side * side * 3, 2835, 2835, 0, 0] {
        bmp.extend(word.to_le_bytes());
    }
    bmp.extend((0..side * side * 3).map(|at| (at / 7) as u8));
    bmp.into()
}

/// A private drawer with a titled password, a heading and a picture, which is open.
async fn filled() -> Device {
    let device = Device::new("workshop").await;
    device.copy("an ordinary copy").await;
    device.engine.private_drawers.new_drawer("Bank", PHRASE).await.unwrap();
    let keeping = &device.engine.keeping;
    let attributes = NewClip { title: Some("Card".into()), drawer: Some("Bank".into()), ..NewClip::default() };
    keeping.add("text/plain", Bytes::from_static(b"password = h7Kd92kfLw0z"), attributes).await.unwrap();
    let heading = NewHeading { words: "Abroad".into(), ..NewHeading::default() };
    keeping.head_drawer("Bank", &heading).await.unwrap();
    let attributes = NewClip { drawer: Some("Bank".into()), pin: true, mark: Some(Mark::ALL[0]), ..NewClip::default() };
    keeping.add("image/bmp", picture(), attributes).await.unwrap();
    device
}

/// What lies in a drawer: titles or texts, and headings.
async fn lies(device: &Device, drawer: &str) -> Vec<String> {
    let contents = device.engine.keeping.drawer(drawer).await.unwrap();
    let words = |item| match item {
        Shown::Heading(words) => format!("# {words}"),
        Shown::Clip(clip) => clip.record.title.clone().unwrap_or_else(|| clip.record.kind.word().to_owned()),
    };
    contents.items.into_iter().map(words).collect()
}

async fn summary(device: &Device) -> Summary {
    device.engine.keeping.drawers().await.unwrap().pop().expect("a drawer")
}

fn is_open(drawer: &Summary) -> bool {
    drawer.private.expect("to be private").open
}

/// What the database has of it in the clear.
fn in_the_clear(device: &Device) -> String {
    device.ask(
        "SELECT COUNT(*) FROM clips WHERE text LIKE '%h7Kd92%' OR title = 'Card' OR drawer IS NOT NULL;
         SELECT COUNT(*) FROM headings; SELECT COUNT(*) FROM formats WHERE clip_no IN (SELECT no FROM clips WHERE kind = 2);
         SELECT COUNT(*) FROM sealed_items WHERE sealed LIKE '%h7Kd92%'; SELECT COUNT(*) FROM thumbnails",
    )
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_closed_drawer_tells_how_much_lies_in_it_and_nothing_else() {
    let device = filled().await;
    let engine = &device.engine;
    assert_eq!(lies(&device, "Bank").await, ["Card", "# Abroad", "image"]);
    assert_ne!(in_the_clear(&device), "0\n0\n0\n0\n0\n");
    let closed = engine.private_drawers.close("bank").await.unwrap();
    assert_eq!((closed.clips, closed.private), (2, Some(Private { open: false, closes_at: None })));

    assert_eq!(device.shown().await, ["an ordinary copy"]);
    for query in ["h7Kd92kfLw0z", "card", "drawer:bank", "abroad", "kind:image"] {
        assert!(device.found(query).await.is_empty(), "{query}");
    }
    assert!(engine.keeping.pins().await.unwrap().is_empty() && engine.overview.status().await.clips == 1);
    assert!(engine.retention.bin(0, None).await.unwrap().clips.is_empty());
    assert_eq!(in_the_clear(&device), "0\n0\n0\n0\n0\n");
    assert_eq!(engine.moving.export(&Selection::All, Form::Zip).await.unwrap().clips, 1);
    let closed = |error: &DrawerError| matches!(error, DrawerError::Closed(name) if name == "Bank");
    let keeping = &engine.keeping;
    assert!(closed(&keeping.drawer("Bank").await.unwrap_err()));
    assert!(closed(&keeping.put_into_drawer("Bank", &names(&["1"]), None).await.unwrap_err()));
    assert!(closed(&keeping.head_drawer("Bank", &NewHeading::default()).await.unwrap_err()));
    assert!(closed(&keeping.remove_drawer("Bank", None).await.unwrap_err()));
    assert!(engine.moving.export(&Selection::Drawer("Bank".into()), Form::Text).await.is_err());
    assert!(engine.dealer.close_tray(Some("Bank"), false).await.is_err());
    // Its name may be changed: that is no secret.
    keeping.change_drawer("Bank", Some("Cards"), None).await.unwrap();

    let opened = engine.private_drawers.open("Cards", PHRASE, None).await.unwrap();
    assert_eq!((opened.left, opened.drawer.clips, is_open(&opened.drawer)), (0, 2, true));
    assert_eq!(lies(&device, "Cards").await, ["Card", "# Abroad", "image"]);
    let pinned = keeping.pins().await.unwrap();
    assert_eq!((pinned.len(), pinned[0].record.mark), (1, Some(Mark::ALL[0])));
    engine.recalling.recall(&names(&["p1"]), &Default::default()).await.unwrap();
    assert_eq!(device.clipboard.paste("image/bmp").unwrap(), picture());
    assert_eq!(device.found("drawer:cards card").await.len(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn only_its_passphrase_opens_it_and_wrong_ones_slow_down() {
    let device = filled().await;
    let drawers = &device.engine.private_drawers;
    assert!(matches!(drawers.new_drawer("Short", "seven77").await, Err(PrivateDrawerError::Phrase(_))));
    assert!(matches!(drawers.new_drawer("bank", PHRASE).await, Err(PrivateDrawerError::Drawer(DrawerError::Taken(_)))));
    drawers.set_passphrase("Bank", "another passphrase").await.unwrap();
    drawers.close("Bank").await.unwrap();
    for _ in 0..3 {
        assert!(matches!(drawers.open("Bank", PHRASE, None).await, Err(PrivateDrawerError::Wrong(_))));
    }
    let slowed = drawers.open("Bank", "another passphrase", None).await;
    assert!(matches!(slowed, Err(PrivateDrawerError::TooSoon(_))), "{slowed:?}");
    assert!(!is_open(&summary(&device).await));
    // One that is slowed down holds up no other drawer.
    drawers.new_drawer("Other", PHRASE).await.unwrap();
    drawers.open("Other", PHRASE, None).await.unwrap();
    assert!(matches!(drawers.open("Other", PHRASE, Some(Duration::ZERO)).await, Err(PrivateDrawerError::Length)));
    device.engine.keeping.new_drawer("Plain").await.unwrap();
    assert!(matches!(drawers.open("Plain", PHRASE, None).await, Err(PrivateDrawerError::NotPrivate(_))));
    // A forgotten passphrase does not keep a drawer for ever.
    assert_eq!(drawers.erase("Bank").await.unwrap().clips, 2);
    assert!(device.ask("SELECT COUNT(*) FROM sealed_items").starts_with('0'));
    assert!(matches!(drawers.erase("Plain").await, Err(PrivateDrawerError::NotPrivate(_))));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn it_closes_when_its_time_is_over_at_the_end_and_after_a_crash() {
    let mut device = filled().await;
    device.engine.private_drawers.open("Bank", PHRASE, Some(Duration::from_millis(300))).await.unwrap();
    // It is not open any more from the moment when its closing has begun.
    let is_closed = || async { !is_open(&summary(&device).await) && device.shown().await == ["an ordinary copy"] };
    device.until("closed in time", is_closed).await;

    device.engine.private_drawers.open("Bank", PHRASE, None).await.unwrap();
    device.restart().await;
    assert_eq!((device.shown().await, is_open(&summary(&device).await)), (names(&["an ordinary copy"]), false));

    for broken_off in [None, Some(1), Some(3)] {
        let opened = device.engine.private_drawers.open("Bank", PHRASE, None).await.unwrap();
        assert_eq!((opened.left, opened.drawer.clips), (0, 2), "after {broken_off:?}");
        if let Some(state) = broken_off {
            // As it is when the service is killed while it opens the drawer, or closes it: some of the clips are there.
            if state == 3 {
                device.engine.private_drawers.close("Bank").await.unwrap();
                device.engine.private_drawers.open("Bank", PHRASE, None).await.unwrap();
                device.execute("UPDATE sealed_items SET standing = 0");
            }
            device.execute(&format!("UPDATE private_drawers SET state = {state}"));
        }
        device.crash().await;
        assert_eq!(device.shown().await, ["an ordinary copy"], "{broken_off:?}");
        assert_eq!((in_the_clear(&device), summary(&device).await.clips), ("0\n0\n0\n0\n0\n".to_owned(), 2));
    }
    device.engine.private_drawers.open("Bank", PHRASE, None).await.unwrap();
    assert_eq!(lies(&device, "Bank").await, ["Card", "# Abroad", "image"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_changed_while_it_is_open_is_so_when_it_is_opened_again() {
    let device = filled().await;
    let (drawers, keeping) = (&device.engine.private_drawers, &device.engine.keeping);
    device.engine.retention.delete(&names(&["p1"]), false).await.unwrap();
    let card = device.engine.history.find_clip("1").await.unwrap().0.id.to_string();
    keeping
        .change_attributes(&card, &ClipChange { title: Some("New card".into()), ..ClipChange::default() })
        .await
        .unwrap();
    keeping.put_into_drawer("Bank", &names(&["2"]), Some(1)).await.unwrap();
    drawers.close("Bank").await.unwrap();
    assert!(device.shown().await.is_empty());
    assert!(device.engine.retention.bin(0, None).await.unwrap().clips.is_empty(), "a deleted clip is not in the bin");
    // Copied again meanwhile: an ordinary copy, until the drawer is opened.
    device.copy("an ordinary copy").await;
    assert_eq!(device.shown().await, ["an ordinary copy"]);
    assert_eq!(drawers.open("Bank", PHRASE, None).await.unwrap().drawer.clips, 2);
    assert_eq!(lies(&device, "Bank").await, ["text", "New card", "# Abroad"]);
    keeping.remove_drawer("Bank", None).await.unwrap();
    assert_eq!(device.list().await.len(), 2);
    assert!(device.ask("SELECT COUNT(*) FROM sealed_items").starts_with('0'));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_damaged_clip_stays_sealed_and_the_others_are_there() {
    let device = filled().await;
    let drawers = &device.engine.private_drawers;
    drawers.close("Bank").await.unwrap();
    let flip = |item| {
        format!(
            "UPDATE sealed_items SET sealed = INSERT(sealed, 80, 1, CHAR(ASCII(SUBSTRING(sealed, 80, 1)) ^ 1)) WHERE item = {item}"
        )
    };
    device.execute(&flip(2));
    let opened = drawers.open("Bank", PHRASE, None).await.unwrap();
    assert_eq!((opened.left, opened.drawer.clips), (1, 1));
    assert_eq!(drawers.close("Bank").await.unwrap().clips, 2, "it is still in the drawer");
    device.execute(&flip(2));
    assert_eq!(drawers.open("Bank", PHRASE, None).await.unwrap().left, 0);
    assert_eq!(lies(&device, "Bank").await, ["Card", "# Abroad", "image"]);
}

/// The other devices never hear of what lies in it, and lose what they had of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_lies_in_it_is_on_this_device_alone() {
    let (workshop, van) = linked().await;
    workshop.copy("the key is under the third stone").await;
    workshop.engine.keeping.new_drawer("House").await.unwrap();
    workshop.engine.keeping.put_into_drawer("House", &names(&["1"]), None).await.unwrap();
    let has_drawer = || async { van.found("drawer:house").await.len() == 1 };
    van.until("told of the drawer", has_drawer).await;

    let drawers = &workshop.engine.private_drawers;
    let made = drawers.set_passphrase("House", PHRASE).await.unwrap();
    assert!(is_open(&made) && made.clips == 1);
    assert!(matches!(drawers.set_passphrase("House", "short").await, Err(PrivateDrawerError::Phrase(_))));
    let attributes = NewClip { drawer: Some("House".into()), ..NewClip::default() };
    let code = Bytes::from_static(b"the gate opens with 4711");
    workshop.engine.keeping.add("text/plain", code, attributes).await.unwrap();
    let no_drawer = || async { van.engine.keeping.drawers().await.unwrap().is_empty() };
    van.until("told that the drawer is gone", no_drawer).await;
    drawers.close("House").await.unwrap();
    van.until("told that the clip is gone", || async { van.shown().await.is_empty() }).await;
    drawers.open("House", PHRASE, None).await.unwrap();
    assert_eq!(workshop.shown().await, ["the gate opens with 4711", "the key is under the third stone"]);
    // What is told after it is told later.
    workshop.copy("an ordinary copy").await;
    van.until("told of a copy", || async { van.shown().await == ["an ordinary copy"] }).await;
    assert!(
        van.ask(
            "SELECT COUNT(*) FROM clips WHERE text LIKE '%4711%'; SELECT COUNT(*) FROM drawers WHERE removed = FALSE"
        )
        .starts_with("0\n0")
    );

    drawers.make_ordinary("House").await.unwrap();
    van.until("told of the drawer again", || async { van.found("drawer:house").await.len() == 2 }).await;
    assert!(matches!(drawers.make_ordinary("House").await, Err(PrivateDrawerError::NotPrivate(_))));
}
