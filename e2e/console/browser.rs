//! A headless Chromium for one test, and the functions that tests use.

use serde_json::{Value, json};
use std::fmt::Write;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;
use thirtyfour::prelude::*;
use wirewatch_loopback::{OwnedProcess, free_port};
use wirewatch_testkit::{Service, eventually, eventually_within, http_client};

/// The editor of a page, as a script finds it.
const EDITOR: &str = "document.querySelector('.cm-content').cmTile.view";

/// A browser with one page. Both processes end with it.
pub struct Browser {
    pub driver: WebDriver,
    driver_url: String,
    base: String,
    _chromedriver: OwnedProcess,
    _chromium: OwnedProcess,
    _profile: Profile,
}

/// The folder of a browser. Its helpers end a moment after it, and write to their last: the folder is removed when they
/// have.
struct Profile(tempfile::TempDir);

impl Drop for Profile {
    fn drop(&mut self) {
        for _ in 0..40 {
            if std::fs::remove_dir_all(self.0.path()).is_ok() {
                return;
            }
            std::thread::sleep(Duration::from_millis(25));
        }
    }
}

fn start(program: &str, arguments: &[String]) -> OwnedProcess {
    OwnedProcess::spawn("KILL", program, arguments, |command| {
        // Dates and numbers look the same on every machine.
        command.env("TZ", "UTC").env("LANGUAGE", "en_US").stdout(Stdio::null()).stderr(Stdio::null());
    })
    .unwrap_or_else(|error| panic!("{program}: {error}"))
}

impl Browser {
    /// Opens a browser that has made no request to `service` yet.
    pub async fn new(service: &Service) -> Self {
        let profile = tempfile::Builder::new().prefix("wirewatch-browser-").tempdir().unwrap();
        let mut arguments: Vec<String> = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--window-size=1280,800",
            "--remote-debugging-port=0",
        ]
        .map(str::to_owned)
        .to_vec();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
        arguments.push("about:blank".to_owned());
        let chromium = start("chromium", &arguments);
        let reported: PathBuf = profile.path().join("DevToolsActivePort");
        let debugger = eventually("Chromium says where it listens", || async {
            let text = std::fs::read_to_string(&reported).ok()?;
            text.lines().next()?.parse::<u16>().ok()
        })
        .await;
        let port = free_port().unwrap();
        let chromedriver = start("chromedriver", &[format!("--port={port}")]);
        let driver_url = format!("http://127.0.0.1:{port}");
        let mut capabilities = DesiredCapabilities::chrome();
        capabilities.set_browser_option("debuggerAddress", format!("127.0.0.1:{debugger}")).unwrap();
        capabilities.set("goog:loggingPrefs", json!({ "browser": "ALL" })).unwrap();
        let driver =
            eventually("ChromeDriver answers", || async { WebDriver::new(&driver_url, capabilities.clone()).await.ok() }).await;
        let base = service.url("");
        Self { driver, driver_url, base, _chromedriver: chromedriver, _chromium: chromium, _profile: Profile(profile) }
    }

    /// A browser that is signed in by a link, and shows the first screen.
    pub async fn signed_in(service: &Service) -> Self {
        let browser = Self::new(service).await;
        let (code, link, err) = service.command(&["console"]);
        assert_eq!(code, 0, "{err}");
        browser.driver.goto(link.trim()).await.unwrap();
        browser.see("[data-link=live]").await;
        browser
    }

    /// Goes to a page of the console.
    pub async fn go(&self, path: &str) {
        self.driver.goto(format!("{}{path}", self.base)).await.unwrap();
    }

    /// Path and query of the page.
    pub async fn place(&self) -> String {
        let url = self.driver.current_url().await.unwrap();
        url.as_str().strip_prefix(&self.base).unwrap_or(url.as_str()).to_owned()
    }

    pub async fn comes_to(&self, place: &str) {
        eventually_within(Duration::from_secs(20), format!("the page is {place}").as_str(), || async {
            (self.place().await == place).then_some(())
        })
        .await;
    }

    /// Waits for something on the page.
    pub async fn see(&self, css: &str) -> WebElement {
        let what = || format!("the page shows {css}");
        eventually_within(Duration::from_secs(40), what, || async {
            let found = self.driver.find(By::Css(css)).await.ok()?;
            found.is_displayed().await.ok()?.then_some(found)
        })
        .await
    }

    /// Waits until nothing of the kind is on the page.
    pub async fn see_no(&self, css: &str) {
        let what = || format!("the page no longer shows {css}");
        eventually_within(Duration::from_secs(40), what, || async {
            self.driver.find_all(By::Css(css)).await.ok()?.is_empty().then_some(())
        })
        .await;
    }

    /// Waits until an element contains a text.
    pub async fn read(&self, css: &str, text: &str) {
        let what = || format!("{css} on the page reads `{text}`");
        eventually_within(Duration::from_secs(40), what, || async {
            let found = self.driver.find(By::Css(css)).await.ok()?.text().await.ok()?;
            found.contains(text).then_some(())
        })
        .await;
    }

    /// Clicks on what is, or comes, there.
    pub async fn click(&self, css: &str) {
        let what = || format!("{css} can be clicked");
        eventually_within(Duration::from_secs(40), what, || async {
            self.driver.find(By::Css(css)).await.ok()?.click().await.ok()
        })
        .await;
    }

    /// Clicks on the button or link of this name.
    pub async fn press(&self, name: &str) {
        let path = format!("//button[normalize-space(.)='{name}'] | //a[normalize-space(.)='{name}']");
        let what = || format!("`{name}` can be pressed");
        eventually_within(Duration::from_secs(40), what, || async {
            let found = self.driver.find(By::XPath(&path)).await.ok()?;
            if found.is_enabled().await.ok()? { found.click().await.ok() } else { None }
        })
        .await;
    }

    /// Types wherever the focus is.
    pub async fn type_keys(&self, keys: impl Into<TypingData>) {
        let typing: TypingData = keys.into();
        self.driver.action_chain().send_keys(typing).perform().await.unwrap();
    }

    /// Presses a key while Control is down.
    pub async fn control(&self, key: char) {
        let chain = self.driver.action_chain().key_down(Key::Control).send_keys(key.to_string()).key_up(Key::Control);
        chain.perform().await.unwrap();
    }

    /// Returns the result of a script.
    pub async fn script(&self, script: &str) -> Value {
        self.driver.execute(script, Vec::new()).await.unwrap().json().clone()
    }

    /// The text in the editor of the page, as soon as there is one.
    pub async fn edited(&self) -> String {
        self.see(".cm-content").await;
        let text = self.script(&format!("return {EDITOR}.state.doc.toString()")).await;
        text.as_str().expect("a text").to_owned()
    }

    /// Replaces the text of the page's editor.
    pub async fn edit(&self, text: &str) {
        self.see(".cm-content").await;
        let put = format!(
            "const at = {EDITOR}; at.dispatch({{ changes: {{ from: 0, to: at.state.doc.length, insert: {} }} }})",
            json!(text)
        );
        self.script(&put).await;
    }

    /// Returns the findings of axe-core on the page, with enough detail to correct them.
    pub async fn accessibility(&self) -> String {
        let axe = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/node_modules/axe-core/axe.min.js");
        let source = std::fs::read_to_string(axe).expect("axe-core is among what the console is built from");
        self.driver.execute(source, Vec::new()).await.unwrap();
        let run = "const done = arguments[0]; axe.run(document).then(done, (error) => done({ violations: [{ id: String(error), nodes: [] }] }))";
        let found = self.driver.execute_async(run, Vec::new()).await.unwrap().json().clone();
        let mut reported = String::new();
        for violation in found["violations"].as_array().unwrap() {
            writeln!(reported, "{}: {}", violation["id"], violation["help"]).unwrap();
            for node in violation["nodes"].as_array().unwrap() {
                writeln!(reported, "  {} {}", node["target"], node["any"][0]["message"]).unwrap();
            }
        }
        reported
    }

    /// Returns when the page was first painted, and when its largest element was, in milliseconds since the request.
    pub async fn paints(&self) -> (u64, u64) {
        let look = "const done = arguments[0]
             const first = performance.getEntriesByName('first-contentful-paint')[0]?.startTime
             new PerformanceObserver((all) => done([first, all.getEntries().at(-1).startTime].map(Math.round)))
               .observe({ type: 'largest-contentful-paint', buffered: true })";
        let paints = self.driver.execute_async(look, Vec::new()).await.unwrap().json().clone();
        (paints[0].as_u64().expect("a first paint"), paints[1].as_u64().expect("a largest paint"))
    }

    /// Returns the complaints of the browser since the last call.
    pub async fn complaints(&self) -> Vec<String> {
        let id = self.driver.session_id().to_string();
        let url = format!("{}/session/{id}/se/log", self.driver_url);
        let client = http_client();
        let answer: Value = client.post(url).json(&json!({ "type": "browser" })).send().await.unwrap().json().await.unwrap();
        let entries = answer["value"].as_array().expect("a log").iter();
        entries.filter(|entry| entry["level"] != "INFO").map(|entry| entry["message"].to_string()).collect()
    }

    /// Returns the requests to other hosts than the service.
    pub async fn strangers(&self) -> Vec<String> {
        let names = self.script("return performance.getEntriesByType('resource').map((entry) => entry.name)").await;
        let names = names.as_array().unwrap().iter().filter_map(Value::as_str);
        names.filter(|name| !name.starts_with(&self.base) && !name.starts_with("data:")).map(str::to_owned).collect()
    }

    /// Asserts that the browser has no complaints and made no request to another host.
    pub async fn leave(self) {
        assert_eq!(self.complaints().await, Vec::<String>::new());
        assert_eq!(self.strangers().await, Vec::<String>::new());
        let _ = self.driver.quit().await;
    }
}
