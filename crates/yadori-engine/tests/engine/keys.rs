//! Keys that reach the service from every program, and pasting.

use crate::support::{Device, names};
use std::time::Duration;
use yadori_core::keys::Action;
use yadori_engine::keys::{ActError, ChangeKeysError};
use yadori_engine::recalling::{Recall, RecallError};

/// A person presses keys; on return, so many texts have been pasted.
async fn press(device: &Device, keys: &str, pasted: usize) {
    device.until("grabbed", || async { device.clipboard.press(keys) }).await;
    device.until("pasted", || async { device.clipboard.pasted().len() >= pasted }).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn positions_do_not_shift_under_the_hands_when_something_is_copied_in_between() {
    let device = Device::new("workshop").await;
    for text in ["third", "second", "first"] {
        device.copy(text).await;
    }
    press(&device, "Ctrl+Alt+1", 1).await;
    device.copy("in between").await;
    press(&device, "Ctrl+Alt+2", 2).await;
    press(&device, "Ctrl+Alt+3", 3).await;
    assert_eq!(device.clipboard.pasted(), ["first", "second", "third"]);
    assert!(matches!(device.engine.keys.act_on("paste-9").await, Err(ActError::NoSuchPosition(9))));
    // Whoever sees the list means what they see.
    device.engine.keys.seen().await;
    press(&device, "Ctrl+Alt+1", 4).await;
    assert_eq!(device.clipboard.pasted()[3], "in between");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_pressed_one_after_the_other_paste_in_their_order() {
    let device = Device::new("workshop").await;
    for text in ["c", "b", "a"] {
        device.copy(text).await;
    }
    device.until("grabbed", || async { device.clipboard.press("Ctrl+Alt+3") }).await;
    for keys in ["Ctrl+Alt+1", "Ctrl+Alt+2", "Ctrl+Alt+1"] {
        assert!(device.clipboard.press(keys));
    }
    device.until("pasted", || async { device.clipboard.pasted().len() == 4 }).await;
    assert_eq!(device.clipboard.pasted(), ["c", "a", "b", "a"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_tray_is_opened_filled_closed_and_dealt_by_keys_alone() {
    let device = Device::new("workshop").await;
    device.copy("before").await;
    device.engine.keys.act_on("tray").await.unwrap();
    for field in ["Kestrel Lane Puppets", "Unit 4", "Ebbing"] {
        device.copy(field).await;
    }
    device.engine.keys.act_on("tray").await.unwrap();
    assert!(!device.engine.dealer.show_tray().await.unwrap().open);
    for pasted in 1..=3 {
        press(&device, "Ctrl+Alt+N", pasted).await;
    }
    assert_eq!(device.clipboard.pasted(), ["Kestrel Lane Puppets", "Unit 4", "Ebbing"]);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn plain_text_is_pasted_and_the_formatting_is_there_again() {
    let device = Device::new("workshop").await;
    device.copy("plain words").await;
    let id = device.list().await[0].record.id.to_string();
    device.engine.recalling.recall(&[id], &Recall::default()).await.unwrap();
    let before = device.clipboard.offered();
    device.engine.keys.act_on("paste-plain").await.unwrap();
    assert_eq!(device.clipboard.pasted(), ["plain words"]);
    assert_eq!(device.clipboard.offered(), before);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_on_the_clipboard_comes_back_after_a_paste_if_that_is_wanted() {
    let device = Device::new("workshop").await;
    device.copy("gel 201").await;
    device.copy("on the clipboard").await;
    let how = Recall { paste: true, restore: true, ..Recall::default() };
    assert!(device.engine.recalling.recall(&names(&["2"]), &how).await.unwrap().pasted);
    assert_eq!(device.clipboard.pasted(), ["gel 201"]);
    assert_eq!(device.pasted(), "on the clipboard");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_pasted_anywhere_else_when_the_window_is_gone() {
    let device = Device::new("workshop").await;
    device.copy("for that window").await;
    device.clipboard.give_keyboard(Some(7));
    let focus = device.engine.recalling.focus().await.unwrap();
    device.clipboard.give_keyboard(Some(8));
    let how = Recall { paste: true, into: Some(focus.window), ..Recall::default() };
    let refused = device.engine.recalling.recall(&names(&["1"]), &how).await.unwrap_err();
    assert!(matches!(refused, RecallError::Paste(_)), "{refused}");
    assert_eq!(refused.to_string(), "it is on the clipboard, but the window that it was for is gone");
    assert!(device.clipboard.pasted().is_empty());
    assert_eq!(device.pasted(), "for that window");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_newest_clip_is_pinned_and_capture_paused_and_back_again() {
    let device = Device::new("workshop").await;
    device.copy("to be kept").await;
    for pinned in [true, false] {
        device.engine.keys.act_on("pin").await.unwrap();
        assert_eq!(device.engine.keeping.pins().await.unwrap().len(), usize::from(pinned));
    }
    for paused in [true, false] {
        device.engine.keys.act_on("pause").await.unwrap();
        assert_eq!(device.engine.capture.is_paused(), paused);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_picker_is_asked_for_by_its_key() {
    let device = Device::new("workshop").await;
    press(&device, "Ctrl+Alt+Space", 0).await;
    let wanted = tokio::time::timeout(Duration::from_secs(10), device.engine.keys.picker_wanted());
    wanted.await.expect("the picker is wanted");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_are_set_removed_and_reset_and_outlast_the_service() {
    let mut device = Device::new("workshop").await;
    device.copy("gel 201").await;
    let keys = device.engine.keys.clone();
    assert!(matches!(keys.set("fold", Some("F5")).await, Err(ChangeKeysError::NoSuchAction(_))));
    assert!(matches!(keys.set("pin", Some("Ctrl+Foo")).await, Err(ChangeKeysError::Chord(_))));
    assert!(matches!(keys.set("pin", Some("Ctrl+Alt+1")).await, Err(ChangeKeysError::Taken(_))));
    keys.set("paste-1", Some("Super+F5")).await.unwrap();
    keys.set("pause", None).await.unwrap();
    keys.set_paste("Drawing", Some("Shift+Insert")).await.unwrap();
    device.restart().await;
    press(&device, "Super+F5", 1).await;
    assert!(!device.clipboard.press("Ctrl+Alt+1") && !device.clipboard.press("Ctrl+Alt+0"));
    let keys = device.engine.keys.clone();
    assert_eq!(keys.paste_keys()[0].0, "drawing");
    keys.reset().await.unwrap();
    assert!(device.clipboard.press("Ctrl+Alt+1"));
    let of = |action| keys.bindings().into_iter().find(|binding| binding.action == action).unwrap();
    assert_eq!(of(Action::Pause).chord, Some(Action::Pause.default_chord()));
    assert_eq!(keys.paste_keys().len(), 1, "how programs paste is no key of ours");
}
