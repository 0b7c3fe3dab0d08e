//! What a screen reader is told, where the Tab key leads, and colours that the system forces.

use super::{Page, copy};
use std::collections::BTreeSet;
use thirtyfour::Key;

/// Role and name of all that the browser tells to assistive technology.
async fn tree(page: &Page) -> Vec<(String, String)> {
    page.browser.devtools("Accessibility.enable", serde_json::json!({})).await;
    let tree = page.browser.devtools("Accessibility.getFullAXTree", serde_json::json!({})).await;
    let nodes = tree["nodes"].as_array().unwrap().iter().filter(|node| node["ignored"] != true);
    let text = |value: &serde_json::Value| value["value"].as_str().unwrap_or_default().to_owned();
    nodes.map(|node| (text(&node["role"]), text(&node["name"]))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_screen_reader_is_told_what_is_where_and_what_was_done() {
    let page = Page::open(1280, 800, |service| {
        let mut events = service.events(None);
        copy(service, &[("text/plain", "gel 201 for lamp 7")]);
        events.change();
        copy(service, &[("text/plain", "password: owl-by-lantern-17")]);
        events.change();
        service.run(&["pin", "2"]);
    })
    .await;
    page.browser.until("document.querySelector('[aria-label=\"Pinned clips\"]') !== null").await;
    let told = tree(&page).await;
    let has = |role: &str, name: &str| told.iter().any(|(r, n)| r == role && n == name);
    for (role, name) in [
        ("navigation", "Pages"),
        ("main", ""),
        ("heading", "History"),
        ("heading", "Today"),
        ("combobox", "Search what you copied"),
        ("region", "Pinned clips"),
        ("region", "History"),
        ("article", "Text: gel 201 for lamp 7"),
        ("article", "Sensitive: hidden: looks like a password"),
        ("button", "Pause"),
        ("link", "Devices"),
    ] {
        assert!(has(role, name), "{role} {name}: {told:#?}");
    }
    // Nothing that can be used is without a name, and no secret is told.
    for (role, name) in &told {
        assert!(!matches!(role.as_str(), "button" | "link" | "textbox" | "combobox") || !name.is_empty(), "{role}");
        assert!(!name.contains("lantern-17"), "{role} {name}");
    }
    // What was done is said: by a part of the page that was there before, so that it is noticed.
    let status = "[...document.querySelectorAll('[role=status], [role=alert]')]";
    let before = page.browser.eval(&format!("window.before = {status}; return window.before.length")).await;
    assert!(before.as_u64() > Some(2));
    page.browser.eval("document.querySelector('[data-entry]').focus()").await;
    page.browser.press(Key::Down).await;
    page.browser.press("r").await;
    page.browser.until("window.before.some((e) => e.isConnected && e.innerText.includes('is on the clipboard'))").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tab_leads_through_the_page_in_order_and_a_list_is_one_stop() {
    let page = Page::with_sample(1280, 800).await;
    page.browser.until("document.querySelectorAll('article').length > 5").await;
    page.browser.eval("document.activeElement.blur(); window.getSelection().removeAllRanges(); document.querySelector('a[href=\"#main\"]').focus()").await;
    let mut stops = vec!["Skip to the page".to_owned()];
    for _ in 0..16 {
        page.browser.press(Key::Tab).await;
        let stop = page
            .browser
            .eval(
                "const e = document.activeElement;
                 const seen = e.getClientRects().length > 0 && getComputedStyle(e).outlineStyle !== 'none';
                 return [e.dataset.entry ? 'an entry' : (e.getAttribute('aria-label') ?? e.innerText.trim().split('\\n')[0]), seen || e.tagName === 'INPUT'];",
            )
            .await;
        assert_eq!(stop[1], true, "the focus is not seen on {}", stop[0]);
        stops.push(stop[0].as_str().unwrap().to_owned());
        if stops.last().unwrap() == "an entry" {
            break;
        }
    }
    assert_eq!(
        stops,
        [
            "Skip to the page",
            "History",
            "Kept",
            "Add",
            "Devices",
            "Rules",
            "Bin",
            "Figures",
            "Settings",
            "Help",
            "Pause",
            "Search what you copied",
            "an entry"
        ]
    );
    // The list is one stop: on from it the page ends.
    page.browser.press(Key::Tab).await;
    page.browser.until("document.activeElement.dataset.entry === undefined").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn in_forced_colours_everything_is_still_told_apart() {
    let page = Page::with_sample(1280, 800).await;
    page.run(&["pin", "1"]);
    page.run(&["mark", "2", "fern"]);
    page.browser
        .devtools(
            "Emulation.setEmulatedMedia",
            serde_json::json!({"features": [{"name": "forced-colors", "value": "active"}]}),
        )
        .await;
    page.browser
        .until("matchMedia('(forced-colors: active)').matches && document.querySelector('article .mark-fern') !== null")
        .await;
    let mut borders = BTreeSet::new();
    for selector in ["nav [aria-current=page]", "header .btn", "[data-entry]"] {
        let border = page
            .browser
            .eval(&format!("const s = getComputedStyle(document.querySelector('{selector}')); return [s.borderTopStyle, s.borderTopWidth].join(' ')"))
            .await;
        borders.insert((selector, border.as_str().unwrap().to_owned()));
    }
    assert!(borders.contains(&("nav [aria-current=page]", "solid 1px".into())), "{borders:?}");
    assert!(borders.contains(&("header .btn", "solid 1px".into())), "{borders:?}");
    // The ink of a mark is its own, as its meaning is.
    let mark = page.browser.eval("return getComputedStyle(document.querySelector('.mark-fern')).backgroundColor").await;
    assert_eq!(mark, "rgb(75, 128, 86)");
    page.browser.shot("forced-colours").await;
    page.finish().await;
}
