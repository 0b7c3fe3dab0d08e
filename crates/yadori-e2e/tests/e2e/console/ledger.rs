//! The history: live, searched, walked by keyboard.

use super::{Page, copy};
use std::sync::{Arc, Mutex};
use thirtyfour::Key;
use yadori_api::Invitation;
use yadori_e2e::home::Home;
use yadori_e2e::service::Service;

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_page_teaches_and_a_copy_appears_without_reloading() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.browser.until("document.body.innerText.includes('The page is still empty')").await;
    page.browser.shot("empty").await;
    page.check_accessibility("the empty page").await;
    tokio::task::block_in_place(|| copy(page.service(), &[("text/plain", "fresh from the clipboard")]));
    page.browser.until("document.querySelector('article')?.innerText.includes('fresh from the clipboard')").await;
    assert_eq!(page.browser.eval("return document.querySelector('h2').innerText").await, "Today");
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ledger_is_searched_and_used_by_keyboard_alone() {
    let mut page = Page::with_sample(1280, 800).await;
    page.browser.wait("article").await;
    page.browser.shot("ledger-paper").await;
    page.check_accessibility("the ledger").await;

    // Search as one types; matches are marked.
    page.browser.press("/").await;
    page.browser.until("document.activeElement.getAttribute('role') === 'combobox'").await;
    page.browser.press("lamp \"650 w\"").await;
    page.browser.until("document.querySelectorAll('mark').length > 1 && document.querySelector('#found').innerText.includes('of 107')").await;
    assert!(page.entries().await[0].starts_with("LX Lamp Gel"), "{:?}", page.entries().await);
    page.browser.shot("search-paper").await;
    page.check_accessibility("a search").await;

    // Enter puts the first on the clipboard.
    page.browser.press(Key::Enter).await;
    page.browser.until("document.body.innerText.includes('is on the clipboard')").await;
    let pasted = tokio::task::block_in_place(|| page.service().get("/simulated/paste").text());
    assert!(pasted.starts_with("LX\tLamp\tGel"), "{pasted}");

    // Into the list, unfold, and back to the head by Escape.
    page.browser.press(Key::Down).await;
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    page.browser.press(Key::Down).await;
    page.browser.until("document.activeElement.closest('article').getAttribute('aria-posinset') === '2'").await;
    page.browser.press(Key::Enter).await;
    page.browser.until("document.activeElement.getAttribute('aria-expanded') === 'true' && document.querySelector('article dl') !== null").await;
    page.browser.shot("unfolded-paper").await;
    page.check_accessibility("an unfolded entry").await;
    page.browser.press(Key::Escape).await;
    page.browser.until("document.querySelector('[aria-expanded=true]') === null && document.activeElement.dataset.entry !== undefined").await;

    // Delete keeps the focus in the list, and is undone by one key.
    let before = page.browser.eval("return document.activeElement.dataset.entry").await;
    page.browser.press(Key::Delete).await;
    tokio::task::block_in_place(|| while page.events.change().clip.is_some() {});
    page.browser
        .until(&format!(
            "document.activeElement.dataset.entry !== undefined && document.activeElement.dataset.entry !== {before}"
        ))
        .await;
    page.browser.press("u").await;
    page.browser.until(&format!("document.activeElement.dataset.entry === {before}")).await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_leads_to_its_entry_however_far_down_it_lies() {
    let page = Page::with_sample(1280, 800).await;
    page.browser.until("document.querySelector('article') !== null").await;
    let all: yadori_api::ClipPage = tokio::task::block_in_place(|| page.service().get("/clips?limit=200").json());
    let last = all.clips.last().expect("the oldest clip").id.clone();
    let there =
        format!("document.activeElement.dataset.entry === '{last}' && document.querySelector('article dl') !== null");
    page.browser.eval(&format!("location.hash = '#/?clip={last}'")).await;
    page.browser.until(&there).await;
    page.browser.driver.refresh().await.unwrap();
    page.browser.until(&there).await;
    assert_eq!(page.browser.eval("return location.hash").await, format!("#/?clip={last}"));
    page.browser.shot("far-down").await;
    // One that is not listed is shown by itself, if there is one.
    page.browser.eval("location.hash = '#/?clip=aaaaaaaaaaaaaaaaaaaaaaaaaa'").await;
    page.browser.until("location.hash === '#/clip/aaaaaaaaaaaaaaaaaaaaaaaaaa'").await;
    page.says("There is no clip aaaaaaaaaaaaaaaaaaaaaaaaaa.").await;
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_clip_is_copied_in_the_browser_itself() {
    let page = Page::open(1280, 800, |service| {
        copy(service, &[("text/plain", "into the browser"), ("text/html", "<b>into the browser</b>")]);
    })
    .await;
    let origin = format!("http://{}", page.service().reach.address);
    for permission in ["clipboardReadWrite", "clipboardSanitizedWrite"] {
        page.browser
            .devtools("Browser.grantPermissions", serde_json::json!({"origin": origin, "permissions": [permission]}))
            .await;
    }
    page.unfold(1).await;
    page.browser.until("document.querySelector('article dl') !== null").await;
    page.browser
        .devtools(
            "Browser.grantPermissions",
            serde_json::json!({"origin": origin, "permissions": ["clipboardReadWrite", "clipboardSanitizedWrite"]}),
        )
        .await;
    page.browser.press("c").await;
    page.browser.until("document.body.innerText.includes('is copied in this browser')").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_works_by_night_and_on_a_phone() {
    let page = Page::with_sample(1280, 800).await;
    page.browser
        .devtools(
            "Emulation.setEmulatedMedia",
            serde_json::json!({"features": [{"name": "prefers-color-scheme", "value": "dark"}]}),
        )
        .await;
    page.browser.wait("article").await;
    page.browser.shot("ledger-night").await;
    page.check_accessibility("the ledger by night").await;
    page.unfold(1).await;
    page.browser.until("document.querySelector('article dl') !== null").await;
    page.check_accessibility("an unfolded entry by night").await;
    page.browser
        .devtools(
            "Emulation.setDeviceMetricsOverride",
            serde_json::json!({"width": 360, "height": 740, "deviceScaleFactor": 2, "mobile": true}),
        )
        .await;
    page.browser.until("innerWidth === 360").await;
    page.browser.shot("phone-night").await;
    page.check_accessibility("the phone").await;
    assert_eq!(
        page.browser.eval("return document.documentElement.scrollWidth").await,
        360,
        "nothing is wider than the phone"
    );
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pause_is_made_and_seen_on_the_page() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.click("Pause").await;
    page.click("Until I resume").await;
    page.browser.until("document.querySelector('header').innerText.includes('Paused')").await;
    tokio::task::block_in_place(|| page.service().run(&["resume"]));
    page.browser.until("document.querySelector('header').innerText.includes('Keeping copies')").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn missing_files_and_selected_text_are_told() {
    let page = Page::open(1280, 800, |service| {
        let mut events = service.events(None);
        let here = yadori_core::files::uri(env!("CARGO_MANIFEST_DIR").as_bytes());
        let list =
            format!("cut\n{here}/Cargo.toml\n{here}/cue%20list%0Awith%20two%20lines%ff.ods\nfile:///srv/%E2%80%AEgone");
        copy(service, &[("x-special/gnome-copied-files", &list)]);
        events.change();
        service.post(
            "/simulated/copy",
            &serde_json::json!({"formats": [{"mime": "text/plain", "text": "gel 201"}],
                "source": {"application": "Terminal", "selected": true}}),
        );
        events.change();
    })
    .await;
    page.unfold(2).await;
    page.browser.until("document.body.innerText.includes('2 of these files do not exist any more')").await;
    let missing = "return [...document.querySelectorAll('[aria-label=\"The files\"] li')].map(e => e.innerText.includes('missing'))";
    assert_eq!(page.browser.eval(missing).await, serde_json::json!([false, true, true]));
    page.browser.shot("files").await;
    page.check_accessibility("files").await;
    page.unfold(1).await;
    page.browser.until("document.body.innerText.includes('It was only selected, and never copied')").await;
    page.browser.shot("selected").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn it_is_shown_where_a_clip_is_from_and_where_its_content_is() {
    // The service ends before its home goes.
    let other: Arc<Mutex<Option<(Service, Home)>>> = Arc::default();
    let kept = other.clone();
    let page = Page::open(1280, 800, move |service| {
        let home = Home::of("van");
        let van = Service::simulated(&home);
        let invitation: Invitation = serde_json::from_str(&service.run(&["device", "invite", "--json"])).unwrap();
        service.run(&["sync", "policy", "--fetch-above", "1KB"]);
        van.run(&["device", "join", &invitation.addresses[0], &invitation.code]);
        let mut events = service.events(None);
        van.run(&["add", "Ferry at 06:40"]);
        events.copied("Ferry");
        assert!(van.run_with(&["add", "-"], "Cue 1: house lights\n".repeat(9_000).as_bytes()).status.success());
        events.copied("Cue 1");
        *kept.lock().unwrap() = Some((van, home));
    })
    .await;
    page.browser.until("document.querySelector('article').innerText.includes('elsewhere')").await;
    page.unfold(2).await;
    page.browser.until("document.querySelector('dl')?.innerText.includes('van, shared with your other devices')").await;
    page.unfold(1).await;
    page.browser
        .until("document.querySelector('dl')?.innerText.includes('van; its content is on another device')")
        .await;
    page.browser.shot("elsewhere").await;
    page.check_accessibility("an entry whose content is on another device").await;
    // It is fetched when it is put on the clipboard.
    page.click("Put on the clipboard").await;
    page.says("is on the clipboard").await;
    page.browser.until("!document.querySelector('article').innerText.includes('elsewhere')").await;
    let pasted = page.service().get("/simulated/paste?format=text/plain").text();
    assert_eq!(pasted.lines().count(), 9_000);
    page.finish().await;
    drop(other.lock().unwrap().take());
}
