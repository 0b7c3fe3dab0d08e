//! Export and import.

use crate::support::{Device, names};
use std::io::Write;
use yadori_engine::history::find::PageRequest;
use yadori_engine::keeping::add::NewClip;
use yadori_engine::moving::export::{Form, Selection};
use yadori_engine::moving::import::Report;

async fn archive(device: &Device) -> (u64, yadori_vault::SealedFile) {
    let mut export = device.engine.moving.export(&Selection::All, Form::Zip).await.unwrap();
    let mut file = device.engine.moving.incoming_file().unwrap();
    while let Some(piece) = export.pieces.recv().await {
        file.write_all(&piece.unwrap()).unwrap();
    }
    (export.left_out, file)
}

async fn import(device: &Device, file: yadori_vault::SealedFile) -> Report {
    let mut progress = device.engine.moving.import(file);
    let mut last = None;
    while let Some(next) = progress.recv().await {
        last = Some(next);
    }
    let last = last.unwrap();
    assert!(last.error.is_none());
    last.report.unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_history_moves_whole_and_only_once() {
    let (from, to) = (Device::new("workshop").await, Device::new("van").await);
    from.copy("password = h7Kd92kfLw0z").await;
    from.copy("Load-in 14:30").await;
    let keeping = &from.engine.keeping;
    keeping.new_drawer("Venues").await.unwrap();
    let new = NewClip {
        title: Some("Signature".into()),
        alias: Some("sig".into()),
        mark: Some(yadori_core::Mark::Fern),
        drawer: Some("Venues".into()),
        fills: true,
        ..NewClip::default()
    };
    keeping.add("text/plain", "Kestrel Lane Puppets".into(), new).await.unwrap();
    keeping.pin(&names(&["2"]), None).await.unwrap();
    let (left_out, file) = archive(&from).await;
    assert_eq!(left_out, 1, "a secret is never exported");
    let report = import(&to, file).await;
    assert_eq!((report.added, report.known, report.skipped), (2, 0, 0), "{:?}", report.reasons);
    let (record, _) = to.engine.history.find_clip(":sig").await.unwrap();
    assert_eq!((record.title.as_deref(), record.fills), (Some("Signature"), true));
    assert_eq!(record.drawer.map(|drawer| drawer.name).as_deref(), Some("Venues"));
    assert_eq!(to.engine.keeping.pins().await.unwrap().len(), 1);
    let before = to.shown().await;
    let (_, again) = archive(&from).await;
    let report = import(&to, again).await;
    assert_eq!((report.added, report.known), (0, 2));
    assert_eq!(to.shown().await, before);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn much_moves_together_and_what_was_deleted_there_comes_back() {
    let (from, to) = (Device::new("workshop").await, Device::new("van").await);
    for nth in 0..620 {
        let new = NewClip {
            title: (nth % 3 == 0).then(|| format!("Lamp {nth}")),
            mark: (nth % 5 == 0).then_some(yadori_core::Mark::Fern),
            ..NewClip::default()
        };
        from.engine.keeping.add("text/plain", format!("cue {nth} on the lantern").into(), new).await.unwrap();
    }
    let bin = |for_good| {
        let (to, text) = (&to, if for_good { "cue 7 on the lantern" } else { "cue 8 on the lantern" });
        async move {
            to.copy(text).await;
            to.engine.retention.delete(&names(&["1"]), for_good).await.unwrap();
        }
    };
    bin(true).await;
    bin(false).await;
    to.copy("cue 9 on the lantern").await;
    let (_, file) = archive(&from).await;
    let report = import(&to, file).await;
    assert_eq!((report.added, report.known, report.restored, report.skipped), (618, 1, 1, 0), "{:?}", report.reasons);
    let told = |device: &Device| {
        let ledger = device.engine.history.clone();
        async move {
            let index = ledger.ledger.read().await;
            let ids: std::collections::BTreeSet<_> = index.page(None, 1_000).iter().map(|hit| hit.id).collect();
            ids
        }
    };
    assert_eq!(told(&from).await, told(&to).await);
    let request = PageRequest { query: Some("\"lamp 600\"".into()), ..PageRequest::default() };
    let found = to.engine.history.find(&request).await.unwrap().clips.remove(0).record;
    assert_eq!((found.title.as_deref(), found.mark), (Some("Lamp 600"), Some(yadori_core::Mark::Fern)));
    assert_eq!(found.text, "cue 600 on the lantern");
}
