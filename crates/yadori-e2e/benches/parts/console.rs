//! The console in a browser without a screen, with 100,000 clips: until it is there, from a keystroke to what is painted, while
//! one scrolls, and after a day's use. Beside each, the same browser with nothing to do but that.

#[path = "../../tests/e2e/browser.rs"]
#[allow(dead_code, reason = "the tests want more of a browser")]
mod browser;

use super::quantile;
use crate::report::Report;
use browser::Browser;
use std::time::Duration;
use tokio::runtime::Runtime;
use yadori_api::ConsoleLink;
use yadori_e2e::service::Service;

/// What is typed, a letter at a time.
const TYPED: [&str; 6] = ["lamp seven", "kind:link a", "harbour", "load-in fri", "xyzzy", "after:3d cue"];

/// Copies and searches of a day of much work.
const COPIES: usize = 500;
const SEARCHES: usize = 200;

/// Milliseconds that a script gives.
async fn millis(browser: &Browser, script: &str) -> Vec<Duration> {
    let given = browser.eval(script).await;
    let millis: Vec<f64> = serde_json::from_value(given).expect("numbers");
    millis.into_iter().map(|millis| Duration::from_secs_f64(millis / 1000.0)).collect()
}

/// Bytes that the page's scripts hold, after what nobody holds was let go of.
async fn heap(browser: &Browser) -> f64 {
    browser.devtools("HeapProfiler.collectGarbage", serde_json::json!({})).await;
    let usage = browser.devtools("Runtime.getHeapUsage", serde_json::json!({})).await;
    usage["usedSize"].as_f64().expect("a number") / 1e6
}

/// In a history of 100,000 clips.
pub fn console(report: &mut Report, runtime: &Runtime, service: &Service) {
    runtime.block_on(measure(report, service));
}

async fn measure(report: &mut Report, service: &Service) {
    let link: ConsoleLink =
        tokio::task::block_in_place(|| service.post("/console-links", &serde_json::Value::Null).json());
    let browser = Browser::open(1280, 800).await;
    browser.driver.goto(&link.url).await.expect("the console");
    browser.wait("[data-page-title]").await;
    browser.eval("localStorage.setItem('yadori-welcomed', 'yes'); location.hash = '#/'").await;
    browser.until("document.querySelector('article') !== null").await;
    loads(report, &browser).await;
    keystrokes(report, &browser).await;
    scrolling(report, &browser).await;
    memory(report, &browser, service).await;
    browser.close().await;
}

/// What a script gives that takes its time: milliseconds.
async fn ask(browser: &Browser, script: String) -> Vec<Duration> {
    browser.driver.set_script_timeout(Duration::from_secs(120)).await.expect("a time-out");
    let given = browser.driver.execute_async(&script, Vec::new()).await.expect("times");
    let millis: Vec<f64> = serde_json::from_value(given.json().clone()).expect("numbers");
    millis.into_iter().map(|millis| Duration::from_secs_f64(millis / 1000.0)).collect()
}

async fn loads(report: &mut Report, browser: &Browser) {
    // A first load: nothing of it is in the browser's cache.
    browser.devtools("Network.enable", serde_json::json!({})).await;
    let mut loads = Vec::new();
    for _ in 0..10 {
        browser.devtools("Network.clearBrowserCache", serde_json::json!({})).await;
        browser.driver.refresh().await.expect("the console again");
        browser
            .until("document.querySelector('article [data-entry]')?.checkVisibility({ visibilityProperty: true })")
            .await;
        loads.extend(millis(browser, "return [performance.now()]").await);
    }
    let bytes = browser
        .eval(
            "const [page] = performance.getEntriesByType('navigation');
             const own = performance.getEntriesByType('resource').filter((r) => /assets/.test(r.name) && !/woff2/.test(r.name));
             return own.reduce((sum, r) => sum + r.encodedBodySize, page.encodedBodySize) / 1000;",
        )
        .await;
    report.add(
        "console: first load, compressed, fonts apart",
        bytes.as_f64().expect("a number"),
        "kB",
        None,
        Some(120.0),
        false,
    );
    report.add("console: first load to the list, p50", quantile(&mut loads, 0.5), "ms", None, None, false);
}

async fn keystrokes(report: &mut Report, browser: &Browser) {
    // A keystroke is over when what it found is painted: a frame after the list is no longer busy. The limit is a page that
    // does nothing but ask the same and show the words of what it is told. Nothing looks again and again meanwhile, which would take the processor from what is measured.
    let typing = |field: &str, shows: &str| {
        format!(
            "const done = arguments[arguments.length - 1];
             (async () => {{
                const frame = () => new Promise(requestAnimationFrame);
                const times = [];
                const field = {field};
                let shown;
                const shows = () => {shows};
                new MutationObserver(() => {{ if (shows()) shown?.(); }})
                    .observe(document.body, {{ subtree: true, childList: true, characterData: true, attributes: true }});
                for (const words of {}) {{
                    for (let end = 1; end <= words.length; end += 1) {{
                        const results = new Promise((next) => {{ shown = next; }});
                        const before = performance.now();
                        field.value = words.slice(0, end);
                        field.dispatchEvent(new Event('input', {{ bubbles: true }}));
                        // A blank at the end asks for nothing else.
                        if (!words.slice(0, end).endsWith(' ')) await results;
                        await frame();
                        times.push(performance.now() - before);
                    }}
                    await new Promise((next) => setTimeout(next, 50));
                }}
                done(times);
             }})();",
            // So often that the slowest of a hundred is not just the slowest.
            serde_json::json!(TYPED.repeat(5))
        )
    };
    let bare = "(() => { const field = document.createElement('input'); const shown = document.createElement('pre'); \
                shown.id = 'bare'; let latest; field.oninput = async () => { \
                const asked = latest = field.value; shown.dataset.shows = ''; \
                const answer = await fetch(location.pathname.match(/^.s.[^/]+/)[0] + '/api/v1/clips?limit=40&q=' + encodeURIComponent(asked)); \
                const { clips } = await answer.json(); if (latest !== asked) return; \
                shown.textContent = (clips ?? []).map((clip) => clip.preview).join(' '); shown.dataset.shows = asked; }; \
                document.body.append(field, shown); return field; })()";
    let mut bare = ask(browser, typing(bare, "bare.dataset.shows === field.value")).await;
    browser.eval("bare.previousSibling.remove(); bare.remove()").await;
    let ours =
        typing("document.querySelector('[role=combobox]')", "document.querySelector('[aria-busy=false]') !== null");
    let mut ours = ask(browser, ours).await;
    for share in [0.5, 0.99] {
        report.add(
            format!("console: keystroke to painted results, 100,000 clips, p{}", share * 100.0),
            quantile(&mut ours, share),
            "ms",
            Some(("a bare page that asks the same", quantile(&mut bare, share))),
            (share > 0.9).then_some(30.0),
            false,
        );
    }
}

async fn scrolling(report: &mut Report, browser: &Browser) {
    // Frames that came late while a page was scrolled; of an empty list as tall, and of ours.
    browser.eval("location.hash = '#/'; document.querySelector('[role=combobox]').value = ''").await;
    browser.until("document.querySelectorAll('article').length > 5").await;
    let scrolling = |what: &str| {
        format!(
            "const done = arguments[arguments.length - 1];
             (async () => {{
                const list = {what};
                const frame = () => new Promise(requestAnimationFrame);
                let last = await frame();
                const times = [];
                for (let step = 0; step < 300; step += 1) {{
                    list.scrollTop += 90;
                    const now = await frame();
                    times.push(now - last);
                    last = now;
                }}
                done(times);
             }})();"
        )
    };
    let late = |times: &[Duration]| times.iter().filter(|time| time.as_secs_f64() > 0.025).count() as f64;
    let empty = ask(browser, scrolling(
        "(() => { const outer = document.createElement('div'); outer.className = 'absolute inset-0 overflow-auto'; const inner = document.createElement('div'); inner.style.height = '90000px'; outer.append(inner); document.body.append(outer); return outer; })()",
    ))
    .await;
    browser.eval("document.body.lastElementChild.remove()").await;
    let own = ask(browser, scrolling("document.querySelector('main section [style*=overflow]') ?? document.querySelector('main section').lastElementChild")).await;
    report.add(
        "console: late frames of 300 while scrolling",
        late(&own),
        "",
        Some(("an empty list", late(&empty).max(1.0))),
        None,
        false,
    );
}

async fn memory(report: &mut Report, browser: &Browser, service: &Service) {
    // An hour's use: copies arrive, and things are looked for.
    browser.driver.refresh().await.expect("the console again");
    browser.until("document.querySelector('article') !== null").await;
    let before = heap(browser).await;
    for number in 0..COPIES {
        tokio::task::block_in_place(|| {
            let formats = serde_json::json!({"formats": [{"mime": "text/plain", "text": format!("copied in the hour, number {number}")}]});
            assert_eq!(service.post("/simulated/copy", &formats).status, 204);
        });
        if number * SEARCHES / COPIES != (number + 1) * SEARCHES / COPIES {
            let words = TYPED[number % TYPED.len()];
            browser
                .eval(&format!("const field = document.querySelector('[role=combobox]'); for (const typed of ['{words}', '']) {{ field.value = typed; field.dispatchEvent(new Event('input', {{ bubbles: true }})); }}"))
                .await;
        }
    }
    browser.until(&format!("document.querySelector('article')?.innerText.includes('number {}')", COPIES - 1)).await;
    let after = heap(browser).await;
    report.add(
        "console: memory after 500 copies and 200 searches",
        after,
        "MB",
        Some(("before them", before)),
        Some(1.5),
        true,
    );
}
