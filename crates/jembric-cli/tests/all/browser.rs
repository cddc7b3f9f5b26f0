//! Shared by the tests of pages: a real browser without a window, driven over WebDriver.
//!
//! Needs Debian's packages `chromium` and `chromium-driver`. A test that lacks them says that it
//! was skipped; if the variable `CI` is set, it fails.

use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::{Value, json};
use std::{
    io::{BufRead, BufReader},
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};
use ureq::Agent;

/// A browser with one page.
pub(crate) struct Browser {
    agent: Agent,
    /// The address of the session, to which commands are sent.
    session: String,
    driver: Child,
}

/// What a page needs from outside the tests; none if it is missing and may be.
pub(crate) fn or_skipped<T>(found: Option<T>, needed: &str) -> Option<T> {
    if found.is_none() {
        assert!(std::env::var_os("CI").is_none(), "{needed} is missing");
        eprintln!("skipped, because {needed} is missing");
    }
    found
}

impl Browser {
    /// Starts a browser; none if it is not installed.
    pub(crate) fn start() -> Option<Browser> {
        let driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn();
        let mut driver = or_skipped(driver.ok(), "Debian's package chromium-driver")?;
        let lines = BufReader::new(driver.stdout.take().unwrap()).lines();
        let port = lines.map_while(Result::ok).find_map(|line| {
            let port = line.split_once("started successfully on port ")?.1;
            port.trim_end_matches('.').parse::<u16>().ok()
        });
        let port = port.unwrap();
        let options = json!({
            "goog:chromeOptions": {
                "args": [
                    "--headless=new", "--no-sandbox", "--disable-gpu", "--window-size=1280,800"
                ]
            },
            "goog:loggingPrefs": { "browser": "ALL", "performance": "ALL" },
        });
        let agent = Agent::new_with_config(
            // The reason of an error is in the body of its response.
            Agent::config_builder().http_status_as_error(false).build(),
        );
        let mut browser =
            Browser { agent, session: format!("http://127.0.0.1:{port}/session"), driver };
        let begun = browser.post("", json!({ "capabilities": { "alwaysMatch": options } }));
        browser.session = format!("{}/{}", browser.session, begun["sessionId"].as_str().unwrap());
        Some(browser)
    }

    /// The value that a command returns.
    fn post(&self, command: &str, body: Value) -> Value {
        let response = self.agent.post(format!("{}{command}", self.session)).send_json(body);
        value_of(response.unwrap())
    }

    /// Opens a file.
    pub(crate) fn open(&self, file: &Path) {
        let url = format!("file://{}", file.canonicalize().unwrap().display());
        self.post("/url", json!({ "url": url }));
        // A busy machine may take a moment from the load of a page to its layout.
        let is_laid_out = || self.value("return document.body.offsetHeight > 0") == true;
        let waited = (0..200).any(|_| {
            is_laid_out() || {
                std::thread::sleep(Duration::from_millis(50));
                false
            }
        });
        assert!(waited, "the page has no layout");
    }

    /// The value of a function body in the page.
    pub(crate) fn value(&self, script: &str) -> Value {
        self.post("/execute/sync", json!({ "script": script, "args": [] }))
    }

    /// The number that an expression has in the page.
    pub(crate) fn number(&self, expression: &str) -> i64 {
        self.value(&format!("return {expression}")).as_i64().unwrap()
    }

    /// The texts of an expression for a list.
    pub(crate) fn texts(&self, expression: &str) -> Vec<String> {
        let texts = self.value(&format!("return [...{expression}]"));
        serde_json::from_value(texts).unwrap()
    }

    /// The path of the first element of a selector.
    fn element(&self, selector: &str) -> String {
        path_of(&self.post("/element", json!({ "using": "css selector", "value": selector })))
    }

    /// Clicks on the first element of a selector.
    pub(crate) fn click(&self, selector: &str) {
        self.post(&format!("{}/click", self.element(selector)), json!({}));
    }

    /// Types into the first element of a selector.
    pub(crate) fn keys(&self, selector: &str, keys: &str) {
        self.post(&format!("{}/value", self.element(selector)), json!({ "text": keys }));
    }

    /// Presses keys where the focus is.
    pub(crate) fn press(&self, keys: &str) {
        let active = self.agent.get(format!("{}/element/active", self.session)).call();
        let element = path_of(&value_of(active.unwrap()));
        self.post(&format!("{element}/value"), json!({ "text": keys }));
    }

    /// Sends a command of the browser's debugging protocol.
    pub(crate) fn send(&self, command: &str, parameters: Value) -> Value {
        self.post("/goog/cdp/execute", json!({ "cmd": command, "params": parameters }))
    }

    /// Makes the window this wide.
    pub(crate) fn width(&self, width: u32) {
        let screen = json!({
            "width": width, "height": 800, "deviceScaleFactor": 1, "mobile": false
        });
        self.send("Emulation.setDeviceMetricsOverride", screen);
    }

    /// The medium (`screen` or `print`) and the colours that the viewer prefers.
    pub(crate) fn medium(&self, medium: &str, scheme: &str) {
        let features = json!([{ "name": "prefers-color-scheme", "value": scheme }]);
        let parameters = json!({ "media": medium, "features": features });
        self.send("Emulation.setEmulatedMedia", parameters);
    }

    /// The messages of a log since it was last read.
    pub(crate) fn log(&self, kind: &str) -> Vec<String> {
        let entries = self.post("/se/log", json!({ "type": kind }));
        let message = |entry: &Value| entry["message"].as_str().unwrap().to_owned();
        entries.as_array().unwrap().iter().map(message).collect()
    }

    /// The page printed to a PDF.
    pub(crate) fn print(&self) -> Vec<u8> {
        BASE64_STANDARD.decode(self.post("/print", json!({})).as_str().unwrap()).unwrap()
    }

    /// The elements that were requested from elsewhere since the log was last read.
    pub(crate) fn requests(&self) -> Vec<String> {
        let request = |message: String| {
            let message: Value = serde_json::from_str(&message).unwrap();
            let message = &message["message"];
            let is_request = message["method"] == "Network.requestWillBeSent";
            is_request.then(|| message["params"]["request"]["url"].as_str().unwrap().to_owned())
        };
        self.log("performance").into_iter().filter_map(request).collect()
    }

    /// A picture of the window, for looking at a failure.
    #[allow(dead_code)]
    pub(crate) fn picture(&self, file: &Path) {
        let shot = self.send("Page.captureScreenshot", json!({}));
        let bytes = BASE64_STANDARD.decode(shot["data"].as_str().unwrap()).unwrap();
        std::fs::write(file, bytes).unwrap();
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // A browser that does not answer ends with its driver.
        let _ = self.agent.delete(&self.session).call();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

/// The value in a response of WebDriver.
fn value_of(mut response: ureq::http::Response<ureq::Body>) -> Value {
    let is_success = response.status().is_success();
    let mut answer: Value = response.body_mut().with_config().limit(1 << 30).read_json().unwrap();
    assert!(is_success, "{answer}");
    answer["value"].take()
}

/// The path of an element in an answer of WebDriver. The standard fixes the key of its number.
fn path_of(element: &Value) -> String {
    let id = element["element-6066-11e4-a52e-4f735466cecf"].as_str().unwrap();
    format!("/element/{id}")
}
