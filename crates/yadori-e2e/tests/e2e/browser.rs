//! A browser of its own for each test.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;
use thirtyfour::prelude::*;
use yadori_e2e::PATIENCE;
use yadori_e2e::process::Process;

/// Chromium without a screen, and its driver.
pub struct Browser {
    pub driver: WebDriver,
    /// Ends before its profile goes.
    _process: Process,
    _profile: TempDir,
}

/// Starts a driver at a free port. Another program may be quicker to take the port that it finds, so this is
/// tried again. What it and the browser need for a moment lies in `folder`.
fn driver(folder: &Path) -> (Process, u16) {
    let start = || {
        let mut command = Command::new("chromedriver");
        command.arg("--port=0").env("TMPDIR", folder).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut process = Process::spawn(command);
        let lines = BufReader::new(process.child().stdout.take().unwrap()).lines().map_while(Result::ok);
        let mut started = lines.filter(|line| line.contains("successfully"));
        let port = started.find_map(|line| line.split("on port ").nth(1)?.trim_end_matches('.').parse().ok())?;
        Some((process, port))
    };
    (0..5).find_map(|_| start()).expect("a driver that starts")
}

impl Browser {
    /// Starts one with a page of this size.
    pub async fn open(width: u32, height: u32) -> Self {
        Self::open_with(width, height, &[]).await
    }

    /// The same with more arguments for the browser.
    pub async fn open_with(width: u32, height: u32, more: &[&str]) -> Self {
        let profile = tempfile::tempdir().unwrap();
        let folder = profile.path().to_owned();
        let (process, port) = tokio::task::spawn_blocking(move || driver(&folder)).await.unwrap();
        let mut capabilities = DesiredCapabilities::chrome();
        // Chromium without windows and all that belongs to them: it starts in a third of the time.
        capabilities.set("browserName", "chrome-headless-shell").unwrap();
        // Not Debian's script around it, which a driver that is ended would end instead of the browser.
        capabilities.set_binary("/usr/lib/chromium/chromium-headless-shell").unwrap();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            // Nothing here needs what a page could draw with a graphics card; without, the browser is there sooner.
            "--disable-software-rasterizer",
            "--in-process-gpu",
            "--disable-extensions",
            "--disable-default-apps",
            "--disable-features=Translate,OptimizationHints,MediaRouter,DialMediaRouteProvider,InterestFeedContentSuggestions",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--hide-scrollbars",
            "--force-prefers-reduced-motion",
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            capabilities.add_arg(argument).unwrap();
        }
        for argument in more {
            capabilities.add_arg(argument).unwrap();
        }
        capabilities.set_browser_log_level(thirtyfour::LoggingPrefsLogLevel::All).unwrap();
        let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), capabilities).await.expect("a browser");
        let browser = Self { driver, _process: process, _profile: profile };
        browser
            .devtools(
                "Emulation.setDeviceMetricsOverride",
                serde_json::json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false}),
            )
            .await;
        browser
    }

    /// Runs a command of the browser's own protocol.
    pub async fn devtools(&self, command: &str, parameters: serde_json::Value) -> serde_json::Value {
        self.driver.cdp().send_raw(command, parameters).await.expect(command)
    }

    /// Waits for an element to be there, and gives it.
    pub async fn wait(&self, selector: &str) -> WebElement {
        let query = self.driver.query(By::Css(selector)).wait(PATIENCE, Duration::from_millis(20));
        query.first().await.unwrap_or_else(|_| panic!("there is no {selector}"))
    }

    /// Waits until a script gives true; looks whenever the document changes, and once in a while.
    pub async fn until(&self, condition: &str) {
        let script = format!(
            "const done = arguments[arguments.length - 1];
             let over = false, soon = false;
             const look = () => {{
                 try {{ over ||= Boolean({condition}); }} catch {{}}
                 if (over) {{ changes.disconnect(); clearInterval(timer); done(true); }}
             }};
             const changes = new MutationObserver(() => {{
                 if (soon) return;
                 soon = true;
                 requestAnimationFrame(() => {{ soon = false; if (!over) look(); }});
             }});
             changes.observe(document, {{ subtree: true, childList: true, attributes: true, characterData: true }});
             // Some of what is waited for changes nothing in the document, as where the focus is.
             const timer = setInterval(() => over || look(), 50);
             look();"
        );
        self.driver.set_script_timeout(PATIENCE).await.unwrap();
        // A page that is loaded anew meanwhile breaks the script off.
        let began = std::time::Instant::now();
        let mut came_true = self.driver.execute_async(&script, Vec::new()).await.is_ok();
        while !came_true && began.elapsed() < PATIENCE {
            came_true = self.driver.execute_async(&script, Vec::new()).await.is_ok();
        }
        if !came_true {
            let focus = self.eval("return document.activeElement?.outerHTML.slice(0, 300)").await;
            let page = self.eval("return document.body.innerText.slice(0, 1500)").await;
            panic!(
                "this did not come true: {condition}
the focus is on {focus}
the page says {page}"
            );
        }
    }

    /// What a script gives.
    pub async fn eval(&self, script: &str) -> serde_json::Value {
        self.driver.execute(script, Vec::new()).await.unwrap().json().clone()
    }

    /// Types on the keyboard, wherever the focus is.
    pub async fn press(&self, keys: impl Into<TypingData>) {
        self.driver.action_chain().send_keys(keys).perform().await.unwrap();
    }

    /// Errors that the page has logged; a breach of the content policy is one.
    pub async fn errors(&self) -> Vec<String> {
        let log = self.driver.browser_log().await.unwrap_or_default();
        log.into_iter()
            .map(|entry| format!("{entry:?}"))
            .filter(|entry| entry.to_uppercase().contains("SEVERE"))
            .collect()
    }

    /// Keeps a picture of the page, when a folder for it is named in YADORI_SHOTS.
    pub async fn shot(&self, name: &str) {
        if let Some(folder) = std::env::var_os("YADORI_SHOTS") {
            let picture = self.driver.screenshot_as_png().await.unwrap();
            std::fs::write(std::path::Path::new(&folder).join(format!("{name}.png")), picture).unwrap();
        }
    }

    /// Ends it.
    pub async fn close(self) {
        let _ = self.driver.quit().await;
    }
}
