//! Shared by the tests of pages: a real browser without a window, driven over WebDriver.
//!
//! Needs Debian's packages `chromium` and `chromium-driver`. A test that lacks them says that it
//! was skipped; if the variable `CI` is set, it fails.

use base64::{Engine, prelude::BASE64_STANDARD};
use fantoccini::{
    Client, ClientBuilder, Locator,
    wd::{PrintConfigurationBuilder, WebDriverCompatibleCommand},
};
use hyper_util::client::legacy::connect::HttpConnector;
use serde_json::{Value, json};
use std::{
    future::Future,
    io::{BufRead, BufReader},
    path::Path,
    process::{Child, Command, Stdio},
    time::Duration,
};
use tokio::runtime::Runtime;

/// A browser with one page.
pub(crate) struct Browser {
    runtime: Runtime,
    client: Client,
    driver: Child,
}

/// A command of the browser's own driver.
#[derive(Debug)]
struct OwnCommand(&'static str, Value);

impl WebDriverCompatibleCommand for OwnCommand {
    fn endpoint(
        &self,
        base: &url::Url,
        session: Option<&str>,
    ) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/{}", session.unwrap_or_default(), self.0))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.1.to_string()))
    }
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
        let Value::Object(options) = options else { unreachable!("it is an object") };
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let connecting = async {
            ClientBuilder::new(HttpConnector::new())
                .capabilities(options)
                .connect(&format!("http://127.0.0.1:{port}"))
                .await
        };
        let client = runtime.block_on(connecting).unwrap();
        Some(Browser { runtime, client, driver })
    }

    fn wait<T, E: std::fmt::Debug>(&self, for_it: impl Future<Output = Result<T, E>>) -> T {
        self.runtime.block_on(for_it).unwrap()
    }

    /// Opens a file.
    pub(crate) fn open(&self, file: &Path) {
        let url = url::Url::from_file_path(file.canonicalize().unwrap()).unwrap();
        self.wait(self.client.goto(url.as_str()));
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
        self.wait(self.client.execute(script, Vec::new()))
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

    /// Clicks on the first element of a selector.
    pub(crate) fn click(&self, selector: &str) {
        let element = self.wait(self.client.find(Locator::Css(selector)));
        self.wait(element.click());
    }

    /// Types into the first element of a selector.
    pub(crate) fn keys(&self, selector: &str, keys: &str) {
        let element = self.wait(self.client.find(Locator::Css(selector)));
        self.wait(element.send_keys(keys));
    }

    /// Presses keys where the focus is.
    pub(crate) fn press(&self, keys: &str) {
        let element = self.wait(self.client.active_element());
        self.wait(element.send_keys(keys));
    }

    /// Sends a command of the browser's debugging protocol.
    pub(crate) fn send(&self, command: &str, parameters: Value) -> Value {
        let body = json!({ "cmd": command, "params": parameters });
        self.wait(self.client.issue_cmd(OwnCommand("goog/cdp/execute", body)))
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
        let body = json!({ "type": kind });
        let entries = self.wait(self.client.issue_cmd(OwnCommand("se/log", body)));
        let message = |entry: &Value| entry["message"].as_str().unwrap().to_owned();
        entries.as_array().unwrap().iter().map(message).collect()
    }

    /// The page printed to a PDF.
    pub(crate) fn print(&self) -> Vec<u8> {
        let settings = PrintConfigurationBuilder::default().build().unwrap();
        self.wait(self.client.print(settings))
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
        let client = self.client.clone();
        // A browser that does not answer ends with its driver.
        let _ = self.runtime.block_on(client.close());
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
