//! Services that go away, several tabs, clips of unusual size.

use super::{Page, copy};
use thirtyfour::Key;
use yadori_e2e::service::command;

/// From now on the service starts at the address that it has.
fn stay_at_address(page: &Page) {
    let config = page.home().path().join("config.toml");
    let text = std::fs::read_to_string(&config).unwrap();
    let there = format!("listen = \"{}\"", page.service().address());
    let text = text.replacen("[api]\nlisten = \"127.0.0.1:0\"", &format!("[api]\n{there}"), 1);
    assert!(text.contains(&there), "{text}");
    std::fs::write(&config, text).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_goes_away_is_told_loses_no_typed_text_and_is_seen_again() {
    let mut page = Page::open(1280, 800, |service| drop(service.run(&["add", "before it went"]))).await;
    stay_at_address(&page);
    page.go("#/add", "Add").await;
    page.fill("Text", "half a letter").await;
    tokio::task::block_in_place(|| page.service.crash());
    page.says("The service is away.").await;
    page.click("Add to the history").await;
    page.says("The service cannot be reached.").await;
    page.browser.shot("away").await;
    page.check_accessibility("a service that is away").await;
    assert_eq!(page.browser.eval("return document.querySelector('textarea').value").await, "half a letter");
    page.go("#/", "History").await;
    // What it shows, it keeps.
    page.browser.until("document.querySelector('article').innerText.includes('before it went')").await;
    let home = page.home().path().to_owned();
    tokio::task::block_in_place(|| page.service.start_again(command(&home, "simulated", None)));
    page.browser.until("!document.body.innerText.includes('The service is away.')").await;
    page.go("#/add", "Add").await;
    assert_eq!(page.browser.eval("return document.querySelector('textarea').value").await, "half a letter");
    page.click("Add to the history").await;
    page.says("Added “half a letter” to the history.").await;
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn tabs_agree_also_when_the_one_that_leads_is_closed() {
    let page = Page::open(1280, 800, |service| drop(service.run(&["add", "first of all"]))).await;
    let driver = &page.browser.driver;
    let place = page.browser.eval("return location.href").await;
    let leading = driver.window().await.unwrap();
    let mut others = Vec::new();
    for _ in 0..2 {
        let tab = driver.new_tab().await.unwrap();
        driver.switch_to_window(tab.clone()).await.unwrap();
        driver.goto(place.as_str().unwrap()).await.unwrap();
        page.browser.until("document.querySelector('article') !== null").await;
        others.push(tab);
    }
    page.run(&["add", "told to all"]);
    for tab in &others {
        driver.switch_to_window(tab.clone()).await.unwrap();
        page.browser.until("document.querySelector('article').innerText.includes('told to all')").await;
    }
    driver.switch_to_window(leading).await.unwrap();
    driver.close_window().await.unwrap();
    driver.switch_to_window(others[0].clone()).await.unwrap();
    page.run(&["add", "after the first was closed"]);
    for tab in &others {
        driver.switch_to_window(tab.clone()).await.unwrap();
        page.browser.until("document.querySelector('article').innerText.includes('after the first was closed')").await;
    }
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn clips_of_unusual_size_are_readable_and_harmless() {
    let page = Page::open(1280, 800, |service| {
        let mut events = service.events(None);
        let long = "a line of words that goes on\n".repeat(40_000);
        assert!(service.run_with(&["add", "-"], long.as_bytes()).status.success());
        events.change();
        let mut formats: Vec<(String, String)> =
            (0..500).map(|number| (format!("application/x-format-{number}"), "x".into())).collect();
        formats.push(("text/plain".into(), "many formats".into()));
        let formats: Vec<(&str, &str)> = formats.iter().map(|(mime, text)| (mime.as_str(), text.as_str())).collect();
        copy(service, &formats);
        events.change();
        // A picture of 20,000 by 2 pixels.
        let svg =
            "<svg xmlns='http://www.w3.org/2000/svg' width='20000' height='20000'><rect width='9' height='9'/></svg>";
        copy(service, &[("image/svg+xml", svg)]);
        events.change();
        service.run(&["title", "2", "\u{202e}\u{2066}turned \u{202d}round\u{2069} and round"]);
        events.change();
    })
    .await;
    page.browser.until("document.querySelectorAll('article').length === 3").await;
    page.unfold(3).await;
    page.browser.until("document.querySelector('article dl') !== null").await;
    page.click("Show all of it").await;
    page.browser.until("document.querySelector('article pre').textContent.length === 1160000 || document.querySelector('article pre').textContent.length === 1159999").await;
    page.browser.shot("long").await;
    page.unfold(2).await;
    page.browser.until("document.querySelector('article dl a[download]') !== null").await;
    // The bidirectional overrides of a title end with it.
    let name = page.browser.eval("return document.querySelector(\"article[aria-posinset='2'] bdi\").innerText").await;
    assert!(name.as_str().unwrap().contains("round"));
    page.browser.shot("turned").await;
    page.unfold(1).await;
    page.browser.until("document.querySelector('article[aria-posinset=\"1\"] dl') !== null").await;
    page.browser.shot("large-picture").await;
    assert_eq!(page.browser.eval("return document.documentElement.scrollWidth").await, 1280);
    page.check_accessibility("unusual clips").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn formatted_text_is_shown_without_anything_that_acts_loads_or_leads_away() {
    let page = Page::open(1280, 800, |service| {
        let html = "<style>body{display:none}</style><base href='https://example.org/'><h1 onclick='x()' style='color:red' id='a'>Cue</h1>\
            <table><tr><td>7</td></tr></table><img src='https://example.org/p.png'><img src='data:image/gif;base64,R0lGODlhAQABAAAAACw=' onerror='x()'>\
            <a href='javascript:x()'>one</a><a href='https://example.org'>two</a><form action='https://example.org'><input></form>\
            <iframe src='https://example.org'></iframe><script>top.broken = 1</script><svg><script>top.broken = 1</script></svg>";
        copy(service, &[("text/plain", "Cue 7"), ("text/html", html)]);
        service.events(None);
    })
    .await;
    page.unfold(1).await;
    page.click("Show with formatting").await;
    page.browser.until("document.querySelector('iframe')?.srcdoc.length > 0").await;
    let shown = page.browser.eval("return document.querySelector('iframe').srcdoc").await;
    let shown = shown.as_str().unwrap();
    assert!(
        shown.contains("<h1>Cue</h1>") && shown.contains("<td>7</td>") && shown.contains("data:image/gif"),
        "{shown}"
    );
    for gone in ["script", "onclick", "onerror", "style", "example.org", "<form", "<iframe", "<svg", "<base", "href"] {
        assert!(!shown.contains(gone), "{gone}: {shown}");
    }
    assert_eq!(page.browser.eval("return document.querySelector('iframe').getAttribute('sandbox')").await, "");
    assert_eq!(page.browser.eval("return window.broken ?? null").await, serde_json::Value::Null);
    page.browser.shot("formatted").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn new_copies_do_not_move_what_is_being_read_and_going_back_finds_the_place() {
    let page = Page::with_sample(1280, 800).await;
    page.browser.until("document.querySelectorAll('article').length > 8").await;
    page.browser.press("/").await;
    page.browser.press(Key::Down).await;
    page.browser.until("document.activeElement.dataset.entry !== undefined").await;
    for _ in 0..3 {
        page.browser.press(Key::PageDown).await;
    }
    page.browser.until("document.activeElement.closest('article').getAttribute('aria-posinset') === '31'").await;
    let top = "Math.round(document.querySelector('[tabindex=\"0\"][data-entry]').getBoundingClientRect().top)";
    let before = page.browser.eval(&format!("return {top}")).await;
    page.run(&["add", "while one reads"]);
    page.says("1 new copy above").await;
    let after = page.browser.eval(&format!("return {top}")).await;
    assert!((after.as_i64().unwrap() - before.as_i64().unwrap()).abs() <= 2, "{before} {after}");
    page.browser.shot("unseen").await;
    page.check_accessibility("new copies above").await;
    page.go("#/help", "Help").await;
    page.browser.driver.back().await.unwrap();
    page.browser.until("document.querySelector('h1')?.innerText === 'History'").await;
    page.browser.until(&format!("Math.abs({top} - {after}) < 90")).await;
    page.finish().await;
}
