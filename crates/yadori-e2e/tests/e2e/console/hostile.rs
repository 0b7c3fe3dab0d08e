//! Clips that mean harm, or are odd.

use super::{Page, copy};

#[tokio::test(flavor = "multi_thread")]
async fn hostile_and_odd_clips_do_no_harm() {
    let page = Page::open(1280, 800, |service| {
        let mut events = service.events(None);
        let svg = "<svg xmlns='http://www.w3.org/2000/svg' width='90' height='60'><script>top.broken = 1; window.broken = 1</script><rect width='90' height='60' fill='teal' onload='top.broken = 1'/></svg>";
        copy(service, &[("image/svg+xml", svg)]);
        events.change();
        copy(service, &[("text/plain", "<img src=x onerror='window.broken = 1'> beside"), ("text/html", "<img src=x onerror='window.broken = 1'>")]);
        events.change();
        copy(service, &[("text/plain", "javascript:window.broken = 1")]);
        events.change();
        copy(service, &[("text/plain", &format!("{} without a break", "long".repeat(5_000)))]);
        events.change();
        copy(service, &[("text/plain", "שלום \u{202e}turned round\u{1b}[31m مرحبا 🎭")]);
        events.change();
        copy(service, &[("text/plain", "password: owl-by-lantern-17")]);
        events.change();
    })
    .await;
    page.browser.until("document.querySelectorAll('article').length === 6").await;
    for place in 1..=6 {
        page.unfold(place).await;
        page.browser.until(&format!("document.querySelector('article[aria-posinset=\"{place}\"] dl') !== null")).await;
        page.browser.shot(&format!("odd-{place}")).await;
    }
    let picture = "document.querySelector('article[aria-posinset=\"6\"] img[src*=content]')";
    page.browser.until(&format!("{picture}.complete && {picture}.naturalWidth === 90")).await;
    assert_eq!(page.browser.eval("return window.broken ?? null").await, serde_json::Value::Null);
    assert_eq!(
        page.browser
            .eval("return [...document.querySelectorAll('a')].filter(a => a.protocol === 'javascript:').length")
            .await,
        0
    );
    assert!(
        !page.browser.eval("return document.body.innerText").await.as_str().unwrap().contains("lantern-17"),
        "the secret is shown"
    );
    // Opened by itself, the vector picture runs nothing either.
    let id = page
        .browser
        .eval("return document.querySelector('article[aria-posinset=\"6\"] [data-entry]').dataset.entry")
        .await;
    let place = page.browser.eval("return location.origin + location.pathname").await;
    let url = format!("{}api/v1/clips/{}/content", place.as_str().unwrap(), id.as_str().unwrap());
    page.browser.driver.goto(&url).await.unwrap();
    assert_eq!(page.browser.eval("return window.broken ?? null").await, serde_json::Value::Null);
    page.browser.close().await;
}
