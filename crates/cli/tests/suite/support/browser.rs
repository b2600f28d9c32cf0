//! Chromium without a window, driven over a pipe (Chrome DevTools protocol, `--remote-debugging-pipe`).

use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use serde_json::{Value, json};

/// A browser with one page.
pub struct Browser {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
    session: Option<String>,
    next: u64,
    /// Everything that it told without being asked.
    pub events: Vec<Value>,
    _folder: tempfile::TempDir,
}

impl Browser {
    /// Starts it.
    pub fn start() -> Browser {
        let folder = tempfile::tempdir().unwrap();
        // The pipes of the protocol are the files 3 and 4; what it says otherwise is of no interest.
        let line = format!(
            "exec chromium --headless --no-sandbox --disable-gpu --disable-dev-shm-usage --hide-scrollbars --window-size=1280,800 --user-data-dir='{}' \
             --remote-debugging-pipe about:blank 3<&0 4>&1 0</dev/null 1>/dev/null 2>/dev/null",
            folder.path().display()
        );
        let mut child =
            Command::new("sh").args(["-c", &line]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let (input, output) = (child.stdin.take().unwrap(), BufReader::new(child.stdout.take().unwrap()));
        let mut browser = Browser { child, input, output, session: None, next: 0, events: Vec::new(), _folder: folder };
        let target = browser.ask("Target.createTarget", json!({ "url": "about:blank" }))["targetId"].clone();
        let session = browser.ask("Target.attachToTarget", json!({ "targetId": target, "flatten": true }));
        browser.session = session["sessionId"].as_str().map(str::to_owned);
        for domain in ["Page", "Runtime", "Log", "Network"] {
            browser.ask(&format!("{domain}.enable"), json!({}));
        }
        browser
    }

    /// Asks for something and waits for the answer.
    pub fn ask(&mut self, method: &str, params: Value) -> Value {
        self.next += 1;
        let mut message = json!({ "id": self.next, "method": method, "params": params });
        if let Some(session) = &self.session {
            message["sessionId"] = json!(session);
        }
        self.input.write_all(message.to_string().as_bytes()).unwrap();
        self.input.write_all(&[0]).unwrap();
        self.input.flush().unwrap();
        loop {
            let answer = self.read();
            if answer["id"] == json!(self.next) {
                assert!(answer.get("error").is_none(), "{method}: {answer}");
                return answer["result"].clone();
            }
            self.events.push(answer);
        }
    }

    fn read(&mut self) -> Value {
        let mut bytes = Vec::new();
        self.output.read_until(0, &mut bytes).unwrap();
        assert!(bytes.pop() == Some(0), "the browser is gone");
        serde_json::from_slice(&bytes).unwrap()
    }

    /// Opens a page and waits until it is loaded.
    pub fn open(&mut self, url: &str) {
        self.ask("Page.navigate", json!({ "url": url }));
        while !self.events.iter().any(|event| event["method"] == "Page.loadEventFired") {
            let event = self.read();
            self.events.push(event);
        }
    }

    /// What an expression comes to in the page; a promise is waited for.
    pub fn value(&mut self, expression: &str) -> Value {
        let asked = json!({ "expression": expression, "returnByValue": true, "awaitPromise": true });
        let answer = self.ask("Runtime.evaluate", asked);
        assert!(answer.get("exceptionDetails").is_none(), "{expression}: {answer}");
        answer["result"]["value"].clone()
    }

    /// Waits until something holds in the page; what never does ends the test.
    pub fn until(&mut self, condition: &str) {
        let look = "let left = 30000; const look = () => holds() || left-- === 0 ? done(holds()) : setTimeout(look, 10); look();";
        let held = self.value(&format!("new Promise((done) => {{ const holds = () => {condition}; {look} }})"));
        assert_eq!(held, Value::Bool(true), "{condition} never came");
    }

    /// Presses a key.
    pub fn press(&mut self, key: &str) {
        let text = if key == " " { json!(" ") } else { Value::Null };
        for kind in ["keyDown", "keyUp"] {
            let mut params = json!({ "type": kind, "key": key, "code": if key == " " { "Space" } else { key } });
            if kind == "keyDown" && !text.is_null() {
                params["text"] = text.clone();
            }
            self.ask("Input.dispatchKeyEvent", params);
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // It may have gone by itself.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
