//! Changes are announced in their order, by whoever has made them or by the task that reads the feed.

use crate::support::Device;
use yadori_core::MillisSinceEpoch;
use yadori_engine::history::index::Announcement;
use yadori_store::ClipRecord;

/// Notes a use of a clip, of which nobody is told. Gives the clip as it is then.
async fn used(device: &Device, number: u64) -> ClipRecord {
    let store = &device.engine.history.store;
    let change = store.note_recall(&[number], MillisSinceEpoch(1_795_424_400_000), None).await.unwrap();
    let clip = ClipRecord::clone(&store.clips(&[number]).await.unwrap()[0]);
    assert_eq!(clip.change, change);
    clip
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_announced_in_order_and_once_whoever_brings_them() {
    let device = Device::new("workshop").await;
    device.copy("gel 201").await;
    device.copy("circuit B").await;
    let (ledger, numbers) = (&device.engine.history.ledger, device.list().await);
    let (first, second) = (numbers[0].record.number, numbers[1].record.number);
    ledger.settled().await;
    let mut announcements = ledger.listen();
    let mut announced = async || loop {
        if let Announcement::Clip(change) = announcements.recv().await.unwrap() {
            return change.number;
        }
    };

    // The later of two is brought first.
    let (earlier, later) = (used(&device, first).await, used(&device, second).await);
    let (one, two) = (earlier.change, later.change);
    ledger.changed_to(vec![later], two);
    ledger.changed_to(vec![earlier.clone()], one);
    assert_eq!((announced().await, announced().await), (one, two));

    // The very next one is there at once.
    let next = used(&device, first).await;
    let three = next.change;
    ledger.changed_to(vec![next], three);
    assert_eq!(ledger.cursor(), three);
    assert_eq!(announced().await, three);

    // One that has been announced is not announced again, and is not what the index goes back to.
    ledger.changed_to(vec![earlier], one);
    ledger.changed_to(Vec::new(), one);
    assert_eq!(ledger.cursor(), three);
    let last = used(&device, second).await;
    let four = last.change;
    ledger.changed_to(vec![last], four);
    assert_eq!(announced().await, four);
}
