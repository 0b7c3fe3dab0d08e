//! The tray.

use crate::support::{Device, names};
use yadori_engine::recalling::Recall;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn copies_line_up_are_dealt_in_their_order_and_survive_a_restart() {
    let mut device = Device::new("workshop").await;
    device.copy("before").await;
    device.engine.dealer.open_tray(true).await.unwrap();
    for text in ["one", "two", "three"] {
        device.copy(text).await;
    }
    device.engine.dealer.close_tray(None, false).await.unwrap();
    device.copy("after").await;
    device.engine.dealer.deal_next(false).await.unwrap();
    assert_eq!(device.pasted(), "one");
    device.restart().await;
    let dealer = device.engine.dealer.clone();
    let dealt = dealer.deal_next(false).await.unwrap();
    assert_eq!((device.pasted().as_str(), dealt.tray.next), ("two", 3));
    dealer.deal_back().await.unwrap();
    assert_eq!(device.pasted(), "one");
    dealer.arrange_tray(3, Some(1)).await.unwrap();
    dealer.restart_tray().await.unwrap();
    dealer.pour(None, &Recall { join: Some(", ".into()), ..Recall::default() }).await.unwrap();
    assert_eq!(device.pasted(), "three, one, two");
    // What has left the history is in the tray no more.
    device.engine.retention.delete(&names(&["2"]), false).await.unwrap();
    assert_eq!(dealer.show_tray().await.unwrap().items.len(), 2);
    dealer.close_tray(Some("Programme"), false).await.unwrap();
    assert!(dealer.show_tray().await.unwrap().items.is_empty());
    assert_eq!(device.engine.keeping.drawer("programme").await.unwrap().items.len(), 2);
}
