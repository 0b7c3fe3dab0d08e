//! Every page: what it does, and that everybody can use it.

use super::{Page, copy};
use std::sync::{Arc, Mutex};
use thirtyfour::Key;
use yadori_api::Invitation;
use yadori_e2e::home::Home;
use yadori_e2e::relay::Relay;
use yadori_e2e::service::{Service, command};

/// The pages, and what stands at their heads.
const PAGES: [(&str, &str); 9] = [
    ("#/", "History"),
    ("#/kept", "Kept"),
    ("#/add", "Add"),
    ("#/devices", "Devices"),
    ("#/rules", "Rules"),
    ("#/bin", "Bin"),
    ("#/figures", "Figures"),
    ("#/settings", "Settings"),
    ("#/help", "Help"),
];

async fn look(page: &Page, dark: bool, width: u32, height: u32) {
    let scheme = if dark { "dark" } else { "light" };
    page.browser
        .devtools(
            "Emulation.setEmulatedMedia",
            serde_json::json!({"features": [{"name": "prefers-color-scheme", "value": scheme}, {"name": "prefers-reduced-motion", "value": "reduce"}]}),
        )
        .await;
    page.browser
        .devtools(
            "Emulation.setDeviceMetricsOverride",
            serde_json::json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500}),
        )
        .await;
    page.browser
        .until(&format!("innerWidth === {width} && matchMedia('(prefers-color-scheme: {scheme})').matches"))
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_can_be_used_by_everybody_in_both_themes_and_at_any_width() {
    let page = Page::with_sample(1280, 800).await;
    page.run(&["pin", "3"]);
    page.run(&["drawer", "new", "Venues"]);
    page.run(&["drawer", "put", "Venues", "5", "6"]);
    page.run(&["tray", "open"]);
    page.run(&["tray", "add", "4", "9"]);
    page.run(&["delete", "40"]);
    // (By night at 1280 they are looked at in Japanese.)
    for (dark, width, height) in [(false, 1280, 800), (true, 320, 640)] {
        look(&page, dark, width, height).await;
        for (address, heading) in PAGES.iter().chain(&[("#/kept/Venues", "Kept"), ("#/welcome", "Welcome to Yadori")]) {
            page.go(address, heading).await;
            page.browser.until("document.querySelectorAll('article, form, table, section').length > 0").await;
            let what = format!("{address} at {width}, dark: {dark}");
            page.check_accessibility(&what).await;
            // Nothing is lost at 320 pixels, which is a page of 1280 magnified four times.
            assert_eq!(page.browser.eval("return document.documentElement.scrollWidth").await, width, "{what}");
            page.browser.shot(&format!("page-{}-{width}-{dark}", heading.replace(' ', "-"))).await;
        }
    }
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn dialogs_can_be_used_by_everybody() {
    let page = Page::open(1280, 800, |service| {
        let mut events = service.events(None);
        copy(service, &[("text/plain", "https://example.org/plan")]);
        events.change();
        copy(service, &[("text/plain", "Dear {{name}},\nthe plan")]);
        events.change();
    })
    .await;
    page.unfold(1).await;
    for (key, title) in [
        ("d", "into a drawer"),
        ("l", "Label"),
        ("e", "Edit"),
        ("w", "Reshape"),
        ("s", "to a device"),
        ("q", "as a QR code"),
    ] {
        page.browser.until("document.activeElement.dataset.entry !== undefined").await;
        page.browser.press(key).await;
        page.browser.until(&format!("document.querySelector('dialog[open] h2')?.innerText.includes('{title}')")).await;
        page.check_accessibility(title).await;
        page.browser.press(Key::Escape).await;
        page.browser.until("document.querySelector('dialog') === null").await;
    }
    // The palette knows what the entry is, and comes by a key that no browser has.
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    page.browser
        .driver
        .action_chain()
        .key_down(Key::Control)
        .send_keys(".")
        .key_up(Key::Control)
        .perform()
        .await
        .unwrap();
    page.browser.until("document.activeElement.getAttribute('aria-label') === 'What do you want to do?'").await;
    page.check_accessibility("the palette").await;
    page.browser.press("pin").await;
    page.browser.until("document.querySelectorAll('dialog [role=option]').length === 1").await;
    page.browser.press(Key::Enter).await;
    page.says("Pinned").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_first_visit_says_what_is_kept_and_lets_one_try() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.browser.eval("localStorage.clear(); location.hash = ''; location.reload()").await;
    page.browser.until("document.querySelector('h1')?.innerText === 'Welcome to Yadori'").await;
    page.fill("Write something in by hand", "my very first").await;
    page.click("Add").await;
    page.says("Your newest clip: my very first").await;
    page.click("Put on the clipboard").await;
    page.says("is on the clipboard").await;
    assert_eq!(tokio::task::block_in_place(|| page.service().get("/simulated/paste").text()), "my very first");
    page.click("Go to the history").await;
    page.browser.until("document.querySelector('article') !== null").await;
    page.browser.eval("location.hash = ''; location.reload()").await;
    page.browser.until("document.querySelector('h1')?.innerText === 'History'").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_written_pasted_or_dropped_is_kept() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.go("#/add", "Add").await;
    page.fill("Text", "two lines\nof a letter").await;
    page.click("Add to the history").await;
    page.says("Added “two lines of a letter” to the history.").await;
    page.browser
        .eval(
            "const files = new DataTransfer();
             files.items.add(new File(['dropped text'], 'note.txt', { type: 'text/plain' }));
             files.items.add(new File([Uint8Array.from(atob('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg=='), (c) => c.charCodeAt(0))], 'dot.png', { type: 'image/png' }));
             files.items.add(new File([new Uint8Array(9)], 'tool.bin', { type: 'application/octet-stream' }));
             dispatchEvent(new DragEvent('drop', { dataTransfer: files, bubbles: true, cancelable: true }));",
        )
        .await;
    page.says("Added 2 clips. Not added: tool.bin.").await;
    page.go("#/", "History").await;
    page.browser.until("document.querySelectorAll('article').length === 3").await;
    // Pasted where nobody types: kept as well.
    page.browser
        .eval(
            "const text = new DataTransfer();
             text.setData('text/plain', 'pasted on the page');
             dispatchEvent(new ClipboardEvent('paste', { clipboardData: text, bubbles: true, cancelable: true }));",
        )
        .await;
    page.browser.until("document.querySelector('article').innerText.includes('pasted on the page')").await;
    // With its formatting, if it has any.
    page.browser
        .eval(
            "const cells = new DataTransfer();
             cells.setData('text/plain', 'LX 7');
             cells.setData('text/html', '<p>LX <b>7</b></p>');
             dispatchEvent(new ClipboardEvent('paste', { clipboardData: cells, bubbles: true, cancelable: true }));",
        )
        .await;
    page.browser.until("document.querySelector('article').innerText.includes('LX 7')").await;
    assert_eq!(page.run(&["show", "1", "--format", "text/html"]), "<p>LX <b>7</b></p>");
    assert_eq!(page.run(&["show", "1", "--format", "text/plain"]).trim_end(), "LX 7");
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn rules_are_sentences_and_what_would_go_is_shown_before_it_is_saved() {
    let page = Page::with_sample(1280, 800).await;
    page.go("#/rules", "Rules").await;
    page.fill("The history keeps at most", "100").await;
    page.says("With these rules, 7 clips").await;
    page.check_accessibility("unsaved rules").await;
    page.browser.shot("rules-unsaved").await;
    page.click("Save").await;
    page.says("The rules are saved.").await;
    assert!(page.run(&["rules"]).contains("at most 100 clips"));
    // Much would go: it is asked once more.
    page.fill("The history keeps at most", "5").await;
    page.says("would go to the bin").await;
    page.click("Save").await;
    page.browser.until("document.querySelector('dialog[open] h2')?.innerText === 'Much would go'").await;
    page.click("Save anyway").await;
    let saved = "document.querySelector('[aria-label=\"Changes that are not saved\"]') === null";
    page.browser.until(saved).await;
    assert!(page.run(&["rules"]).contains("at most 5 clips"));
    // What goes by it has gone before more is changed.
    tokio::task::block_in_place(|| page.service().post("/sweep", &serde_json::Value::Null));
    // Changed elsewhere: the page shows it without being asked.
    page.run(&["rules", "set", "history", "off", "--yes"]);
    page.says("History is off; nothing that is copied is kept.").await;
    // A limit for some of them, besides.
    page.fill("at most (clips)", "50").await;
    page.browser.until("!document.querySelector('[aria-label=\"Another limit, for\"] button').disabled").await;
    page.browser.eval("document.querySelector('[aria-label=\"Another limit, for\"] button').click()").await;
    page.says("Of pictures at most: 50 clips").await;
    page.click("Save").await;
    page.browser.until(saved).await;
    assert!(page.run(&["rules"]).contains("Of images, it keeps at most 50 clips"), "{}", page.run(&["rules"]));
    // A sample is tried, and not kept.
    page.fill("Text", "a line to try").await;
    page.click("Try it").await;
    page.says("It would not be kept.").await;
    page.finish_but("/api/v1/rules -").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_bin_gives_back_and_is_emptied_after_a_question() {
    let page = Page::with_sample(1280, 800).await;
    page.go("#/bin", "Bin").await;
    page.says("The bin is empty").await;
    page.run(&["delete", "1", "2", "3"]);
    page.browser.until("document.querySelectorAll('article').length === 3").await;
    page.click("Bring back").await;
    page.browser.until("document.querySelectorAll('article').length === 2").await;
    page.click("Empty the bin").await;
    page.says("2 clips are deleted for good").await;
    page.click("Empty the bin").await;
    page.says("The bin is empty").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn figures_are_drawn_and_told() {
    let page = Page::with_sample(1280, 800).await;
    page.run(&["recall", "2"]);
    page.go("#/figures", "Figures").await;
    page.browser.until("document.querySelector('.plot canvas') !== null").await;
    page.click("As a table").await;
    page.browser.until("document.querySelectorAll('details tbody tr').length > 3").await;
    page.says("1 recall").await;
    page.check_accessibility("the figures with their table").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn theme_density_and_language_are_chosen_and_remembered() {
    let page = Page::with_sample(1280, 800).await;
    page.go("#/settings", "Settings").await;
    for label in ["night", "dense"] {
        page.browser
            .eval(&format!(
                "[...document.querySelectorAll('label')].find(e => e.innerText.trim() === '{label}').click()"
            ))
            .await;
    }
    page.browser.until("document.documentElement.dataset.theme === 'night'").await;
    page.browser
        .eval("[...document.querySelectorAll('label')].find(e => e.innerText.trim() === '日本語').click()")
        .await;
    page.browser
        .until("document.documentElement.lang === 'ja' && document.querySelector('h1').innerText === '設定'")
        .await;
    page.browser.driver.refresh().await.unwrap();
    page.browser
        .until(
            "document.documentElement.dataset.theme === 'night' && document.querySelector('h1')?.innerText === '設定'",
        )
        .await;
    for (address, _) in PAGES {
        page.browser.eval(&format!("location.hash = '{address}'")).await;
        page.browser.until(&format!("document.querySelector('nav a[aria-current=page]')?.getAttribute('href') === '{address}' && document.activeElement === document.querySelector('h1')")).await;
        page.check_accessibility(&format!("{address} in Japanese")).await;
        page.browser.shot(&format!("ja-{}", address.replace(['#', '/'], ""))).await;
        let text = page.browser.eval("return document.querySelector('main').innerText").await;
        assert!(text.as_str().unwrap().chars().any(|c| ('\u{3040}'..='\u{30ff}').contains(&c)), "{address}: {text}");
    }
    page.browser.eval("location.hash = '#/'").await;
    page.browser.until("document.querySelector('[data-density=dense]') !== null").await;
    // Problems are worded in the person's language, too.
    page.browser.eval("location.hash = '#/clip/zzzz'").await;
    page.says("そのクリップはありません。").await;
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_are_changed_and_never_clash() {
    let page = Page::with_sample(1280, 800).await;
    page.go("#/settings", "Settings").await;
    page.click("Change the keys: Pin or unpin").await;
    page.browser.press("r").await;
    page.says("r is the key of “Put on the clipboard”").await;
    page.click("Change the keys: Pin or unpin").await;
    page.browser.press("f").await;
    page.click("Reset the key: Pin or unpin").await;
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn help_is_searched() {
    let page = Page::with_sample(1280, 800).await;
    page.browser.until("document.querySelector('article') !== null").await;
    page.browser.press("?").await;
    page.browser.until("document.querySelector('h1')?.innerText === 'Help' && document.activeElement === document.querySelector('h1')").await;
    page.fill("Search the help", "phone").await;
    page.browser.until("document.querySelectorAll('main dt').length < 6").await;
    page.says("copy onto this phone or laptop?").await;
    page.fill("Search the help", "no such thing").await;
    page.says("Nothing in the help meets this.").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn browsers_are_listed_and_shut_out() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.go("#/settings", "Settings").await;
    page.browser.until("[...document.querySelectorAll('button')].some((e) => e.innerText === 'Shut out')").await;
    page.browser.eval("[...document.querySelectorAll('button')].find((e) => e.innerText === 'Shut out').click()").await;
    page.says("This browser is not let in any more.").await;
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn devices_are_linked_renamed_and_removed() {
    let other: Arc<Mutex<Option<(Service, Home)>>> = Arc::default();
    let kept = other.clone();
    let page = Page::open(1280, 800, move |_| {
        let home = Home::of("van");
        *kept.lock().unwrap() = Some((Service::simulated(&home), home));
    })
    .await;
    page.go("#/devices", "Devices").await;
    page.click("Make a code").await;
    page.says("Works once").await;
    page.browser.until("document.querySelector('img[src^=\"data:image/svg\"]').complete").await;
    page.check_accessibility("an invitation").await;
    page.browser.shot("invitation").await;
    let command = page.browser.eval("return [...document.querySelectorAll('p')].find((e) => e.innerText.startsWith('yadori device join')).innerText").await;
    let command = command.as_str().unwrap().to_owned();
    let arguments: Vec<&str> = command.split_whitespace().skip(1).collect();
    let van = |arguments: &[&str]| {
        let other = other.lock().unwrap();
        tokio::task::block_in_place(|| other.as_ref().unwrap().0.run(arguments))
    };
    van(&arguments);
    // The page sees it by itself.
    page.browser.until("[...document.querySelectorAll('main h2')].some((e) => e.innerText === 'van')").await;
    page.says("Both have the same history.").await;
    page.click("Rename van").await;
    page.fill("Name", "touring van").await;
    page.click("Save").await;
    page.browser.until("[...document.querySelectorAll('main h2')].some((e) => e.innerText === 'touring van')").await;
    // What is shared.
    page.fill("From here leaves", "kept-only").await;
    page.says("Saved.").await;
    assert!(page.run(&["sync", "policy"]).contains("Only pinned clips"), "{}", page.run(&["sync", "policy"]));
    page.click("Remove touring van").await;
    page.says("What it has already, it keeps").await;
    page.click("Remove").await;
    page.browser.until("![...document.querySelectorAll('main h2')].some((e) => e.innerText === 'touring van')").await;
    // The other way round: a code from there is entered here.
    van(&["device", "leave", "--yes"]);
    let invitation: Invitation = serde_json::from_str(&van(&["device", "invite", "--json"])).unwrap();
    page.fill("Its address", &invitation.addresses[0]).await;
    page.fill("Its code", &invitation.code).await;
    page.click("Link").await;
    page.says("Linked with").await;
    // One that is too far away for that.
    let relay = Relay::start();
    page.run(&["relay", "set", &relay.invitation()]);
    page.click("Make one that works through the relay").await;
    page.says(&format!("yadori device join 'https://{}/#", relay.address())).await;
    page.check_accessibility("an invitation by way of a relay").await;
    page.browser.shot("invitation by way of a relay").await;
    // Why it is away is said in the person's language.
    tokio::task::block_in_place(|| drop(other.lock().unwrap().take()));
    page.says("nothing answers there").await;
    page.go("#/settings", "Settings").await;
    page.browser
        .eval("[...document.querySelectorAll('label')].find(e => e.innerText.trim() === '日本語').click()")
        .await;
    page.browser.until("document.documentElement.lang === 'ja'").await;
    page.browser.eval("location.hash = '#/devices'").await;
    page.says("で応答するものがありません").await;
    page.browser.shot("a device that is away, in Japanese").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_part_of_the_history_is_cleared_after_a_look_and_comes_back() {
    let page = Page::with_sample(1280, 800).await;
    page.go("#/rules", "Rules").await;
    page.click("Clear a part of the history…").await;
    page.browser.until("document.querySelector('dialog[open] h2') !== null").await;
    page.fill("Time", "7").await;
    page.fill("Kind", "link").await;
    let told = "[...document.querySelectorAll('dialog [role=status]')].at(-1).innerText";
    let count = page.run(&["find", "kind:link", "before:7d", "--ids"]).lines().count();
    page.browser.until(&format!("{told}.startsWith('{count} clips')")).await;
    page.check_accessibility("clearing").await;
    page.browser.shot("clear").await;
    page.click("Move to the bin").await;
    page.says(&format!("Cleared {count} clips.")).await;
    assert_eq!(page.run(&["find", "kind:link", "before:7d", "--ids"]).trim(), "");
    page.click("Undo").await;
    page.says("are back.").await;
    assert_eq!(page.run(&["find", "kind:link", "before:7d", "--ids"]).lines().count(), count);
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_archive_is_taken_in() {
    let page = Page::open(1280, 800, |_| {}).await;
    let folder = tempfile::tempdir().unwrap();
    let archive = folder.path().join("history.zip");
    page.run(&["add", "to be carried over"]);
    page.run(&["export", archive.to_str().unwrap()]);
    page.run(&["clear", "--for-good", "--yes"]);
    page.go("#/settings", "Settings").await;
    page.browser.wait("#import-file").await.send_keys(archive.to_str().unwrap()).await.unwrap();
    page.says("Imported 1 clip; 0 clips were there already.").await;
    assert!(page.run(&["list"]).contains("to be carried over"));
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_service_is_started_at_log_in_or_not_by_a_click() {
    // In the home of somebody without a manager of services: the desktop starts it.
    let start = || {
        let home = Home::new();
        let mut command = command(home.path(), "simulated", None);
        command.env("HOME", home.path());
        (Service::start(home.path(), command), home, None)
    };
    let page = Page::of(1280, 800, start).await;
    let entry = page.home().path().join(".config/autostart/yadori.desktop");
    page.go("#/welcome", "Welcome to Yadori").await;
    page.says("Yadori does not start by itself when you log in.").await;
    page.browser.shot("welcome-log-in").await;
    page.click("Start it when I log in").await;
    page.says("Yadori starts when you log in.").await;
    page.browser.until("!document.querySelector('main').innerText.includes('does not start by itself')").await;
    let text = std::fs::read_to_string(&entry).unwrap();
    assert!(text.contains(&format!("--home \"{}\" --session", page.home().path().display())), "{text}");
    page.go("#/settings", "Settings").await;
    page.check_accessibility("settings with the log-in").await;
    page.browser.shot("settings-log-in").await;
    page.browser
        .until("(() => { const toggle = [...document.querySelectorAll('label')].find(e => e.innerText.trim() === 'Start Yadori when you log in')?.querySelector('input'); toggle?.click(); return toggle !== undefined; })()")
        .await;
    page.says("Yadori no longer starts when you log in.").await;
    assert!(!entry.exists());
    page.finish().await;
}
