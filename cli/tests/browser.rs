//! Reports in a browser: no error, no request to anywhere, every section there, folding by keyboard, on paper.
//!
//! Needs Chromium and its driver, which `.ci/browser` installs; `CHURN_BROWSER_DRIVER` is the driver's path. Without it these
//! tests are skipped, and say so.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, ChildStdout, Command, Stdio};

use assert_cmd::cargo::CommandCargoExt;
use serde_json::{Value, json};
use tempfile::TempDir;

/// A browser that is driven by the protocol of the W3C.
struct Browser {
    driver: Child,
    /// What it tells, kept open as long as it runs.
    _told: BufReader<ChildStdout>,
    address: String,
}

impl Browser {
    /// Starts a browser; `None` if there is none here.
    fn start() -> Option<Browser> {
        let Some(path) = std::env::var_os("CHURN_BROWSER_DRIVER") else {
            eprintln!("skipped: CHURN_BROWSER_DRIVER is not set, see .ci/browser");
            return None;
        };
        let mut driver =
            Command::new(path).arg("--port=0").stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
        let mut told = BufReader::new(driver.stdout.take().unwrap());
        let mut lines = (&mut told).lines().map_while(Result::ok);
        let started = lines.find(|line| line.contains("successfully on port ")).expect("the driver starts");
        let port: u16 =
            started.rsplit("on port ").next().unwrap().trim_end_matches('.').trim().parse().unwrap();
        let address = format!("http://127.0.0.1:{port}/session");
        let arguments = ["--headless", "--no-sandbox", "--disable-gpu", "--window-size=1280,800"];
        let wanted = json!({"capabilities": {"alwaysMatch": {
            "goog:chromeOptions": {"args": arguments},
            "goog:loggingPrefs": {"browser": "ALL", "performance": "ALL"},
        }}});
        let mut browser = Browser { driver, _told: told, address };
        let session = browser.ask("", Some(wanted));
        browser.address = format!("{}/{}", browser.address, session["sessionId"].as_str().unwrap());
        Some(browser)
    }

    /// Sends a command, with a body or to get something; gives its value.
    fn ask(&self, command: &str, body: Option<Value>) -> Value {
        let address = format!("{}{command}", self.address);
        let answer = match body {
            Some(body) => ureq::post(&address).content_type("application/json").send(body.to_string()),
            None => ureq::get(&address).call(),
        };
        let text = answer.unwrap().body_mut().read_to_string().unwrap();
        serde_json::from_str::<Value>(&text).unwrap()["value"].clone()
    }

    fn open(&self, page: &Path) {
        self.ask("/url", Some(json!({"url": format!("file://{}", page.display())})));
    }

    fn script(&self, script: &str) -> Value {
        self.ask("/execute/sync", Some(json!({"script": format!("return {script}"), "args": []})))
    }

    fn logged(&self, log: &str) -> Vec<Value> {
        self.ask("/se/log", Some(json!({"type": log}))).as_array().cloned().unwrap_or_default()
    }

    fn press(&self, key: &str) {
        let action = |kind: &str| json!({"type": kind, "value": key});
        let keys = json!({"type": "key", "id": "keys", "actions": [action("keyDown"), action("keyUp")]});
        self.ask("/actions", Some(json!({"actions": [keys]})));
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = ureq::delete(&self.address).call();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

/// A report of a recipe that draws, writes, and holds texts that would be markup.
fn report() -> TempDir {
    let folder = TempDir::new().unwrap();
    let rows: String =
        (0..50).map(|i| format!("F{},{},<img src=x onerror=alert(1)>\n", i % 5, i * 3)).collect();
    std::fs::write(folder.path().join("milk.csv"), format!("farm,litres,note\n{rows}")).unwrap();
    let recipe = "table farms\n  read 'milk.csv'\n  group by farm: all = sum(litres)\n  write 'farms.csv'\n\n\
                  read 'milk.csv'\ndraw histogram litres by farm to 'litres.svg'\njoin farms on farm\nsort litres desc\n";
    std::fs::write(folder.path().join("milk.churn"), recipe).unwrap();
    let mut command = Command::cargo_bin("churn").unwrap();
    let output = command
        .current_dir(folder.path())
        .args(["report", "milk.churn", "-o", "report.html"])
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    folder
}

#[test]
fn the_page_opens_without_an_error_or_a_request() {
    let Some(browser) = Browser::start() else { return };
    let folder = report();
    browser.open(&folder.path().join("report.html"));
    assert_eq!(browser.script("document.title"), "milk");
    let sections =
        browser.script("Array.from(document.querySelectorAll('section')).map(s => s.id).join(' ')");
    assert_eq!(sections, "result charts rows took written columns plan recipe read");
    // Every link of the navigation leads to a section.
    assert_eq!(
        browser.script(
            "Array.from(document.querySelectorAll('nav a')).every(a => document.querySelector(a.hash))"
        ),
        true
    );
    // Texts are texts, and no element overflows the page, which scrolls within where it must.
    assert_eq!(browser.script("document.querySelectorAll('img, script').length"), 0);
    assert_eq!(browser.script("document.documentElement.scrollWidth <= window.innerWidth"), true);
    let errors = browser.logged("browser");
    assert!(errors.is_empty(), "{errors:?}");
    for entry in browser.logged("performance") {
        let message: Value = serde_json::from_str(entry["message"].as_str().unwrap()).unwrap();
        if message["message"]["method"] == "Network.requestWillBeSent" {
            let url = message["message"]["params"]["request"]["url"].as_str().unwrap().to_owned();
            assert!(url.starts_with("file://") || url.starts_with("data:"), "{url}");
        }
    }
}

#[test]
fn folding_works_by_keyboard() {
    let Some(browser) = Browser::start() else { return };
    let folder = report();
    browser.open(&folder.path().join("report.html"));
    browser.script("document.querySelector('summary').focus()");
    let is_open = || browser.script("document.querySelector('details').open");
    assert_eq!(is_open(), true);
    browser.press("\u{e007}");
    assert_eq!(is_open(), false);
    browser.press("\u{e007}");
    assert_eq!(is_open(), true);
}

#[test]
fn the_page_prints() {
    let Some(browser) = Browser::start() else { return };
    let folder = report();
    browser.open(&folder.path().join("report.html"));
    let pages = browser.ask("/print", Some(json!({})));
    // A PDF, in the letters of base 64.
    assert!(pages.as_str().unwrap().starts_with("JVBERi0"));
}
