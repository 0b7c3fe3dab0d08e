//! What leaves the history, and how it comes back.

use crate::support::{Device, names};
use yadori_core::Mark;
use yadori_core::MillisSinceEpoch;
use yadori_core::retention::Limits;
use yadori_core::rules::Rules;
use yadori_engine::clock::now;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::retention::delete::Slice;
use yadori_engine::rule_book::ChangeRulesError;
use yadori_store::{STAMPS_ELSEWHERE, STAMPS_OF_CLIPS};

async fn add_old(device: &Device, text: &str, days: u64) {
    let copied_at = Some(MillisSinceEpoch(now().0 - days * 86_400_000));
    let new = NewClip { copied_at, ..NewClip::default() };
    device.engine.keeping.add("text/plain", text.to_owned().into(), new).await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn deletes_and_edits_are_undone_backwards_and_redone_forwards() {
    let mut device = Device::new("workshop").await;
    for text in ["Cue 3", "Cue 2", "Cue 1"] {
        device.copy(text).await;
    }
    let retention = device.engine.retention.clone();
    retention.delete(&names(&["1"]), false).await.unwrap();
    device.engine.keeping.edit("1", b"Cue 2, faster", None).await.unwrap();
    retention.clear(&Slice::default()).await.unwrap();
    assert!(device.shown().await.is_empty());
    retention.undo(None).await.unwrap();
    assert_eq!(device.shown().await, ["Cue 2, faster", "Cue 3"]);
    retention.undo(None).await.unwrap();
    assert_eq!(device.shown().await, ["Cue 2", "Cue 3"]);
    retention.undo(None).await.unwrap();
    assert_eq!(device.shown().await, ["Cue 1", "Cue 2", "Cue 3"]);
    assert!(retention.undo(None).await.is_err(), "there is nothing more to undo");
    retention.redo(None).await.unwrap();
    retention.redo(None).await.unwrap();
    assert_eq!(device.shown().await, ["Cue 2, faster", "Cue 3"]);
    device.restart().await;
    let retention = device.engine.retention.clone();
    retention.redo(None).await.unwrap();
    assert!(device.shown().await.is_empty());
    assert!(retention.redo(None).await.is_err(), "all is redone");
    retention.undo(None).await.unwrap();
    retention.delete(&names(&["1"]), false).await.unwrap();
    assert!(retention.redo(None).await.is_err(), "something else was deleted since");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_came_back_by_hand_is_not_deleted_again_by_a_redo() {
    let device = Device::new("workshop").await;
    for text in ["b", "a"] {
        device.copy(text).await;
    }
    let retention = &device.engine.retention;
    retention.delete(&names(&["1"]), false).await.unwrap();
    retention.restore(&names(&["1"])).await.unwrap();
    retention.delete(&names(&["2"]), false).await.unwrap();
    retention.undo(None).await.unwrap();
    assert!(retention.undo(None).await.is_err());
    retention.redo(None).await.unwrap();
    assert_eq!(device.shown().await, ["a"]);
    assert!(retention.redo(None).await.is_err());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_rule_that_takes_more_than_half_wants_a_word() {
    let device = Device::new("workshop").await;
    for number in 0..25 {
        add_old(&device, &format!("old {number}"), 20 + number).await;
    }
    device.copy("new").await;
    device.engine.keeping.pin(&names(&["26"]), None).await.unwrap();
    let week = |rules: &mut Rules| {
        rules.retention.all = Limits { age_millis: Some(7 * 86_400_000), ..Limits::default() };
        Ok(())
    };
    let book = &device.engine.rule_book;
    let preview = book.preview_rules(&week).await.unwrap();
    assert_eq!((preview.clips, preview.staying, preview.kept, preview.drastic), (24, 1, 1, true));
    assert!(matches!(book.change_rules(&week, false).await, Err(ChangeRulesError::Drastic(24, 25))));
    assert_eq!(device.list().await.len(), 26, "nothing has gone");
    book.change_rules(&week, true).await.unwrap();
    device.until("swept", || async { device.shown().await == ["new", "old 24"] }).await;
    book.reset_rules(false).await.unwrap();
    assert_eq!(book.rules().rules(), &Rules::default());
}

/// Once this device's clock was ahead and something was stamped then, it goes on from there after a restart, whatever that
/// stamp belongs to.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_clock_goes_on_after_the_latest_stamp_of_every_attribute() {
    let changes = [
        ClipChange { title: Some("a title".into()), ..ClipChange::default() },
        ClipChange { mark: Some(Some(Mark::Fern)), ..ClipChange::default() },
        ClipChange { alias: Some("sig".into()), ..ClipChange::default() },
        ClipChange { fills: Some(true), ..ClipChange::default() },
    ];
    let mut device = Device::new("workshop").await;
    device.copy("Dear {ask:Name}").await;
    for change in changes {
        let ahead =
            yadori_core::Stamp::at_start_of(MillisSinceEpoch(device.engine.history.stamps.latest().at().0 + 60_000));
        device.engine.history.stamps.observe(ahead);
        device.engine.keeping.change_attributes("1", &change).await.unwrap();
        device.restart().await;
        assert!(device.engine.history.stamps.next() > ahead, "{change:?}");
    }
}

/// Columns that hold stamps are not forgotten where the latest stamp is looked for.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_column_that_holds_a_stamp_is_known() {
    let device = Device::new("workshop").await;
    // What is hashed is half a year old.
    let columns = device.columns("column_name LIKE '%stamp' AND table_name <> 'hashed_tombstones'");
    for (table, column) in columns {
        let is_known = match table.as_str() {
            "clips" => STAMPS_OF_CLIPS.contains(&column.as_str()),
            _ => STAMPS_ELSEWHERE.contains(&(table.as_str(), column.as_str())),
        };
        assert!(is_known, "{table}.{column} is in no list of crates/yadori-store/src/stamps.rs");
    }
}
