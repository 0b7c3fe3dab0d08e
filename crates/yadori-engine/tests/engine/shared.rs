//! Two devices.

use crate::support::{Device, PATIENCE, names};
use yadori_core::Mark;
use yadori_engine::clock::now;
use yadori_engine::history::index::Announcement;
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::add::NewClip;
use yadori_store::ClipRecord;

/// Two linked devices, both connected.
pub async fn linked() -> (Device, Device) {
    let (workshop, van) = (Device::new("workshop").await, Device::new("van").await);
    van.joins(&workshop).await;
    for device in [&workshop, &van] {
        let connected = || async { device.engine.overview.status().await.connected == 1 };
        device.until("connected", connected).await;
    }
    (workshop, van)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_copied_named_and_deleted_here_is_so_there() {
    let (workshop, mut van) = linked().await;
    workshop.copy("Lamp 7").await;
    workshop.copy("password = h7Kd92kfLw0z").await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    let named = ClipChange { title: Some("Spare lamp".into()), alias: Some("lamp".into()), ..ClipChange::default() };
    van.engine.keeping.change_attributes("1", &named).await.unwrap();
    let has_title = || async {
        let found = workshop.engine.history.find_clip(":lamp").await;
        found.is_ok_and(|(record, _)| record.title.as_deref() == Some("Spare lamp"))
    };
    workshop.until("told of the title", has_title).await;
    van.crash().await;
    workshop.engine.retention.delete(&names(&[":lamp"]), false).await.unwrap();
    van.until("told of the deletion", || async { van.shown().await.is_empty() }).await;
}

/// Whoever watches is told that a clip is shared from now on: nothing else of it changes. What is copied while others are
/// connected is so from the beginning.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn that_a_clip_is_shared_is_announced() {
    let (workshop, van) = (Device::new("workshop").await, Device::new("van").await);
    workshop.copy("Lamp 7").await;
    let mut announcements = workshop.engine.history.ledger.listen();
    let before = workshop.engine.history.ledger.cursor();
    van.joins(&workshop).await;
    van.until("told of the lamp", || async { van.shown().await == ["Lamp 7"] }).await;
    let is_shared = |record: &ClipRecord| record.text == "Lamp 7" && record.shared;
    let told = async {
        while let Ok(announced) = announcements.recv().await {
            if let Announcement::Again(change) = announced
                && change.clip.as_ref().is_some_and(|clip| is_shared(&clip.record))
            {
                return;
            }
        }
    };
    tokio::time::timeout(PATIENCE, told).await.expect("to be told that it is shared");
    // So is whoever was away meanwhile.
    let ledger = &workshop.engine.history.ledger;
    let lamp = workshop.list().await[0].record.number;
    assert_eq!(ledger.announced_again_since(before), Some(vec![lamp]));
    assert_eq!(ledger.announced_again_since(ledger.cursor() + 1), Some(vec![]));
    workshop.until("connected", async || workshop.engine.overview.status().await.connected == 1).await;
    workshop.copy("Gel 202").await;
    assert!(workshop.list().await[0].record.shared);
    van.until("told of the gel", async || van.shown().await.len() == 2).await;
}

/// What a person gives a clip counts from when they give it, whatever date the copy is given.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_given_along_with_an_earlier_date_holds_on_both() {
    let (workshop, van) = linked().await;
    workshop.copy("Lamp 7").await;
    let plum = ClipChange { mark: Some(Some(Mark::Plum)), ..ClipChange::default() };
    workshop.engine.keeping.change_attributes("1", &plum).await.unwrap();
    let marked = async |device: &Device, mark| device.list().await.iter().any(|clip| clip.record.mark == Some(mark));
    van.until("told of the mark", || marked(&van, Mark::Plum)).await;
    let yesterday = now().minus(yadori_core::amounts::DAY);
    let again = NewClip { mark: Some(Mark::Fern), copied_at: Some(yesterday), ..NewClip::default() };
    workshop.engine.keeping.add("text/plain", "Lamp 7".into(), again).await.unwrap();
    assert!(marked(&workshop, Mark::Fern).await);
    van.until("told of the other mark", || marked(&van, Mark::Fern)).await;
}

/// What a device was told it does not tell back: its feed is passed over there, and the other has nothing to read.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_told_is_not_told_back() {
    let (workshop, van) = linked().await;
    let of_other = async |device: &Device| {
        let devices = device.engine.history.store.devices().await.unwrap();
        devices.into_iter().find(|device| !device.own).unwrap()
    };
    let is_passed = async || of_other(&van).await.acknowledged == van.engine.history.store.latest_change();
    van.until("all told", &is_passed).await;
    let before = of_other(&workshop).await.read;
    workshop.copy("Lamp 7").await;
    workshop.copy("Gel 202").await;
    let change = ClipChange { title: Some("Spare lamp".into()), alias: Some("lamp".into()), ..ClipChange::default() };
    workshop.engine.keeping.change_attributes("2", &change).await.unwrap();
    workshop.engine.retention.delete(&names(&["1"]), false).await.unwrap();
    let has_all =
        async || van.shown().await == ["Lamp 7"] && van.engine.history.find_clip("1").await.unwrap().0.alias.is_some();
    van.until("told of all", has_all).await;
    van.until("passing over it", is_passed).await;
    assert_eq!(of_other(&workshop).await.read, before);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_clip_is_sent_while_the_connection_is_made_again() {
    let (workshop, van) = linked().await;
    van.engine.sync.change_policy(&|policy| policy.may_be_put_on_clipboard = true).await.unwrap();
    let by_hand = |policy: &mut yadori_core::sharing::Policy| policy.leaves = yadori_core::sharing::Extent::ByHand;
    workshop.copy("Lamp 7").await;
    workshop.engine.sync.change_policy(&by_hand).await.unwrap();
    workshop.copy("Gel 202").await;
    workshop.engine.sync.send(&names(&["1"]), "van", true).await.unwrap();
    van.until("given the gel", || async { van.pasted() == "Gel 202" }).await;
    assert!(van.shown().await.contains(&"Gel 202".to_owned()));
}
