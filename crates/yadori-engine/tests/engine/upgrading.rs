//! Records of every earlier version, with data in them, are brought up to date.

use crate::support::{Device, names};
use data_encoding::HEXLOWER;
use yadori_core::format::PLAIN;
use yadori_core::retention::BIN_MILLIS;
use yadori_core::{ClipId, Kind, Stamp};
use yadori_engine::clock::now;

/// Formats of 40 KB lie in blobs.
const MARKUP: usize = 40_000;

/// The statements that make the records of a version, as a device had them whose history is: a clip with formatted words
/// in a blob, a link, and one that was deleted an hour ago. Later versions know pins, drawers, titles and aliases.
fn records(version: i64) -> String {
    let hour = 60 * 60 * 1000;
    assert!(hour < BIN_MILLIS);
    let at = |hours: u64| Stamp::at_start_of(now().minus(hours * hour)).to_bits();
    let hex = |bytes: &[u8]| format!("X'{}'", HEXLOWER.encode(bytes));
    let id = |kind: Kind, text: &str| hex(&ClipId::of(kind, text.as_bytes()).0);
    let mut script = String::from(
        "CREATE TABLE _sqlx_migrations (version BIGINT PRIMARY KEY, description TEXT NOT NULL, installed_on TIMESTAMP NOT NULL \
         DEFAULT CURRENT_TIMESTAMP, success BOOLEAN NOT NULL, checksum BLOB NOT NULL, execution_time BIGINT NOT NULL);",
    );
    for (done, statements) in yadori_store::schema::migrations().iter().filter(|(known, _)| *known <= version) {
        for statement in statements {
            script += &format!("{statement};");
        }
        script += &format!("INSERT INTO _sqlx_migrations VALUES ({done}, '', NOW(), TRUE, '', 0);");
    }
    script +=
        "UPDATE feed SET last = 3; INSERT INTO devices (id, name, own) VALUES ('0123456789abcdef', 'workshop', TRUE);";
    let clips = [
        (Kind::Text, "Lamp 7", at(30), 0),
        (Kind::Link, "https://example.org/plan", at(20), 0),
        (Kind::Text, "Gone", at(10), at(1)),
    ];
    for (no, (kind, text, copied, deleted)) in (1..).zip(clips) {
        script += &format!(
            "INSERT INTO clips (no, id, seq, kind, secret, device, copied, deleted, copies, size, text_lines, text_chars, text)
             VALUES ({no}, {}, {no}, {}, 0, 1, {copied}, {deleted}, 1, {}, 1, {}, '{text}');
             INSERT INTO formats (clip_no, place, mime, size) VALUES ({no}, 0, 'text/plain;charset=utf-8', {});",
            id(kind, text),
            kind.code(),
            text.len(),
            text.len(),
            text.len(),
        );
    }
    let markup = "b".repeat(MARKUP);
    let have = if version >= 4 { format!(", have = {MARKUP}") } else { String::new() };
    script += &format!(
        "INSERT INTO blobs SET no = 1, hash = {}, size = {MARKUP}{have};
         INSERT INTO blob_chunks (blob_no, place, content) VALUES (1, 0, '{markup}');
         INSERT INTO formats (clip_no, place, mime, size, blob_no) VALUES (1, 1, 'text/html', {MARKUP}, 1);",
        hex(blake3::hash(markup.as_bytes()).as_bytes()),
    );
    if version >= 3 {
        script += &format!(
            "INSERT INTO drawers (no, id, name, place, changed) VALUES (1, 'fedcba9876543210', 'Venues', 'm', {stamp});
             UPDATE clips SET pin = 'm', pin_stamp = {stamp}, alias = 'lamp', alias_stamp = {stamp}, title = 'Spare lamp',
                title_stamp = {stamp} WHERE no = 1;
             UPDATE clips SET drawer = 1, place = 'm', drawer_stamp = {stamp} WHERE no = 2;",
            stamp = at(15),
        );
    }
    script
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_history_of_every_earlier_version_is_there_and_goes_on() {
    let migrations = yadori_store::schema::migrations();
    for (version, _) in &migrations {
        let mut device = Device::with_records("workshop", &records(*version)).await;
        let what = format!("version {version}");
        assert_eq!(device.shown().await.len(), 2, "{what}");
        assert_eq!(device.found("plan").await.len(), 1, "{what}");
        let history = &device.engine.history;
        let (lamp, _) = history.find_clip("2").await.unwrap();
        let formats = history.store.formats(lamp.number).await.unwrap();
        let markup = formats.iter().find(|format| format.mime == "text/html").unwrap();
        assert_eq!(history.store.content(markup).await.unwrap().len(), MARKUP, "{what}");
        let (link, _) = history.find_clip("1").await.unwrap();
        let formats = history.store.formats(link.number).await.unwrap();
        let [plain] = &formats[..] else { panic!("{what}: {formats:?}") };
        let content = history.store.content(plain).await.unwrap();
        assert_eq!((&*plain.mime, &content[..]), (PLAIN, &b"https://example.org/plan"[..]), "{what}");
        if *version >= 3 {
            assert_eq!(history.find_clip(":lamp").await.unwrap().0.title.as_deref(), Some("Spare lamp"), "{what}");
            assert_eq!(device.engine.keeping.pins().await.unwrap().len(), 1, "{what}");
            assert_eq!(device.engine.keeping.drawer("Venues").await.unwrap().items.len(), 1, "{what}");
        }
        // It goes on: with new copies, with the bin, and after another start.
        device.copy("Gel 202").await;
        device.engine.retention.delete(&names(&["1"]), false).await.unwrap();
        assert_eq!(device.engine.retention.bin(0, None).await.unwrap().clips.len(), 2, "{what}");
        device.restart().await;
        assert_eq!(device.shown().await.len(), 2, "{what}");
        device.copy("Gone").await;
        assert_eq!(device.shown().await[0], "Gone", "{what}");
    }
}
