//! A real browser without a window, by the WebDriver protocol of the W3C.

#![allow(dead_code, clippy::unwrap_used)]

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use nubrik_testing::{Need, skip};
use serde_json::{Value, json};

/// What an element is called in the protocol.
const ELEMENT: &str = "element-6066-11e4-a52e-4f735466cecf";

/// Keys as the protocol writes them.
pub const ENTER: &str = "\u{e007}";
pub const DOWN: &str = "\u{e015}";
pub const ESCAPE: &str = "\u{e00c}";
pub const TAB: &str = "\u{e004}";

/// A browser that ends with the test.
pub struct Browser {
    driver: Child,
    port: u16,
    session: String,
    _profile: tempfile::TempDir,
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.request("DELETE", "", &Value::Null);
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn ask(port: u16, method: &str, path: &str, body: &Value) -> Value {
    let body = if body.is_null() {
        String::new()
    } else {
        body.to_string()
    };
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(60)))
        .unwrap();
    let head = format!(
        "{method} {path} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: application/json\r\nConnection: close\r\nContent-Length: {}\r\n\r\n",
        body.len()
    );
    stream.write_all((head + &body).as_bytes()).unwrap();
    let mut answer = Vec::new();
    let mut part = [0; 65536];
    // The driver may keep the connection open: its length says where the answer ends.
    loop {
        let count = stream.read(&mut part).unwrap();
        answer.extend_from_slice(&part[..count]);
        let text = String::from_utf8_lossy(&answer);
        if let Some((heads, body)) = text.split_once("\r\n\r\n") {
            let heads = heads.to_lowercase();
            let length = heads
                .split("content-length:")
                .nth(1)
                .and_then(|rest| rest.lines().next()?.trim().parse().ok());
            if count == 0 || length.is_some_and(|length: usize| body.len() >= length) {
                return serde_json::from_str(body).unwrap_or(Value::Null);
            }
        }
        assert!(count > 0, "the driver said nothing");
    }
}

impl Browser {
    /// A browser with a window of some size, with scripts or without; nothing where the test is to
    /// be left out.
    pub fn start((width, height): (u32, u32), scripts: bool) -> Option<Browser> {
        // The driver takes a free port itself: one that was free a moment ago may be somebody
        // else's now.
        let driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn();
        let mut driver = match driver {
            Ok(driver) => driver,
            Err(e) => {
                skip(Need::Browser, format_args!("there is no chromedriver: {e}"));
                return None;
            }
        };
        let mut said = BufReader::new(driver.stdout.take().unwrap());
        let mut line = String::new();
        let port = loop {
            line.clear();
            assert!(
                said.read_line(&mut line).unwrap() > 0,
                "the driver ended before it listened"
            );
            if let Some(port) = line
                .trim()
                .strip_prefix("ChromeDriver was started successfully on port ")
            {
                break port.trim_end_matches('.').parse().unwrap();
            }
        };
        // A driver that nobody listens to any more would stop at a full pipe.
        std::thread::spawn(move || std::io::copy(&mut said, &mut std::io::sink()));
        let profile = tempfile::tempdir().unwrap();
        let setting = if scripts { 1 } else { 2 };
        let wanted = json!({"capabilities": {"alwaysMatch": {
            "browserName": "chrome",
            "goog:chromeOptions": {
                "args": [
                    "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-first-run",
                    format!("--window-size={width},{height}"),
                    format!("--user-data-dir={}", profile.path().display()),
                ],
                "prefs": {"profile.managed_default_content_settings.javascript": setting},
            },
        }}});
        let made = ask(port, "POST", "/session", &wanted);
        let session = made["value"]["sessionId"]
            .as_str()
            .unwrap_or_else(|| panic!("{made}"))
            .to_owned();
        Some(Browser {
            driver,
            port,
            session,
            _profile: profile,
        })
    }

    fn request(&self, method: &str, path: &str, body: &Value) -> Value {
        ask(
            self.port,
            method,
            &format!("/session/{}{path}", self.session),
            body,
        )["value"]
            .clone()
    }

    pub fn open(&self, address: &str) {
        self.request("POST", "/url", &json!({"url": address}));
    }

    /// The address of the page that is shown.
    pub fn address(&self) -> String {
        self.request("GET", "/url", &Value::Null)
            .as_str()
            .unwrap()
            .to_owned()
    }

    pub fn source(&self) -> String {
        self.request("GET", "/source", &Value::Null)
            .as_str()
            .unwrap()
            .to_owned()
    }

    /// Runs a script in the page.
    pub fn run(&self, script: &str) -> Value {
        let done = self.request(
            "POST",
            "/execute/sync",
            &json!({"script": script, "args": []}),
        );
        assert!(done.get("error").is_none(), "{done}");
        done
    }

    fn element(&self, css: &str) -> String {
        let found = self.request(
            "POST",
            "/element",
            &json!({"using": "css selector", "value": css}),
        );
        found[ELEMENT]
            .as_str()
            .unwrap_or_else(|| panic!("{css}: {found}"))
            .to_owned()
    }

    pub fn click(&self, css: &str) {
        let element = self.element(css);
        let done = self.request("POST", &format!("/element/{element}/click"), &json!({}));
        assert!(done.is_null(), "{css}: {done}");
    }

    /// Types keys into whatever has the focus.
    pub fn keys(&self, keys: &str) {
        let presses = keys.chars().flat_map(|key| {
            let key = key.to_string();
            [
                json!({"type": "keyDown", "value": key}),
                json!({"type": "keyUp", "value": key}),
            ]
        });
        let presses: Vec<Value> = presses.collect();
        self.request(
            "POST",
            "/actions",
            &json!({"actions": [{"type": "key", "id": "keys", "actions": presses}]}),
        );
    }

    /// Types into an element.
    pub fn write(&self, css: &str, text: &str) {
        let element = self.element(css);
        let done = self.request(
            "POST",
            &format!("/element/{element}/value"),
            &json!({"text": text}),
        );
        assert!(done.is_null(), "{css}: {done}");
    }

    /// Lets pages see that somebody prefers dark colours, or light ones.
    pub fn prefer(&self, scheme: &str) {
        let features = json!([{"name": "prefers-color-scheme", "value": scheme}]);
        let params = json!({"features": features});
        self.request(
            "POST",
            "/goog/cdp/execute",
            &json!({"cmd": "Emulation.setEmulatedMedia", "params": params}),
        );
    }
}
