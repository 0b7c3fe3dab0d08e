//! Records in a real database: the service's own, and one that is given. The same tests pass against both.

use crate::support::{PATIENCE, Records, file, given, of, private, try_to_file};
use std::time::Duration;
use yadori_core::format::Format;
use yadori_core::shared::Item;
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Rank, Source, Stamp};
use yadori_store::{Attribute, GENTLE, MovedIn, NewClip, OpenError, OperationKind, QUICK, Store, Thumbnail};

async fn count(records: &Records, table: &str) -> i64 {
    let pool = sqlx::MySqlPool::connect(records.database.url()).await.unwrap();
    sqlx::query_scalar(sqlx::AssertSqlSafe(format!("SELECT COUNT(*) FROM {table}"))).fetch_one(&pool).await.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_gives_up_in_the_middle_leaves_nothing_locked_and_nothing_confused() {
    const ROUNDS: u64 = 40;
    let records = private().await;
    let mut whole = 0;
    for round in 0..ROUNDS {
        // Its statements are not prepared yet.
        let store = Store::open(records.database.url(), ("workshop", [1; 16])).await.unwrap();
        let text = format!("cue {round}");
        let more = [Format::new("text/rtf", vec![round as u8; 40_000])];
        let uses = async {
            try_to_file(&store, &text, round + 1, &more).await.unwrap();
            store.count_captured(MillisSinceEpoch(1), 1).await.unwrap();
            store.devices().await.unwrap();
        };
        let given_up = tokio::time::timeout(Duration::from_micros(round * 250), uses).await.is_err();
        // Another does the same, by connections that may have been broken off; it is not held up.
        let after = async {
            let (one, two, three) = tokio::join!(store.begin_filing(), store.begin_filing(), store.begin_filing());
            assert!([one, two, three].iter().all(Result::is_ok));
            let filed = try_to_file(&store, &text, round + 400, &more).await.unwrap();
            assert_eq!(store.clips(&[filed.number]).await.unwrap()[0].text, text);
            store.close().await;
        };
        assert!(tokio::time::timeout(PATIENCE, after).await.is_ok(), "round {round} hangs");
        whole += u64::from(!given_up);
    }
    assert!(whole < ROUNDS - 5, "it was hardly ever broken off");
    assert_eq!(count(&records, "clips").await, ROUNDS as i64);
}

async fn every_byte_comes_back<const N: usize>(records: Records) {
    let store = &records.store;
    let long = "long ".repeat(40_000);
    let large: Vec<u8> = (0..N).map(|n| (n / 3 % 251) as u8).collect();
    let more = [
        Format::new("text/html", "<p>small</p>"),
        Format::new("image/png", large.clone()),
        Format::new("text/rtf", vec![7u8; 16 * 1024 + 1]),
    ];
    for text in ["short \0 with a NUL, and 🎭 ", long.as_str()] {
        let filed = file(store, text, 1, &more).await;
        let formats = store.formats(filed.number).await.unwrap();
        let expected = [&[Format::plain(text)], &more[..]].concat();
        assert_eq!(formats.len(), expected.len());
        for (stored, format) in formats.iter().zip(&expected) {
            assert_eq!((stored.mime.as_str(), stored.size), (format.mime.as_str(), format.data.len() as u64));
            assert!(store.content(stored).await.unwrap() == format.data, "{} of {}", format.mime, text.len());
        }
        let within = store.content_at(&formats[2], N as u64 - 5).await.unwrap();
        assert_eq!(&within[..], &large[N - 5..]);
        assert!(store.content_at(&formats[2], N as u64).await.unwrap().is_empty());
    }
}

async fn a_small_copy_comes_back_as_it_was<const N: usize>(records: Records) {
    let store = &records.store;
    let all: Vec<u8> = (0..=255).collect();
    let text = "Zoë's \\ \"cue\"; '); DROP TABLE clips; -- \0 \u{202e}🎭".repeat(200);
    let text = text.as_str();
    let (html, other) = (Format::new("text/html", "<p>'"), Format::new("application/x-all", all.clone()));
    let source = Source {
        application: Some("Writer's \\'".into()),
        window: Some("予定表 — 'A'".into()),
        page: Some("https://example.org/?q='".into()),
        selected: true,
    };
    let formats = [Format::plain(text), html, other];
    let clip = NewClip { title: Some("Title ' \\"), caption: Some("''"), ..of(text, &source) };
    let at = Stamp::at_start_of(MillisSinceEpoch(7));
    let clip = NewClip { copied: at, filed: at, ..clip };
    let mut filing = store.begin_filing().await.unwrap();
    filing.put_content(&formats).await.unwrap();
    let filed = filing.commit(&clip, &formats).await.unwrap();
    let told = filed.record.unwrap();
    assert_eq!(told.text, text);
    let known = (store.clips(&[filed.number]).await.unwrap(), store.formats(filed.number).await.unwrap());
    assert_eq!((known.0.len(), known.1.len()), (1, formats.len()));
    for (stored, format) in known.1.iter().zip(&formats) {
        assert_eq!((stored.mime.as_str(), stored.size), (format.mime.as_str(), format.data.len() as u64));
        assert!(store.content(stored).await.unwrap() == format.data, "{}", format.mime);
    }
    // What is known of it since it was filed is what is on record, which is read after the next write.
    file(store, "the next one", 8, &[]).await;
    assert_eq!(store.clips(&[filed.number]).await.unwrap(), known.0);
    assert_eq!(store.formats(filed.number).await.unwrap(), known.1);
    assert_eq!(store.latest_change(), filed.change + 1);
}

async fn each_write_takes_the_next_number<const N: usize>(records: Records) {
    let store = &records.store;
    let first = file(store, "a", 1, &[]).await;
    let second = file(store, "b", 2, &[]).await;
    let again = file(store, "a", 3, &[]).await;
    assert_eq!((second.change, again.change), (first.change + 1, first.change + 2));
    assert_eq!((first.new, again.new, again.number), (true, false, first.number));
    let changed = store.changed_since(first.change, 10).await.unwrap();
    assert_eq!(
        changed.iter().map(|record| (record.text.as_str(), record.copies)).collect::<Vec<_>>(),
        [("b", 1), ("a", 2)]
    );
    assert_eq!(store.latest_change(), again.change);
    assert_eq!(store.latest_stamp().await.unwrap().at(), MillisSinceEpoch(3));
    let listed = store.clips(&[second.number, 999, first.number]).await.unwrap();
    assert_eq!(listed.iter().map(|record| record.number).collect::<Vec<_>>(), [second.number, first.number]);
}

async fn a_delete_is_undone_as_one_step<const N: usize>(records: Records) {
    let store = &records.store;
    let (a, b) = (file(store, "a", 1, &[]).await, file(store, "b", 2, &[]).await);
    let stamp = |at| Stamp::at_start_of(MillisSinceEpoch(at));
    let (step, _) = store.begin_step(OperationKind::Delete, vec![a.number, b.number], stamp(5)).await.unwrap();
    assert!(!step.is_pending());
    let mut live = 0;
    store.read_all(|_| live += 1).await.unwrap();
    assert_eq!(live, 0);
    let (undone, _) = store.begin_undo(None, stamp(6), MillisSinceEpoch(4)).await.unwrap().unwrap();
    assert_eq!((undone.number, undone.total, undone.is_pending()), (step.number, 2, false));
    assert!(store.begin_undo(None, stamp(7), MillisSinceEpoch(4)).await.unwrap().is_none(), "once is enough");
    let record = store.clip(ClipId::of(Kind::Text, b"a")).await.unwrap().unwrap();
    assert!(record.is_live());
    assert_eq!(record.life.copied.at(), MillisSinceEpoch(1), "it is back in its old place");
    let (redone, _) = store.begin_redo(None, stamp(7), MillisSinceEpoch(4)).await.unwrap().unwrap();
    assert_eq!((redone.number, redone.is_pending()), (step.number, false));
    assert!(!store.clip(record.id).await.unwrap().unwrap().is_live());
    assert!(store.begin_redo(None, stamp(7), MillisSinceEpoch(4)).await.unwrap().is_none(), "once is enough");
    store.begin_undo(None, stamp(8), MillisSinceEpoch(4)).await.unwrap().unwrap();
    store.begin_step(OperationKind::Delete, vec![a.number], stamp(8)).await.unwrap();
    assert!(store.begin_redo(None, stamp(9), MillisSinceEpoch(4)).await.unwrap().is_none(), "another step came since");
    assert!(store.begin_undo(None, stamp(9), MillisSinceEpoch(8)).await.unwrap().is_none(), "its grace is over");
}

async fn what_is_due_is_shredded_with_its_content<const N: usize>(records: Records) {
    let store = &records.store;
    let large = Format::new("image/png", vec![9u8; N]);
    let (gone, kept) = (file(store, "gone", 1, std::slice::from_ref(&large)).await, file(store, "kept", 2, &[]).await);
    let small = |number, pixels: &[u8]| (number, Thumbnail { mime: "image/png".into(), content: pixels.into() });
    let both = [small(gone.number, &[1]), small(kept.number, &[2]), small(kept.number + 1_000, &[3])];
    store.put_thumbnails(&both).await.unwrap();
    store.put_thumbnails(&[small(gone.number, &[4, 4])]).await.unwrap();
    for (number, expected) in
        [(gone.number, Some(vec![4, 4])), (kept.number, Some(vec![2])), (kept.number + 1_000, None)]
    {
        assert_eq!(store.thumbnail(number).await.unwrap().map(|small| small.content), expected);
    }
    let at = Stamp::at_start_of(MillisSinceEpoch(1_000));
    store.begin_step(OperationKind::Delete, vec![gone.number], at).await.unwrap();
    let due = store.next_due().await.unwrap().unwrap();
    assert_eq!(due, MillisSinceEpoch(1_000 + 24 * 3_600_000));
    assert_eq!(store.purge_due(MillisSinceEpoch(due.0 - 1), &[]).await.unwrap(), None);
    assert!(store.purge_due(due, &[]).await.unwrap().is_some());
    assert_eq!(store.purge_due(due, &[]).await.unwrap(), None);
    assert_eq!(store.next_due().await.unwrap(), None);
    assert!(store.formats(gone.number).await.unwrap().is_empty());
    assert_eq!(store.thumbnail(gone.number).await.unwrap(), None);
    assert_eq!(store.formats(kept.number).await.unwrap().len(), 1);
    // Copied again, it is a new clip to the person.
    assert!(file(store, "gone", 3_000_000_000, &[]).await.new);
}

/// A step of more clips than fit into one transaction: interrupted, carried on, undone.
async fn a_large_step_is_carried_on_after_a_crash<const N: usize>(records: Records) {
    let store = &records.store;
    let stamp = |at| Stamp::at_start_of(MillisSinceEpoch(at));
    let mut numbers = Vec::new();
    for number in 0..260 {
        numbers.push(file(store, &format!("clip {number}"), number + 1, &[]).await.number);
    }
    store.set_attributes(&[(numbers[0], Attribute::Pin(Some(Rank::between(None, None))))], stamp(400)).await.unwrap();
    let (mut step, change) = store.begin_step(OperationKind::Clear, numbers.clone(), stamp(500)).await.unwrap();
    assert!(step.is_pending() && change.is_none());
    store.advance(&mut step, stamp(501), GENTLE).await.unwrap();
    // The service ends here, and finds what it had begun.
    let mut pending = store.pending_steps().await.unwrap();
    assert_eq!(pending.len(), 1);
    while store.advance(&mut pending[0], stamp(502), QUICK).await.unwrap().is_some() {}
    let mut live = Vec::new();
    store.read_all(|record| live.push(record.number)).await.unwrap();
    assert_eq!(live, numbers[..1], "what is kept stays");
    assert!(store.pending_steps().await.unwrap().is_empty());

    let (mut undone, _) = store.begin_undo(Some(step.number), stamp(600), MillisSinceEpoch(1)).await.unwrap().unwrap();
    while store.advance(&mut undone, stamp(601), QUICK).await.unwrap().is_some() {}
    assert_eq!(store.clips(&numbers).await.unwrap().iter().filter(|record| record.is_live()).count(), 260);
    let seen = store.changed_since(0, 1000).await.unwrap();
    assert!(seen.is_sorted_by(|a, b| a.change < b.change) && seen.len() == 260);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_rule_of_leaving_is_the_same_in_the_records_and_in_the_core() {
    let records = private().await;
    let store = &records.store;
    let pool = sqlx::MySqlPool::connect(records.database.url()).await.unwrap();
    let clip = file(store, "a", 1, &[]).await.number;
    // Every order of a few stamps, kept and not.
    for case in 0u64..4 * 4 * 4 * 3 * 2 * 2 {
        let digit = |place: u32, base: u64| case / 4u64.pow(place.min(3)) / if place > 3 { 3 } else { 1 } % base;
        let (deleted, cleared, swept) = (digit(0, 4) * 2, digit(1, 4) * 2, digit(2, 4) * 2);
        let pin_stamp = digit(3, 3) * 3;
        let (pinned, restored) = (case % 2 == 0, if case % 5 == 0 { 5u64 } else { 0 });
        sqlx::query(
            "UPDATE clips SET copied = 3, restored = ?, deleted = ?, cleared = ?, swept = ?, pin = ?, pin_stamp = ? WHERE no = ?",
        )
        .bind(restored)
        .bind(deleted)
        .bind(cleared)
        .bind(swept)
        .bind(pinned.then_some("n"))
        .bind(pin_stamp)
        .bind(clip)
        .execute(&pool)
        .await
        .unwrap();
        let gone: Option<u64> =
            sqlx::query_scalar("SELECT gone FROM clips WHERE no = ?").bind(clip).fetch_one(&pool).await.unwrap();
        // It is written behind the store's back, so it is read from the records.
        let record = store.changed_since(0, 1).await.unwrap().pop().unwrap();
        assert_eq!(record.life.gone().map(|(stamp, _)| stamp.to_bits()), gone, "{:?}", record.life);
    }
}

macro_rules! for_each_database {
    ($($name:ident),* $(,)?) => {
        mod its_own {
            $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
            async fn $name() {
                super::$name::<3_000_000>(super::private().await).await;
            })*
        }
        mod a_given_one {
            $(#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
            async fn $name() {
                super::$name::<3_000_000>(super::given().await).await;
            })*
        }
    };
}

for_each_database!(
    every_byte_comes_back,
    a_small_copy_comes_back_as_it_was,
    each_write_takes_the_next_number,
    a_delete_is_undone_as_one_step,
    what_is_due_is_shredded_with_its_content,
    a_large_step_is_carried_on_after_a_crash
);

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_number_is_given_to_two_changes_whatever_is_gone_after_a_start() {
    let records = private().await;
    let (store, url) = (&records.store, records.database.url());
    let on_record = || records.database.ask("SELECT last FROM feed").trim().parse::<u64>().unwrap();
    let latest_of_another = async || {
        let another = Store::open(url, ("workshop", [1; 16])).await.unwrap();
        let latest = another.latest_change();
        another.close().await;
        latest
    };
    let recorded = on_record();
    file(store, "first", 1, &[]).await;
    let second = file(store, "second", 2, &[]).await;
    // The clip bears the number, and the feed has none on record of it.
    assert_eq!((store.latest_change(), on_record()), (second.change, recorded));
    assert!(recorded < second.change);
    assert_eq!(latest_of_another().await, second.change);
    // Nothing of the clip is left, and it is the feed that has the number.
    store.purge(&[second.number], Stamp::at_start_of(MillisSinceEpoch(3))).await.unwrap();
    let latest = store.latest_change();
    let long_after = MillisSinceEpoch(365 * 24 * 3_600_000);
    while store.purge_due(long_after, &[]).await.unwrap().is_some() {}
    assert_eq!(records.database.ask("SELECT COUNT(*) FROM clips").trim(), "1");
    assert!(store.latest_change() >= latest);
    assert_eq!((latest_of_another().await, on_record()), (store.latest_change(), store.latest_change()));
    // Another program has taken a number: it is seen, and the same request succeeds.
    records.database.ask(&format!("UPDATE clips SET seq = {}", latest + 1));
    let collision = try_to_file(store, "third", 4, &[]).await.unwrap_err();
    assert!(collision.is_deadlock(), "{collision:?}");
    assert_eq!(file(store, "third", 4, &[]).await.change, latest + 2);
}

/// What is written before it is somebody's turn may be what the one waits for whose turn it is.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whoever_waits_for_its_turn_keeps_nobody_waiting_for_content() {
    let records = private().await;
    let store = &records.store;
    let formats = [Format::plain("a picture"), Format::new("image/png", vec![5u8; 100_000])];
    let known = file(store, "known", 1, &[]).await;
    let (source, at) = (Source::default(), |millis| Stamp::at_start_of(MillisSinceEpoch(millis)));
    let clip = NewClip { copied: at(2), filed: at(2), size: 100_009, ..of("a picture", &source) };
    let mut filing = store.begin_filing().await.unwrap();
    filing.put_content(&formats).await.unwrap();
    let order = ["text/plain;charset=utf-8".to_owned(), "image/png".to_owned()];
    let adding = store.add_formats(known.number, at(1), &formats[1..], &order);
    let waiting = format!(
        "SELECT COUNT(*) FROM information_schema.processlist WHERE db = '{}' AND info LIKE 'INSERT INTO blobs%'",
        records.database.name()
    );
    let filing = async {
        while records.database.ask(&waiting).trim() == "0" {
            tokio::task::yield_now().await;
        }
        filing.commit(&clip, &formats).await
    };
    let (added, filed) = tokio::join!(adding, filing);
    assert_eq!(filed.unwrap().change, added.unwrap().unwrap() + 1);
    for number in [known.number, known.number + 1] {
        let pictures = store.formats(number).await.unwrap();
        assert_eq!(store.content(&pictures[1]).await.unwrap(), formats[1].data);
    }
    assert_eq!(count(&records, "blobs").await, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn content_that_nobody_uses_any_more_is_freed() {
    let records = private().await;
    let picture = |byte| Format::new("image/png", vec![byte; 100_000]);
    file(&records.store, "one", 1, &[picture(1)]).await;
    file(&records.store, "two", 2, &[picture(1)]).await;
    assert_eq!(count(&records, "blobs").await, 1, "the same content is kept once");
    file(&records.store, "one", 3, &[picture(2)]).await;
    assert_eq!(count(&records, "blobs").await, 2);
    file(&records.store, "two", 4, &[]).await;
    assert_eq!(count(&records, "blobs").await, 1);
    assert_eq!(count(&records, "blob_chunks").await, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_filed_together_need_not_be_read() {
    let records = private().await;
    let store = &records.store;
    let at = |millis| Stamp::at_start_of(MillisSinceEpoch(millis));
    let source = Source { application: Some("Writer".repeat(90)), ..Source::default() };
    let used = MovedIn { copies: 3, recalls: u32::MAX, recalled_at: Some(MillisSinceEpoch(70)), at: at(90) };
    let texts = ["one", "two \0 '", "three"];
    let formats = texts.map(|text| [Format::plain(text), Format::new("image/png", vec![7; 40_000])]);
    let clips: Vec<_> = (0..3)
        .map(|n| {
            let (text, formats) = (texts[n], &formats[n][..=n % 2]);
            let size = formats.iter().map(|format| format.data.len() as u64).sum();
            let title = (n == 2).then_some("Spare lamp");
            let moved_in = (n > 0).then_some(used);
            (NewClip { copied: at(n as u64 + 1), filed: at(80), size, title, moved_in, ..of(text, &source) }, formats)
        })
        .collect();
    let filed = store.file_all(&clips).await.unwrap();
    assert_eq!((filed.numbers.len(), filed.records.last().map(|last| last.change)), (3, Some(filed.change)));
    let another = Store::open(records.database.url(), ("workshop", [1; 16])).await.unwrap();
    for (record, read) in filed.records.iter().zip(another.clips(&filed.numbers).await.unwrap()) {
        assert_eq!(record, &**read);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_plain_text_is_its_own_format_and_has_no_row_beside_its_own() {
    let records = private().await;
    let store = &records.store;
    let html = Format::new("text/html", "<b>one</b>");
    let contents = async |number| {
        let mut contents = Vec::new();
        for format in store.formats(number).await.unwrap() {
            contents.push((format.mime.clone(), store.content(&format).await.unwrap()));
        }
        let mut together = Vec::new();
        for one in store.formats_of(&store.clips(&[number]).await.unwrap()).await.unwrap() {
            together.push((one.format.mime.clone(), store.content(&one.format).await.unwrap()));
        }
        assert_eq!(together, contents);
        contents
    };
    let of = |formats: &[&Format]| formats.iter().map(|is| (is.mime.clone(), is.data.clone())).collect::<Vec<_>>();
    let plain = Format::plain("one");
    // Copied plain, copied from a program that offers more, and plain again.
    for (stamp, more, rows) in [(1, &[][..], 0), (2, std::slice::from_ref(&html), 2), (3, &[], 0)] {
        let number = file(store, "one", stamp, more).await.number;
        assert_eq!(count(&records, "formats").await, rows);
        assert_eq!(contents(number).await, [of(&[&plain]), of(&more.iter().collect::<Vec<_>>())].concat());
    }
    // More of it comes after the copy.
    let at = Stamp::at_start_of(MillisSinceEpoch(3));
    let order = [html.mime.clone(), plain.mime.clone()];
    store.add_formats(1, at, std::slice::from_ref(&html), &order).await.unwrap().unwrap();
    assert_eq!(contents(1).await, of(&[&html, &plain]));
    assert_eq!(count(&records, "formats").await, 2);
    // Of one, a list does not read all.
    let longer = "long ".repeat(2_000);
    let number = file(store, &longer, 4, &[]).await.number;
    assert_eq!(contents(number).await, of(&[&Format::plain(&longer)]));
    assert_eq!(count(&records, "formats").await, 2);
    // A text that is too long to stand with its clip is content as any other.
    let long = "long ".repeat(40_000);
    let number = file(store, &long, 5, &[]).await.number;
    assert_eq!(contents(number).await, of(&[&Format::plain(&long)]));
    assert_eq!(count(&records, "formats").await, 3);
    // Nothing is left of what is forgotten for good.
    let number = file(store, "two", 6, &[]).await.number;
    store.purge(&[number], Stamp::at_start_of(MillisSinceEpoch(7))).await.unwrap();
    assert_eq!(contents(number).await, []);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_latest_stamp_is_noted_and_only_what_changed_since_is_looked_at() {
    let records = private().await;
    let store = &records.store;
    let latest = async || store.latest_stamp().await.unwrap();
    let note = async || store.note_latest_stamp().await.unwrap();
    let at = |millis| Stamp::at_start_of(MillisSinceEpoch(millis));
    file(store, "a", 100, &[]).await;
    note().await;
    let pool = sqlx::MySqlPool::connect(records.database.url()).await.unwrap();
    sqlx::query("UPDATE clips SET copied = 1, restored = 1").execute(&pool).await.unwrap();
    assert_eq!(latest().await, at(100), "a clip that has not changed was looked at");
    file(store, "b", 90, &[]).await;
    assert_eq!(latest().await, at(100));
    file(store, "c", 5_000, &[]).await;
    assert_eq!(latest().await, at(5_000));
    file(store, "b", 6_000, &[]).await;
    note().await;
    note().await;
    assert_eq!(latest().await, at(6_000));
    // What is brought back since the clock was wrong is not remembered.
    let (repaired, _) = store.repair_clock(at(1_000), MillisSinceEpoch(500)).await.unwrap();
    assert!(repaired < at(501), "{repaired:?}");
    assert_eq!(latest().await, repaired);
    note().await;
    assert_eq!(latest().await, repaired);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_newer_than_the_program_is_refused_and_not_touched() {
    let records = private().await;
    let url = records.database.url();
    let pool = sqlx::MySqlPool::connect(url).await.unwrap();
    sqlx::query("INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (9999, 'later', TRUE, 'x', 1)").execute(&pool).await.unwrap();
    let error = Store::open(url, ("other name", [2; 16])).await.unwrap_err();
    assert!(matches!(error, OpenError::Newer(9999)), "{error}");
    assert!(error.to_string().contains("please update this one"));
    let name: String = sqlx::query_scalar("SELECT name FROM devices").fetch_one(&pool).await.unwrap();
    assert_eq!(name, "workshop");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_forgotten_for_good_comes_back_as_a_later_copy_only() {
    let records = private().await;
    let store = &records.store;
    let at = |millis| Stamp::at_start_of(MillisSinceEpoch(millis));
    file(store, "the text", 100, &[]).await;
    store.purge(&[1], at(200)).await.unwrap();
    // Another clip, older than that, is edited into the same words; so they come at an earlier time.
    let mut filing = store.begin_filing().await.unwrap();
    let formats = [Format::plain("the text")];
    filing.put_content(&formats).await.unwrap();
    let source = Source::default();
    let clip = NewClip { copied: at(50), filed: at(300), ..of("the text", &source) };
    assert!(filing.commit(&clip, &formats).await.unwrap().new);
    let record = store.clips(&[1]).await.unwrap().remove(0);
    assert!(record.is_live() && record.life.copied == at(300), "{:?}", record.life);
    // What others are told of it is alive, too.
    let told = store.outgoing_since(0, u64::MAX, 10_000, &Default::default()).await.unwrap().items;
    let Some(Item::Clip(told)) = told.into_iter().find(|item| matches!(item, Item::Clip(_))) else { panic!("none") };
    assert!(told.state.is_live(Stamp::NEVER) && told.body.is_some(), "{:?}", told.state);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_older_filing_does_not_replace_what_is_newer() {
    let records = private().await;
    let store = &records.store;
    let at = |millis| Stamp::at_start_of(MillisSinceEpoch(millis));
    let html = Format::new("text/html", "<b>the text</b>");
    file(store, "the text", 200, std::slice::from_ref(&html)).await;
    let formats = [Format::plain("the text")];
    let source = Source { application: Some("older".into()), ..Source::default() };
    let older = NewClip { copied: at(100), filed: at(300), title: Some("Given now"), ..of("the text", &source) };
    let mut filing = store.begin_filing().await.unwrap();
    filing.put_content(&formats).await.unwrap();
    filing.commit(&older, &formats).await.unwrap();
    let record = store.clips(&[1]).await.unwrap().remove(0);
    assert_eq!((record.life.copied, record.copies, record.source.application.as_deref()), (at(200), 2, None));
    assert_eq!(record.title.as_deref(), Some("Given now"));
    assert_eq!(store.formats(1).await.unwrap().len(), 2);
    // A title that is given has its stamp, so that it wins over an earlier one elsewhere.
    let told = store.outgoing_since(0, u64::MAX, 10_000, &Default::default()).await.unwrap().items;
    assert!(told.iter().any(|item| matches!(item, Item::Clip(clip) if clip.state.title.stamp == at(300))), "{told:?}");
}
