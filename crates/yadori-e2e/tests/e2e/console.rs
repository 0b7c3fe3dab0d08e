//! The console's first page, in a real browser.

use super::browser::Browser;
use std::sync::{Arc, Mutex};
use thirtyfour::Key;
use yadori_api::{ConsoleLink, Invitation};
use yadori_e2e::home::Home;
use yadori_e2e::sample::Sample;
use yadori_e2e::service::{Events, Service};

struct Page {
    browser: Browser,
    service: Service,
    events: Events,
    _home: Home,
}

impl Page {
    async fn open(width: u32, height: u32, prepare: impl FnOnce(&Service) + Send + 'static) -> Self {
        let (home, service, events, link) = tokio::task::spawn_blocking(move || {
            let home = Home::new();
            let service = Service::simulated(&home);
            prepare(&service);
            let events = service.events(None);
            let link: ConsoleLink = service.post("/console-links", &serde_json::Value::Null).json();
            (home, service, events, link)
        })
        .await
        .unwrap();
        let browser = Browser::open(width, height).await;
        browser.driver.goto(&link.url).await.unwrap();
        browser.wait("main").await;
        browser.until("document.querySelector('#found')?.textContent.length > 0").await;
        Self { browser, service, events, _home: home }
    }

    async fn with_sample(width: u32, height: u32) -> Self {
        Self::open(width, height, add_sample).await
    }

    /// Runs something that waits, away from the browser's tasks.
    fn service(&self) -> &Service {
        &self.service
    }

    async fn entries(&self) -> Vec<String> {
        let texts = self
            .browser
            .eval("return [...document.querySelectorAll('article bdi:first-of-type')].map(e => e.innerText.trim())")
            .await;
        serde_json::from_value(texts).unwrap()
    }

    async fn finish(self) {
        let errors = self.browser.errors().await;
        assert!(errors.is_empty(), "{errors:#?}");
        self.browser.close().await;
    }

    /// Asks a checker of accessibility for everything that breaks WCAG 2.2 A and AA.
    async fn check_accessibility(&self, what: &str) {
        let axe = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
        let axe = std::fs::read_to_string(axe).expect("run script/setup first");
        self.browser.devtools("Runtime.evaluate", serde_json::json!({"expression": axe})).await;
        let found = self
            .browser
            .devtools(
                "Runtime.evaluate",
                serde_json::json!({
                    "expression": "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}).then(r => JSON.stringify(r.violations.map(v => [v.id, v.nodes.map(n => n.html + ' ' + n.failureSummary)])))",
                    "awaitPromise": true, "returnByValue": true
                }),
            )
            .await;
        assert_eq!(found["result"]["value"], "[]", "{what}");
    }
}

fn add_sample(service: &Service) {
    let text = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/history.ndjson")).unwrap();
    let now = jiff::Timestamp::now();
    for sample in Sample::read_all(&text).unwrap() {
        let (attributes, mime, content) = sample.to_add(now);
        let mut query = format!("copied_at={}", attributes.copied_at.unwrap());
        for (name, value) in
            [("title", attributes.title), ("application", attributes.application), ("window", attributes.window)]
        {
            let encoded: String = value.unwrap_or_default().bytes().map(|byte| format!("%{byte:02X}")).collect();
            query = format!("{query}&{name}={encoded}");
        }
        let answer = service.request(
            "POST",
            &format!("/clips?{query}"),
            &[("authorization", &service.bearer()), ("content-type", mime)],
            &content,
        );
        assert!(answer.status < 300, "{}", answer.text());
    }
}

fn copy(service: &Service, formats: &[(&str, &str)]) {
    let formats: Vec<_> = formats.iter().map(|(mime, text)| serde_json::json!({"mime": mime, "text": text})).collect();
    assert_eq!(service.post("/simulated/copy", &serde_json::json!({"formats": formats})).status, 204);
}

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
    page.browser
        .driver
        .action_chain()
        .key_down(Key::Control)
        .send_keys("k")
        .key_up(Key::Control)
        .perform()
        .await
        .unwrap();
    page.browser.until("document.activeElement.getAttribute('role') === 'searchbox'").await;
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
    page.browser.wait("[data-entry]").await.click().await.unwrap();
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
    page.browser.wait("article [data-entry]").await.click().await.unwrap();
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
async fn the_theme_is_chosen_and_remembered_and_help_opens() {
    let page = Page::with_sample(1280, 800).await;
    let theme = "button[aria-label^='Theme']";
    for expected in ["paper", "night"] {
        page.browser.wait(theme).await.click().await.unwrap();
        page.browser.until(&format!("document.documentElement.dataset.theme === '{expected}'")).await;
    }
    page.browser.driver.refresh().await.unwrap();
    page.browser
        .until("document.documentElement.dataset.theme === 'night' && document.querySelector('article') !== null")
        .await;
    page.browser.wait("button[aria-label='Keys and search words']").await.click().await.unwrap();
    page.browser.until("document.querySelector('dialog').open").await;
    page.browser.shot("help-night").await;
    page.check_accessibility("the help").await;
    page.browser.press(Key::Escape).await;
    page.browser.until("!document.querySelector('dialog').open").await;
    page.finish().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pause_is_made_and_seen_on_the_page() {
    let page = Page::open(1280, 800, |_| {}).await;
    page.browser.until("[...document.querySelectorAll('button')].some(b => b.innerText === 'Pause')").await;
    page.browser.eval("[...document.querySelectorAll('button')].find(b => b.innerText === 'Pause').click()").await;
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
    page.browser.wait("article[aria-posinset='2'] [data-entry]").await.click().await.unwrap();
    page.browser.until("document.body.innerText.includes('2 of these files are not there any more')").await;
    let missing = "return [...document.querySelectorAll('[aria-label=\"The files\"] li')].map(e => e.innerText.includes('missing'))";
    assert_eq!(page.browser.eval(missing).await, serde_json::json!([false, true, true]));
    page.browser.shot("files").await;
    page.check_accessibility("files").await;
    page.browser.wait("article[aria-posinset='1'] [data-entry]").await.click().await.unwrap();
    page.browser.until("document.body.innerText.includes('It was only selected, and never copied')").await;
    page.browser.shot("selected").await;
    page.finish().await;
}

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
        page.browser.wait(&format!("article[aria-posinset='{place}'] [data-entry]")).await.click().await.unwrap();
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
    let place = page.browser.driver.current_url().await.unwrap();
    let url = format!("{place}api/v1/clips/{}/content", id.as_str().unwrap());
    page.browser.driver.goto(&url).await.unwrap();
    assert_eq!(page.browser.eval("return window.broken ?? null").await, serde_json::Value::Null);
    page.browser.close().await;
}

/// Another user of this machine serves pages from another port of the same host, and notes what he is sent.
fn serve_from_another_port(requests: Arc<Mutex<String>>) -> std::net::SocketAddr {
    use std::io::{BufRead, BufReader, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let lines = BufReader::new(&stream).lines().map_while(Result::ok).take_while(|line| !line.is_empty());
            let head = lines.collect::<Vec<_>>().join("\n");
            let is_last = head.starts_with("GET /end ");
            requests.lock().unwrap().push_str(&head);
            let page =
                "HTTP/1.1 200 OK\r\ncontent-type: text/html\r\nconnection: close\r\n\r\n<title>another port</title>";
            let _ = (&stream).write_all(page.as_bytes());
            if is_last {
                return;
            }
        }
    });
    address
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_from_another_port_of_this_host_gets_neither_the_cookie_nor_the_history() {
    let page = Page::open(800, 600, |service| drop(service.run(&["add", "private words"]))).await;
    let requests = Arc::<Mutex<String>>::default();
    let address = serve_from_another_port(requests.clone());
    page.browser.driver.goto(&format!("http://{address}/page")).await.unwrap();
    page.browser.until("document.title === 'another port'").await;
    // It asks our service for whatever it can guess, with all that the browser has.
    let own = &page.service().reach.address;
    let read = page
        .browser
        .eval(&format!(
            "const done = await Promise.allSettled(['/', '/api/v1/clips', '/s/x/api/v1/clips'].map(async (path) => {{
                const answer = await fetch('http://{own}' + path, {{ credentials: 'include', mode: 'cors' }});
                return answer.text();
             }}));
             return JSON.stringify(done);"
        ))
        .await;
    assert!(!read.as_str().unwrap().contains("fulfilled"), "{read}");
    page.browser.driver.goto(&format!("http://{address}/end")).await.unwrap();
    page.browser.until("document.title === 'another port'").await;
    let seen = requests.lock().unwrap().to_lowercase();
    assert!(seen.contains("get /page") && !seen.contains("cookie"), "{seen}");
    page.browser.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_stranger_sees_a_closed_door() {
    let page = Page::open(800, 600, |_| {}).await;
    let place = page.browser.driver.current_url().await.unwrap();
    // The cookie is for the path of the session only, the path is of no use without it.
    page.browser.driver.goto(&format!("http://{}/", page.service().reach.address)).await.unwrap();
    assert!(page.browser.eval("return document.body.innerText").await.as_str().unwrap().contains("yadori console"));
    page.browser.devtools("Network.clearBrowserCookies", serde_json::json!({})).await;
    page.browser.driver.goto(place.as_str()).await.unwrap();
    assert!(page.browser.eval("return document.body.innerText").await.as_str().unwrap().contains("yadori console"));
    page.browser.close().await;
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
    page.browser.wait("article[aria-posinset='2'] [data-entry]").await.click().await.unwrap();
    page.browser.until("document.querySelector('dl')?.innerText.includes('van, shared with your other devices')").await;
    page.browser.wait("article[aria-posinset='1'] [data-entry]").await.click().await.unwrap();
    page.browser
        .until("document.querySelector('dl')?.innerText.includes('van, its content is on another device')")
        .await;
    page.browser.shot("elsewhere").await;
    page.check_accessibility("an entry whose content is on another device").await;
    // It is fetched when it is put on the clipboard.
    page.browser
        .eval("[...document.querySelectorAll('button')].find(b => b.innerText.includes('Put on')).click()")
        .await;
    page.browser.until("!document.querySelector('article').innerText.includes('elsewhere')").await;
    let pasted = page.service().get("/simulated/paste?format=text/plain").text();
    assert_eq!(pasted.lines().count(), 9_000);
    page.finish().await;
    drop(other.lock().unwrap().take());
}
