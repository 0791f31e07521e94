//! A page in headless Chromium, driven by the DevTools protocol over a WebSocket on loopback.

use serde_json::{Value, json};
use std::io::{BufRead, BufReader};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tungstenite::stream::MaybeTlsStream;
use tungstenite::{Message, WebSocket};

const PATIENCE: Duration = Duration::from_secs(60);

/// A browser with one page.
pub struct Page {
    browser: Child,
    socket: WebSocket<MaybeTlsStream<TcpStream>>,
    number: u64,
    /// What the browser told meanwhile.
    events: Vec<Value>,
    session: String,
    _profile: TempDir,
}

impl Page {
    /// Opens a file in a window of a size, and waits until it is there.
    pub fn open(file: &Path, (width, height): (u32, u32)) -> Page {
        let profile = tempfile::tempdir().expect("a temporary folder");
        let name = std::env::var("CHROMIUM").unwrap_or_else(|_| "chromium".to_string());
        let mut browser = Command::new(&name)
            .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync"])
            .args(["--disable-background-networking", "--disable-component-update", "--remote-debugging-port=0"])
            .arg(format!("--user-data-dir={}", profile.path().display()))
            .arg("about:blank")
            .stderr(Stdio::piped())
            .stdout(Stdio::null())
            .spawn()
            .unwrap_or_else(|e| panic!("`{name}` cannot be started ({e}): tests/browser.sh installs it"));
        let mut lines = BufReader::new(browser.stderr.take().expect("piped")).lines();
        let address = lines
            .find_map(|line| line.ok()?.split_once("listening on ").map(|(_, address)| address.trim().to_string()))
            .expect("the browser says where it listens");
        // What it says later must not fill the pipe.
        std::thread::spawn(move || lines.for_each(drop));
        let (socket, _) = tungstenite::connect(address).expect("the browser listens");
        let mut page =
            Page { browser, socket, number: 0, events: Vec::new(), session: String::new(), _profile: profile };
        let target = page.call("Target.createTarget", json!({"url": "about:blank"}))["targetId"].clone();
        let attached = page.call("Target.attachToTarget", json!({"targetId": target, "flatten": true}));
        page.session = attached["sessionId"].as_str().expect("a session").to_string();
        for domain in ["Page", "Runtime", "Log", "Network"] {
            page.call(&format!("{domain}.enable"), json!({}));
        }
        let size = json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 600});
        page.call("Emulation.setDeviceMetricsOverride", size);
        page.call("Page.navigate", json!({"url": format!("file://{}", file.display())}));
        page.wait("document.readyState === 'complete' && location.protocol === 'file:'");
        page
    }

    fn call(&mut self, method: &str, params: Value) -> Value {
        self.number += 1;
        let mut message = json!({"id": self.number, "method": method, "params": params});
        if !self.session.is_empty() {
            message["sessionId"] = json!(self.session);
        }
        self.socket.send(Message::text(message.to_string())).expect("the browser takes it");
        loop {
            let Message::Text(text) = self.socket.read().expect("the browser answers") else { continue };
            let value: Value = serde_json::from_str(&text).expect("JSON");
            if value["id"] == json!(self.number) {
                assert!(value["error"].is_null(), "{method}: {value}");
                return value["result"].clone();
            }
            self.events.push(value);
        }
    }

    /// The value of an expression in the page.
    pub fn value(&mut self, expression: &str) -> Value {
        let answer = self.call("Runtime.evaluate", json!({"expression": expression, "returnByValue": true}));
        assert!(answer["exceptionDetails"].is_null(), "{expression}: {answer}");
        answer["result"]["value"].clone()
    }

    /// The text of an expression in the page.
    pub fn text(&mut self, expression: &str) -> String {
        self.value(expression).as_str().unwrap_or_default().to_string()
    }

    /// Waits until an expression holds.
    pub fn wait(&mut self, expression: &str) {
        let started = Instant::now();
        while self.value(expression) != json!(true) {
            assert!(started.elapsed() < PATIENCE, "waited in vain for {expression}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Types into the element that has the focus.
    pub fn type_text(&mut self, text: &str) {
        self.call("Input.insertText", json!({"text": text}));
    }

    /// Presses a key.
    pub fn press(&mut self, key: &str) {
        let (code, text) = match key {
            "Enter" => (13, "\r"),
            "Tab" => (9, ""),
            _ => (0, key),
        };
        let mut down = json!({"type": "keyDown", "key": key, "windowsVirtualKeyCode": code});
        if !text.is_empty() {
            down["text"] = json!(text);
        }
        self.call("Input.dispatchKeyEvent", down);
        self.call("Input.dispatchKeyEvent", json!({"type": "keyUp", "key": key, "windowsVirtualKeyCode": code}));
    }

    /// What the reader's system says of itself: `prefers-color-scheme`, for one.
    pub fn prefers(&mut self, feature: &str, value: &str) {
        self.call("Emulation.setEmulatedMedia", json!({"features": [{"name": feature, "value": value}]}));
    }

    /// The page on paper, as the bytes of a PDF.
    pub fn pdf(&mut self) -> usize {
        let answer = self.call("Page.printToPDF", json!({"printBackground": true}));
        answer["data"].as_str().map_or(0, str::len)
    }

    /// Errors and warnings on the console, exceptions, and requests for anything but the file itself.
    pub fn complaints(&mut self) -> Vec<String> {
        self.value("1");
        let mut found = Vec::new();
        for event in &self.events {
            let params = &event["params"];
            match event["method"].as_str().unwrap_or_default() {
                "Log.entryAdded" | "Runtime.exceptionThrown" | "Runtime.consoleAPICalled" => {
                    found.push(params.to_string());
                }
                "Network.requestWillBeSent" => {
                    let url = params["request"]["url"].as_str().unwrap_or_default();
                    if !url.starts_with("file:") {
                        found.push(format!("request: {url}"));
                    }
                }
                _ => {}
            }
        }
        found
    }
}

impl Drop for Page {
    fn drop(&mut self) {
        let _ = self.browser.kill();
        let _ = self.browser.wait();
    }
}
