//! What is kept: pins, drawers, the tray; and many clips at once.

use super::{Page, copy};
use thirtyfour::Key;
use yadori_e2e::service::Service;

fn fields(service: &Service) {
    let mut events = service.events(None);
    for text in ["one", "two", "three", "four"] {
        copy(service, &[("text/plain", text)]);
        events.copied(text);
    }
}

async fn press_with(page: &Page, with: Key, key: Key) {
    page.browser.driver.action_chain().key_down(with.clone()).send_keys(key).key_up(with).perform().await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn many_are_selected_joined_pinned_and_deleted_and_come_back() {
    let page = Page::open(1280, 800, fields).await;
    page.browser.until("document.querySelectorAll('article').length === 4").await;
    page.browser.press("/").await;
    page.browser.press(Key::Down).await;
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    press_with(&page, Key::Shift, Key::Down).await;
    press_with(&page, Key::Shift, Key::Down).await;
    page.says("3 clips selected").await;
    page.check_accessibility("selected clips").await;
    page.browser.shot("selected-clips").await;
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    page.browser.press("r").await;
    page.says("3 clips are on the clipboard.").await;
    let paste = || tokio::task::block_in_place(|| page.service().get("/simulated/paste").text());
    assert_eq!(paste(), "four\nthree\ntwo");
    page.click("Join with…").await;
    page.browser.eval("document.querySelector('dialog [value=across]').click()").await;
    page.click("Put on the clipboard").await;
    page.browser.until("document.querySelector('dialog') === null").await;
    assert_eq!(paste(), "four\tthree\ttwo");
    page.browser.until("document.activeElement !== document.body").await;
    page.click("Delete").await;
    page.browser.until("document.querySelectorAll('article').length === 1").await;
    page.click("Undo").await;
    page.browser.until("document.querySelectorAll('article').length === 4").await;
    page.says("3 clips are back.").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn pins_stand_above_the_history_and_are_ordered_by_keyboard() {
    let page = Page::open(1280, 800, |service| {
        fields(service);
        service.run(&["pin", "1", "2", "3"]);
    })
    .await;
    let ribbon =
        "[...document.querySelectorAll('[aria-label=\"Pinned clips\"] li')].map((e) => e.innerText.trim()).join()";
    page.browser.until(&format!("{ribbon} === 'four,three,two'")).await;
    page.click("three").await;
    page.says("“three” is on the clipboard.").await;
    page.go("#/kept", "Kept").await;
    let order = "[...document.querySelectorAll('article')].map((e) => e.querySelector('bdi').innerText.trim()).join()";
    page.browser.until(&format!("{order} === 'four,three,two'")).await;
    page.browser.eval("document.querySelector('[data-entry]').focus()").await;
    press_with(&page, Key::Alt, Key::Down).await;
    page.browser.until(&format!("{order} === 'three,four,two'")).await;
    page.browser.until("document.activeElement.innerText?.includes('four')").await;
    press_with(&page, Key::Alt, Key::Down).await;
    page.browser.until(&format!("{order} === 'three,two,four'")).await;
    // And by the pointer.
    page.click("Move “four” up").await;
    page.browser.until(&format!("{order} === 'three,four,two'")).await;
    page.go("#/", "History").await;
    page.browser.until(&format!("{ribbon} === 'three,four,two'")).await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_drawer_is_made_filled_headed_sorted_poured_and_removed() {
    let page = Page::open(1280, 800, fields).await;
    page.go("#/kept", "Kept").await;
    page.says("Nothing is pinned").await;
    page.fill("New drawer", "Letters").await;
    page.click("Make").await;
    page.says("This drawer is empty").await;
    page.browser.until("location.hash === '#/kept/Letters'").await;
    page.go("#/", "History").await;
    page.unfold(4).await;
    page.browser.press("d").await;
    page.browser.until("document.querySelector('dialog[open] li button') !== null").await;
    page.browser.eval("document.querySelector('dialog[open] li button').click()").await;
    page.says("Put “one” into Letters.").await;
    // Changed elsewhere, seen here.
    page.run(&["drawer", "put", "Letters", "1", "2"]);
    page.go("#/kept/Letters", "Kept").await;
    let order = "[...document.querySelectorAll('article bdi.entry-text, main section h2 bdi')].map((e) => e.innerText.trim()).join()";
    page.browser.until(&format!("{order} === 'one,four,three'")).await;
    page.click("What can be done with the drawer Letters").await;
    page.click("Sort by name").await;
    page.browser.until(&format!("{order} === 'four,one,three'")).await;
    page.click("What can be done with the drawer Letters").await;
    page.click("Add a heading").await;
    page.fill("Heading", "Greetings").await;
    page.click("Save").await;
    page.browser.until(&format!("{order} === 'four,one,three,Greetings'")).await;
    page.click("Move Greetings up").await;
    page.browser.until(&format!("{order} === 'four,one,Greetings,three'")).await;
    page.check_accessibility("a drawer with a heading").await;
    page.click("What can be done with the drawer Letters").await;
    page.click("Pour onto the clipboard…").await;
    page.click("Put on the clipboard").await;
    page.says("3 clips are on the clipboard as one.").await;
    assert_eq!(tokio::task::block_in_place(|| page.service().get("/simulated/paste").text()), "four\none\nthree");
    page.click("What can be done with the drawer Letters").await;
    page.click("Rename the drawer").await;
    page.fill("Name", "Post").await;
    page.click("Save").await;
    page.browser.until("location.hash === '#/kept/Post' && document.querySelectorAll('article').length === 3").await;
    page.click("What can be done with the drawer Post").await;
    page.click("Remove the drawer").await;
    page.browser.until("location.hash === '#/kept'").await;
    assert!(page.run(&["list"]).contains("four"));
    page.finish_but("/api/v1/drawers/Letters -").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_tray_is_filled_ordered_dealt_and_poured() {
    let page = Page::open(1280, 800, fields).await;
    page.browser.until("document.querySelectorAll('article').length === 4").await;
    assert_eq!(page.browser.eval("return document.querySelector('[aria-label=Tray]')").await, serde_json::Value::Null);
    page.run(&["tray", "open"]);
    page.says("Copy the fields you need").await;
    tokio::task::block_in_place(|| copy(page.service(), &[("text/plain", "copied into it")]));
    page.says("Next: “copied into it”").await;
    page.browser.eval("document.querySelector(\"article[aria-posinset='3'] [data-entry]\").focus()").await;
    page.browser.press("y").await;
    page.says("Added “three” to the tray.").await;
    let items =
        "[...document.querySelectorAll('[aria-label=\"Clips in the tray\"] li')].map((e) => e.innerText.trim()).join()";
    page.browser.until(&format!("{items} === '1 “copied into it”,2 “three”'")).await;
    page.check_accessibility("the tray").await;
    // Ordered by keyboard: the second comes first, and keeps the focus.
    page.browser.eval("document.querySelectorAll('[aria-label=\"Clips in the tray\"] li button')[2].focus()").await;
    press_with(&page, Key::Alt, Key::Up).await;
    page.browser.until(&format!("{items} === '1 “three”,2 “copied into it”'")).await;
    page.browser.until("document.activeElement.innerText?.includes('three')").await;
    page.browser.press("n").await;
    page.says("“three” is on the clipboard.").await;
    assert_eq!(tokio::task::block_in_place(|| page.service().get("/simulated/paste").text()), "three");
    page.click("Pour…").await;
    page.browser.eval("document.querySelector('dialog [value=comma]').click()").await;
    page.click("Put on the clipboard").await;
    page.says("on the clipboard as one").await;
    page.click("Close and empty").await;
    page.browser.until("document.querySelector('[aria-label=Tray]') === null").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clip_is_labelled_edited_reshaped_and_asks_for_what_it_needs() {
    let page = Page::open(1280, 800, |service| {
        fields(service);
        let mut events = service.events(None);
        copy(service, &[("text/plain", "Dear {ask:Name}, until Saturday")]);
        events.change();
    })
    .await;
    page.unfold(1).await;
    page.browser.press("l").await;
    page.fill("Title", "Letter").await;
    page.fill("Alias", "dear").await;
    page.browser.eval("document.querySelector('dialog [value=fern]').click()").await;
    page.browser.eval("document.querySelector('dialog [type=checkbox]').click()").await;
    page.click("Save").await;
    page.says("Saved “Letter”.").await;
    page.browser.until("document.querySelector('article .mark-fern') !== null && document.querySelector('article').innerText.includes(':dear')").await;
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    page.browser.press("r").await;
    page.fill("Name", "Ines").await;
    page.check_accessibility("placeholders").await;
    page.click("Put on the clipboard").await;
    page.browser.until("document.querySelector('dialog') === null").await;
    let paste = || tokio::task::block_in_place(|| page.service().get("/simulated/paste").text());
    assert_eq!(paste(), "Dear Ines, until Saturday");
    // Another one: reshaped onto the clipboard, then edited.
    page.unfold(3).await;
    page.browser.press("w").await;
    page.click("upper").await;
    page.browser
        .until("[...document.querySelectorAll('dialog pre')].map((e) => e.innerText).join() === 'three,THREE'")
        .await;
    page.browser.shot("reshape").await;
    page.click("Put on the clipboard").await;
    page.browser.until("document.querySelector('dialog') === null").await;
    assert_eq!(paste(), "THREE");
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    page.browser.press("e").await;
    page.browser.until("document.querySelector('dialog textarea')?.value === 'three'").await;
    page.fill("Text", "three and a half").await;
    page.click("Save").await;
    page.browser.until("document.querySelector('article').innerText.includes('three and a half') || document.body.innerText.includes('three and a half')").await;
    assert!(page.run(&["list"]).contains("three and a half"));
    page.finish_but("/api/v1/recall -").await;
}
