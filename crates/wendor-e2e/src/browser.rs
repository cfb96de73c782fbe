//! A browser without a window: opens pages of the console, does what someone would do, and waits for what appears.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};
use thirtyfour::error::WebDriverErrorInner;
use thirtyfour::prelude::*;
use thirtyfour::{ChromeCapabilities, Key};

/// How long something may take to appear. Reached only when it never will.
const PATIENCE: Duration = Duration::from_secs(60);

/// Between two looks.
const GLANCE: Duration = Duration::from_millis(50);

const ARGUMENTS: [&str; 10] = [
    "--headless",
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-dev-shm-usage",
    "--hide-scrollbars",
    "--force-prefers-reduced-motion",
];

/// A browser with one tab.
pub struct Browser {
    driver: WebDriver,
    process: Child,
    profile: tempfile::TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        // Asking the driver to close would wait for a runtime that is waiting for this; the browser is known by its profile.
        let _browser = Command::new("pkill").arg("-KILL").arg("-f").arg(self.profile.path()).status();
        let _driver = self.process.kill();
        let _reaped = self.process.wait();
        let _told = self.driver.clone().leak();
    }
}

impl Browser {
    /// Starts one whose pages are 1280 x 800.
    ///
    /// # Panics
    /// When Chromium or its driver are not there.
    pub async fn begin() -> Self {
        let (process, port) = start_driver();
        let profile = tempfile::tempdir().expect("there is room for a folder");
        let mut wanted = ChromeCapabilities::new();
        wanted.set_binary("/usr/bin/chromium").expect("it is a path");
        for argument in ARGUMENTS {
            wanted.add_arg(argument).expect("it is an argument");
        }
        wanted.add_arg(&format!("--user-data-dir={}", profile.path().display())).expect("it is an argument");
        let driver = WebDriver::new(format!("http://127.0.0.1:{port}"), wanted).await.expect("the browser starts");
        let browser = Self { driver, process, profile };
        browser.resize(1280).await;
        browser
    }

    /// Makes the window so wide.
    ///
    /// # Panics
    /// When it has no size.
    pub async fn resize(&self, width: u32) {
        // A window is taller than its page by what the driver counts as its frame.
        self.driver.set_window_rect(0, 0, width, 943).await.expect("the window has a size");
    }

    /// Opens an address.
    ///
    /// # Panics
    /// When it cannot.
    pub async fn open(&self, url: &str) {
        self.driver.goto(url).await.expect("the page opens");
    }

    /// Waits until the page shows `text`.
    ///
    /// # Panics
    /// When it never does; says what it shows instead.
    pub async fn see(&self, text: &str) {
        let has_come = self.wait_for(&format!("document.body.innerText.includes({})", json!(text))).await;
        assert!(has_come, "the page never shows {text:?}; it shows:\n{}", self.text().await);
    }

    /// Waits until the page shows `text` no more.
    ///
    /// # Panics
    /// When it goes on showing it.
    pub async fn see_gone(&self, text: &str) {
        let gone = self.wait_for(&format!("!document.body.innerText.includes({})", json!(text))).await;
        assert!(gone, "the page goes on showing {text:?}:\n{}", self.text().await);
    }

    /// Waits until a condition holds in the page; whether it did.
    pub async fn wait_for(&self, condition: &str) -> bool {
        let until = tokio::time::Instant::now() + PATIENCE;
        while self.script(&format!("return Boolean({condition})")).await != Value::Bool(true) {
            if tokio::time::Instant::now() > until {
                return false;
            }
            tokio::time::sleep(GLANCE).await;
        }
        true
    }

    /// Follows the link or presses the button with that text.
    ///
    /// # Panics
    /// When there never is one.
    pub async fn click(&self, text: &str) {
        let path = format!("//*[(self::a or self::button) and normalize-space()=\"{text}\"]");
        self.click_at(By::XPath(path), text).await;
    }

    /// Clicks the first element that a selector finds.
    ///
    /// # Panics
    /// When there never is one.
    pub async fn click_on(&self, selector: &str) {
        self.click_at(By::Css(selector.to_owned()), selector).await;
    }

    /// A page that is drawn anew between the look and the click has another element in the same place: that one is meant.
    async fn click_at(&self, by: By, what: &str) {
        let until = tokio::time::Instant::now() + PATIENCE;
        while let Err(error) = self.element(by.clone(), what).await.click().await {
            let is_drawn_anew = matches!(error.as_inner(), WebDriverErrorInner::StaleElementReference(_));
            assert!(is_drawn_anew && tokio::time::Instant::now() < until, "{what} can be clicked: {error}");
        }
    }

    /// Types into the field with that label, after what stood there is gone.
    ///
    /// # Panics
    /// When there never is one.
    pub async fn fill(&self, label: &str, value: &str) {
        let field =
            self.element(By::XPath(format!("//*[@id=//label[normalize-space()=\"{label}\"]/@for]")), label).await;
        field.clear().await.expect("it is a field");
        field.send_keys(value).await.expect("it takes keys");
    }

    /// Chooses in the selection with that label.
    ///
    /// # Panics
    /// When there never is one.
    pub async fn choose(&self, label: &str, choice: &str) {
        let path =
            format!("//*[@id=//label[normalize-space()=\"{label}\"]/@for]/option[normalize-space()=\"{choice}\"]");
        self.element(By::XPath(path), choice).await.click().await.expect("it can be chosen");
    }

    async fn element(&self, by: By, what: &str) -> WebElement {
        let shown = self.driver.query(by).wait(PATIENCE, GLANCE).and_displayed().and_enabled().first().await;
        match shown {
            Ok(element) => element,
            Err(error) => panic!("there is no {what:?} ({error}); the page shows:\n{}", self.text().await),
        }
    }

    /// Presses keys, as they come from a keyboard, wherever the focus is.
    ///
    /// # Panics
    /// When the page is gone.
    pub async fn press(&self, keys: impl Into<TypingData>) {
        self.driver.action_chain().send_keys(keys).perform().await.expect("keys can be pressed");
    }

    /// Presses a key together with Control.
    ///
    /// # Panics
    /// When the page is gone.
    pub async fn press_with_control(&self, key: char) {
        let chain = self.driver.action_chain().key_down(Key::Control).send_keys(key.to_string()).key_up(Key::Control);
        chain.perform().await.expect("keys can be pressed");
    }

    /// Presses a key while another is held.
    ///
    /// # Panics
    /// When the page is gone.
    pub async fn chord(&self, held: Key, key: Key) {
        let chain = self.driver.action_chain().key_down(held.clone()).send_keys(key).key_up(held);
        chain.perform().await.expect("keys can be pressed");
    }

    /// The text that the page shows.
    pub async fn text(&self) -> String {
        self.script("return document.body.innerText").await.as_str().unwrap_or_default().to_owned()
    }

    /// The path and query of the page.
    ///
    /// # Panics
    /// When the page is gone.
    pub async fn address(&self) -> String {
        self.script("return location.pathname + location.search").await.as_str().unwrap_or_default().to_owned()
    }

    /// What a script returns.
    ///
    /// # Panics
    /// When it throws.
    pub async fn script(&self, script: &str) -> Value {
        self.driver.execute(script, Vec::new()).await.expect("the script runs").json().clone()
    }

    /// Every breach of the accessibility rules on the page, in words. `axe` is the text of the checker.
    ///
    /// # Panics
    /// When the checker cannot run.
    pub async fn breaches(&self, axe: &str) -> Vec<String> {
        self.driver.execute(axe.to_owned(), Vec::new()).await.expect("the checker loads");
        let run = "const done = arguments[arguments.length - 1]; axe.run().then(found => done(found.violations), error => done([{ id: String(error), nodes: [] }]))";
        let report = self.driver.execute_async(run, Vec::new()).await.expect("the checker runs").json().clone();
        let words = |breach: &Value| {
            let nodes = breach["nodes"].as_array().map_or(&[][..], Vec::as_slice);
            let places: Vec<String> =
                nodes.iter().map(|node| format!("{} {}", node["target"], node["failureSummary"])).collect();
            format!("{}: {}\n  {}", breach["id"], breach["help"], places.join("\n  "))
        };
        report.as_array().map_or(&[][..], Vec::as_slice).iter().map(words).collect()
    }

    /// Takes a picture of the page.
    ///
    /// # Panics
    /// When the file cannot be written.
    pub async fn picture(&self, path: &Path) {
        self.driver.screenshot(path).await.expect("a picture can be taken");
    }
}

/// How often the driver may find its port taken: it wants the same one in both versions of addresses, and others start at the same time.
const STARTS: usize = 5;

/// Starts the driver on a port of its own choice.
fn start_driver() -> (Child, u16) {
    for _ in 0..STARTS {
        let mut command = Command::new("chromedriver");
        command.arg("--port=0").stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut process = command.spawn().expect("chromedriver is there: scripts/test installs it");
        let output = BufReader::new(process.stdout.take().expect("it is piped"));
        let port = output.lines().map_while(Result::ok).find_map(|line| {
            line.strip_prefix("ChromeDriver was started successfully on port ")?.trim_end_matches('.').parse().ok()
        });
        if let Some(port) = port {
            return (process, port);
        }
        let _ended = process.wait();
    }
    panic!("chromedriver says on no port that it listens");
}
