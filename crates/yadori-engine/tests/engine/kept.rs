//! What a person keeps and arranges.

use crate::support::{Device, names};
use yadori_engine::keeping::ClipChange;
use yadori_engine::keeping::drawers::{Shown, SortBy};
use yadori_engine::recalling::Recall;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_copy_is_listed_found_and_recalled() {
    let mut device = Device::new("workshop").await;
    device.copy("Lamp 7 is blown").await;
    device.copy("Load-in 14:30").await;
    device.copy("Lamp 7 is blown").await;
    assert_eq!(device.shown().await, ["Lamp 7 is blown", "Load-in 14:30"]);
    assert_eq!(device.found("lamp").await, ["Lamp 7 is blown"]);
    device.engine.recalling.recall(&names(&["2", "1"]), &Recall::default()).await.unwrap();
    assert_eq!(device.pasted(), "Load-in 14:30\nLamp 7 is blown");
    device.restart().await;
    assert_eq!(device.shown().await, ["Lamp 7 is blown", "Load-in 14:30"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn pins_aliases_and_drawers_are_kept_in_their_order() {
    let device = Device::new("workshop").await;
    for text in ["c", "b", "a"] {
        device.copy(text).await;
    }
    let keeping = &device.engine.keeping;
    keeping.pin(&names(&["3", "1"]), None).await.unwrap();
    keeping.pin(&names(&["1"]), Some(1)).await.unwrap();
    let pinned = |clips: Vec<yadori_engine::history::listing::Listed>| {
        clips.into_iter().map(|clip| clip.record.text.clone()).collect::<Vec<_>>()
    };
    assert_eq!(pinned(keeping.pins().await.unwrap()), ["a", "c"]);
    keeping.new_drawer("Venues").await.unwrap();
    keeping.put_into_drawer("venues", &names(&["2", "1"]), None).await.unwrap();
    keeping.sort_drawer("Venues", SortBy::Name).await.unwrap();
    let lies = keeping.drawer("Venues").await.unwrap().items.into_iter().map(|item| match item {
        Shown::Clip(clip) => clip.record.text.clone(),
        Shown::Heading(words) => words,
    });
    assert_eq!(lies.collect::<Vec<_>>(), ["a", "b"]);
    let alias = ClipChange { alias: Some("sig".into()), ..ClipChange::default() };
    keeping.change_attributes("1", &alias).await.unwrap();
    let taken = keeping.change_attributes("2", &alias).await.unwrap_err();
    assert!(taken.to_string().contains("stands for another clip"), "{taken}");
    keeping.change_attributes("2", &ClipChange { take_alias: true, ..alias }).await.unwrap();
    assert_eq!(device.engine.history.find_clip(":sig").await.unwrap().0.text, "b");
}

/// A link that is only written otherwise is the same clip: an edit into it takes nothing away.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_link_that_is_written_otherwise_stays() {
    let device = Device::new("workshop").await;
    device.copy("https://example.org/plan").await;
    let alias = ClipChange { alias: Some("plan".into()), ..ClipChange::default() };
    device.engine.keeping.change_attributes("1", &alias).await.unwrap();
    device.engine.keeping.edit(":plan", b"HTTPS://Example.org/plan", None).await.unwrap();
    assert_eq!(device.list().await.len(), 1);
    assert!(device.engine.history.find_clip(":plan").await.is_ok());
    assert!(device.engine.retention.bin(0, None).await.unwrap().clips.is_empty());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_read_is_kept_until_the_next_write() {
    let device = Device::new("workshop").await;
    device.copy("as it was").await;
    // After a copy something may still be written, as how many there were that day: then it is read again.
    let mut kept = false;
    for _ in 0..100 {
        let before = device.shown().await;
        device.execute("UPDATE clips SET text = CONCAT(text, '!')");
        kept = device.shown().await == before;
        if kept {
            break;
        }
    }
    assert!(kept, "it is asked for each time, though nothing is written");
    device.copy("another").await;
    assert!(device.shown().await[1].ends_with('!'), "{:?}", device.shown().await);
}
