//! The console, in a real browser.

mod access;
mod doors;
mod hostile;
mod kept;
mod ledger;
mod locking;
mod pages;
mod stress;

use super::browser::Browser;
use std::sync::{Arc, Mutex, PoisonError, Weak};
use yadori_api::ConsoleLink;
use yadori_e2e::home::Home;
use yadori_e2e::sample::Sample;
use yadori_e2e::service::{Events, Service};

struct Page {
    browser: Browser,
    service: Service,
    events: Events,
    home: Home,
    /// As long as one test uses it, the others need not make it.
    _sample: Option<Arc<Home>>,
}

impl Page {
    /// The console of a service in which something is prepared.
    async fn open(width: u32, height: u32, prepare: impl FnOnce(&Service) + Send + 'static) -> Self {
        let start = || {
            let home = Home::new();
            let service = Service::simulated(&home);
            prepare(&service);
            (service, home, None)
        };
        Self::of(width, height, start).await
    }

    /// The console of a service with the sample history.
    async fn with_sample(width: u32, height: u32) -> Self {
        let start = || {
            let sample = sample_home();
            let home = sample.copied();
            (Service::simulated(&home), home, Some(sample))
        };
        Self::of(width, height, start).await
    }

    async fn of(
        width: u32,
        height: u32,
        start: impl FnOnce() -> (Service, Home, Option<Arc<Home>>) + Send + 'static,
    ) -> Self {
        let (home, sample, service, events, link) = tokio::task::spawn_blocking(move || {
            let (service, home, sample) = start();
            let events = service.events(None);
            let link: ConsoleLink = service.post("/console-links", &serde_json::Value::Null).json();
            (home, sample, service, events, link)
        })
        .await
        .unwrap();
        let browser = Browser::open(width, height).await;
        browser.driver.goto(&link.url).await.unwrap();
        // The first visit is led to the welcome, from where one goes on.
        browser.wait("[data-page-title]").await;
        browser.eval("localStorage.setItem('yadori-welcomed', 'yes'); location.hash = '#/'").await;
        browser.until("document.querySelector('#found')?.textContent.length > 0").await;
        Self { browser, service, events, home, _sample: sample }
    }

    fn home(&self) -> &Home {
        &self.home
    }

    /// The service; what waits for it does so away from the browser's tasks.
    fn service(&self) -> &Service {
        &self.service
    }

    /// What the entries say, as soon as they are laid out.
    async fn entries(&self) -> Vec<String> {
        const TEXTS: &str = "[...document.querySelectorAll('article bdi:first-of-type')].map(e => e.innerText.trim())";
        self.browser.until(&format!("{TEXTS}.length > 0 && {TEXTS}.every(Boolean)")).await;
        let texts = self.browser.eval(&format!("return {TEXTS}")).await;
        serde_json::from_value(texts).unwrap()
    }

    /// Goes to a page, and waits until it is shown.
    async fn go(&self, address: &str, heading: &str) {
        self.browser.eval(&format!("location.hash = {}", serde_json::json!(address))).await;
        self.browser
            .until(&format!("document.querySelector('h1')?.innerText === {}", serde_json::json!(heading)))
            .await;
    }

    /// Waits until the page says this somewhere.
    async fn says(&self, words: &str) {
        self.browser.until(&format!("document.body.innerText.includes({})", serde_json::json!(words))).await;
    }

    /// Clicks the button or link of this name, as soon as there is one that can be.
    async fn click(&self, name: &str) {
        let name = serde_json::json!(name);
        self.browser
            .until(&format!(
                "(() => {{
                    const dialog = [...document.querySelectorAll('dialog[open]')].at(-1);
                    const named = (e) => (e.getAttribute('aria-label') ?? e.innerText.replace(/\\n.*$/s, '')).trim();
                    const one = (dialog ? [dialog] : [document.querySelector('main'), document])
                        .flatMap((within) => [...within.querySelectorAll('button, a, label.btn, [role=option], summary')])
                        .find((e) => named(e) === {name} && !e.disabled && e.checkVisibility({{ visibilityProperty: true }}));
                    one?.focus();
                    one?.click();
                    return one !== undefined;
                }})()"
            ))
            .await;
    }

    /// Unfolds the entry at this place, as soon as it is shown.
    async fn unfold(&self, place: usize) {
        self.browser
            .until(&format!(
                "(() => {{
                    const entry = document.querySelector(\"article[aria-posinset='{place}'] [data-entry]\");
                    if (!entry?.checkVisibility({{ visibilityProperty: true }})) return false;
                    entry.focus();
                    entry.click();
                    return true;
                }})()"
            ))
            .await;
    }

    /// Puts words into the field of this name.
    async fn fill(&self, label: &str, words: &str) {
        let (label, words) = (serde_json::json!(label), serde_json::json!(words));
        self.browser
            .until(&format!(
                "(() => {{
                    const within = [...document.querySelectorAll('dialog[open]')].at(-1) ?? document;
                    const of = [...within.querySelectorAll('label')].find((e) => e.innerText.trim() === {label});
                    const field = of ? document.getElementById(of.htmlFor) : within.querySelector(`[aria-label=${{JSON.stringify({label})}}]`);
                    if (!field) return false;
                    field.focus();
                    field.value = {words};
                    field.dispatchEvent(new Event('input', {{ bubbles: true }}));
                    field.dispatchEvent(new Event('change', {{ bubbles: true }}));
                    return true;
                }})()"
            ))
            .await;
    }

    /// Runs a command of the command line, away from the browser's tasks.
    fn run(&self, arguments: &[&str]) -> String {
        tokio::task::block_in_place(|| self.service.run(arguments))
    }

    async fn finish(self) {
        self.finish_but("\0").await;
    }

    /// The same, where a request to this path was refused, and was meant to be: the browser notes that by itself.
    async fn finish_but(self, refused: &str) {
        let mut errors = self.browser.errors().await;
        errors.retain(|error| !error.contains(refused));
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

/// A home with the sample history. The tests that use it at the same time share it; each copies it.
fn sample_home() -> Arc<Home> {
    static SHARED: Mutex<Weak<Home>> = Mutex::new(Weak::new());
    let mut shared = SHARED.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(home) = shared.upgrade() {
        return home;
    }
    let home = Arc::new(Home::new());
    let service = Service::simulated(&home);
    add_sample(&service);
    assert!(service.end().0);
    *shared = Arc::downgrade(&home);
    home
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
