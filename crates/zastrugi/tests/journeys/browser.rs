//! A real browser: chromedriver on a free port, killed with everything below it at the end; the console must be empty.

use fantoccini::{Client, ClientBuilder, Locator, wd::WebDriverCompatibleCommand};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use std::{
    io::{BufRead, BufReader},
    os::unix::process::CommandExt,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

pub(crate) struct Browser {
    pub(crate) page: Client,
    driver: Child,
    _dir: tempfile::TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let group = format!("-{}", self.driver.id());
        drop(Command::new("kill").args(["-9", "--", &group]).status());
        drop(self.driver.wait());
    }
}

#[derive(Debug)]
struct Console;

impl WebDriverCompatibleCommand for Console {
    fn endpoint(
        &self,
        base: &url::Url,
        session: Option<&str>,
    ) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/se/log", session.unwrap_or_default()))
    }
    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (
            http::Method::POST,
            Some(json!({"type": "browser"}).to_string()),
        )
    }
}

const PATIENCE: Duration = Duration::from_secs(20);

/// A driver and its port; none when it ended before it listened.
fn driver(dir: &std::path::Path) -> Option<(Child, String)> {
    let mut driver = Command::new("chromedriver")
        .arg("--port=0")
        .env("TMPDIR", dir)
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .unwrap();
    let out = BufReader::new(driver.stdout.take().unwrap());
    let port = out.lines().map_while(Result::ok).find_map(|l| {
        let rest = l.split("successfully on port ").nth(1)?;
        Some(rest.trim_end_matches('.').to_owned())
    });
    match port {
        Some(port) => Some((driver, port)),
        None => {
            drop(driver.wait());
            None
        }
    }
}

/// Marks a button, so that it is known again on the same page.
const MARK: &str = "const b = document.querySelector(arguments[0]); if (b) b.pressed = true;";
/// Whether the marked button would send a form that is sent once, is valid, and has not done it.
const UNSENT: &str = "const b = document.querySelector(arguments[0]);
    return !!(b && b.pressed && !b.disabled && b.type === 'submit' && !('again' in b.dataset) && b.form
        && b.form.matches('[data-once]') && b.form.checkValidity());";

impl Browser {
    pub(crate) async fn start() -> Browser {
        let dir = tempfile::tempdir().unwrap();
        // A driver that finds its port taken just then ends; the next one takes another.
        let (driver, port) = (0..5).find_map(|_| driver(dir.path())).unwrap();
        let data = format!("--user-data-dir={}", dir.path().join("data").display());
        let args = [
            "--headless=new",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--hide-scrollbars",
            "--force-device-scale-factor=1",
            "--window-size=1280,900",
            &data,
        ];
        let wanted =
            json!({"goog:chromeOptions": {"args": args}, "goog:loggingPrefs": {"browser": "ALL"}});
        let page = ClientBuilder::new(HttpConnector::new())
            .capabilities(wanted.as_object().unwrap().clone())
            .connect(&format!("http://127.0.0.1:{}", port))
            .await
            .unwrap();
        Browser {
            page,
            driver,
            _dir: dir,
        }
    }

    /// Waits for it to be there and pressable, then presses it; once more where the page moved away beneath the pointer.
    pub(crate) async fn press(&self, css: &str) {
        let began = Instant::now();
        loop {
            let told = vec![serde_json::json!(css)];
            let marked = self.page.execute(MARK, told.clone()).await;
            if marked.is_ok()
                && let Ok(found) = self.page.find(Locator::Css(css)).await
            {
                let sent = match found.click().await {
                    Ok(()) => !self.is_still_there(told).await,
                    // The driver also says so where the press itself made the page go.
                    Err(_) => self.is_gone(css).await,
                };
                if sent {
                    return;
                }
            }
            assert!(
                began.elapsed() < PATIENCE,
                "{css} can't be pressed: {}",
                self.text().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    /// Whether it is no longer there, and doesn't come back with the next picture of the page.
    async fn is_gone(&self, css: &str) -> bool {
        let began = Instant::now();
        while began.elapsed() < Duration::from_millis(400) {
            if self.page.find(Locator::Css(css)).await.is_ok() {
                return false;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        true
    }
    /// Whether a button that sends a form once was pressed and the form was not sent: it is on the same page, and not disabled.
    async fn is_still_there(&self, told: Vec<serde_json::Value>) -> bool {
        let began = Instant::now();
        while began.elapsed() < Duration::from_millis(400) {
            match self.page.execute(UNSENT, told.clone()).await {
                Ok(unsent) if unsent == true => tokio::time::sleep(Duration::from_millis(50)).await,
                // It is sent, or the page is on its way.
                Ok(_) | Err(_) => return false,
            }
        }
        true
    }
    /// Replaces what stands in a field.
    pub(crate) async fn fill(&self, css: &str, text: &str) {
        let began = Instant::now();
        // What is morphed in between is there again in a moment.
        loop {
            if let Ok(field) = self.page.find(Locator::Css(css)).await
                && field.clear().await.is_ok()
                && field.send_keys(text).await.is_ok()
            {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{css} can't be filled");
            // A form that the page's news folded up in between is unfolded again, as a person would.
            let unfold = "document.querySelector(arguments[0])?.closest('details:not([open])')?.setAttribute('open', '')";
            let told = vec![serde_json::json!(css)];
            drop(self.page.execute(unfold, told).await);
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    /// Does what stands in a page's list of all that can be done, by keyboard alone: a point, words, Enter.
    pub(crate) async fn deed(&self, words: &str) {
        let live = Locator::Css("main [data-htmx-powered]");
        let page = self.page.wait().at_most(PATIENCE);
        page.for_element(live).await.unwrap();
        self.keys(".").await;
        self.says("What can be done").await;
        self.fill("#deeds input", &format!("{words}\u{e007}")).await;
        self.says("Consequences").await;
    }
    /// Takes an option of a list, until the list says so.
    pub(crate) async fn pick(&self, list: &str, option: &str) {
        let began = Instant::now();
        loop {
            self.press(&format!("{list} {option}")).await;
            let said = format!("return document.querySelector('{list} {option}').selected");
            if self.page.execute(&said, vec![]).await.unwrap() == true {
                // Whoever presses an option causes both events; some drivers tell of the change alone.
                let input = format!(
                    "document.querySelector('{list}')?.dispatchEvent(new Event('input', {{ bubbles: true }}))"
                );
                // The page may be on its way already.
                drop(self.page.execute(&input, vec![]).await);
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{list} does not take {option}");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    /// Chooses a file of this machine.
    pub(crate) async fn choose(&self, css: &str, path: &str) {
        let began = Instant::now();
        loop {
            if let Ok(field) = self.page.find(Locator::Css(css)).await
                && field.send_keys(path).await.is_ok()
            {
                return;
            }
            assert!(began.elapsed() < PATIENCE, "{css} takes no file");
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    pub(crate) async fn text(&self) -> String {
        match self.page.find(Locator::Css("body")).await {
            Ok(body) => body.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        }
    }
    /// Waits until the page says it.
    pub(crate) async fn says(&self, words: &str) {
        let began = Instant::now();
        loop {
            let text = self.text().await;
            if text.contains(words) {
                return;
            }
            assert!(
                began.elapsed() < PATIENCE,
                "the page does not say “{words}”:\n{text}\n{}",
                self.chosen().await
            );
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }
    /// What is chosen and typed in the sheet, for a test that failed.
    async fn chosen(&self) -> String {
        let all = "return [...document.querySelectorAll('#sheet select, #sheet input')].filter((e) => e.type !== 'password')
            .map((e) => `${e.name}=${e.type === 'checkbox' ? e.checked : e.value}`).join(' ')";
        let said = self.page.execute(all, vec![]).await.ok();
        said.and_then(|s| Some(s.as_str()?.to_owned()))
            .unwrap_or_default()
    }
    pub(crate) async fn go(&self, url: &str) {
        self.page.goto(url).await.unwrap();
    }
    /// Presses keys where the focus is.
    pub(crate) async fn keys(&self, keys: &str) {
        let body = self.page.find(Locator::Css("body")).await.unwrap();
        body.send_keys(keys).await.unwrap();
    }
    /// Nothing was refused by the policy and nothing went wrong in a script. Answers that a test provoked are named.
    pub(crate) async fn assert_quiet(&self, provoked: &[&str]) {
        let said = self.page.issue_cmd(Console).await.unwrap();
        let lines: Vec<Value> = said.as_array().cloned().unwrap_or_default();
        let loud: Vec<_> = lines
            .iter()
            .filter(|l| {
                l["level"] == "SEVERE"
                    || l["message"]
                        .as_str()
                        .is_some_and(|m| m.contains("Content Security Policy"))
            })
            .filter(|l| {
                !provoked
                    .iter()
                    .any(|p| l["message"].as_str().is_some_and(|m| m.contains(p)))
            })
            .collect();
        assert!(loud.is_empty(), "{loud:#?}");
    }
}
