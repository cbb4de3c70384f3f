//! Headless Chromium, driven step by step; it ends with the test.

use serde_json::{Value, json};
use std::io::{BufRead as _, BufReader, Write as _};
use std::path::Path;
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use std::time::{Duration, Instant};

/// How long a browser may take to end.
const LONGEST_END: Duration = Duration::from_secs(10);

/// A browser with one page.
pub struct Browser {
    driver: Child,
    /// Empty once everything was sent.
    tell: Option<ChildStdin>,
    hear: BufReader<ChildStdout>,
    base: String,
}

impl Browser {
    /// Starts it; addresses are below `base`.
    ///
    /// # Panics
    ///
    /// Panics if it does not start.
    pub fn start(base: &str) -> Self {
        let here = Path::new(env!("CARGO_MANIFEST_DIR"));
        let mut driver = Command::new("node")
            .arg(here.join("browser/driver.mjs"))
            .env("CONSOLE", here.join("../../console"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("Node.js starts");
        let (tell, hear) = (driver.stdin.take(), driver.stdout.take().expect("it writes"));
        Self { driver, tell, hear: BufReader::new(hear), base: base.to_owned() }
    }

    fn step(&mut self, step: &Value) -> Value {
        writeln!(self.tell.as_mut().expect("it was started"), "{step}").expect("the browser runs");
        let mut line = String::new();
        self.hear.read_line(&mut line).expect("the browser answers");
        let answer: Value =
            serde_json::from_str(&line).unwrap_or_else(|error| panic!("{step}: {error}: {line}"));
        assert_eq!(answer["ok"], true, "{step}: {}", answer["value"].as_str().unwrap_or_default());
        answer["value"].clone()
    }

    /// Opens an address of the console.
    pub fn open(&mut self, path: &str) {
        let url = if path.starts_with("https:") { path.to_owned() } else { format!("{}{path}", self.base) };
        self.step(&json!({ "do": "goto", "url": url }));
    }

    /// Waits until a text is seen.
    pub fn see(&mut self, text: &str) {
        self.step(&json!({ "do": "see", "text": text }));
    }

    /// Clicks what has this role and name.
    pub fn click(&mut self, role: &str, name: &str) {
        self.step(&json!({ "do": "click", "role": role, "name": name }));
    }

    /// Types into a field.
    pub fn fill(&mut self, label: &str, text: &str) {
        self.step(&json!({ "do": "fill", "label": label, "text": text }));
    }

    /// Presses a key.
    pub fn press(&mut self, key: &str) {
        self.step(&json!({ "do": "press", "key": key }));
    }

    /// Types where the focus is.
    pub fn type_text(&mut self, text: &str) {
        self.step(&json!({ "do": "type", "text": text }));
    }

    /// Returns the address of the page.
    pub fn address(&mut self) -> String {
        self.step(&json!({ "do": "address" })).as_str().unwrap_or_default().to_owned()
    }

    /// Returns everything that is read on the page.
    pub fn text(&mut self) -> String {
        self.step(&json!({ "do": "text" })).as_str().unwrap_or_default().to_owned()
    }

    /// Returns how many elements a CSS selector finds.
    pub fn count(&mut self, of: &str) -> usize {
        let counted = self.step(&json!({ "do": "count", "of": of }));
        counted.as_str().and_then(|count| count.parse().ok()).unwrap_or_default()
    }

    /// Makes the window so large.
    pub fn resize(&mut self, width: u32, height: u32) {
        self.step(&json!({ "do": "size", "width": width, "height": height }));
    }

    /// Has the system prefer `light` or `dark`.
    pub fn prefer(&mut self, scheme: &str) {
        self.step(&json!({ "do": "scheme", "scheme": scheme }));
    }

    /// Waits until the page fetches nothing any more.
    pub fn settle(&mut self) {
        self.step(&json!({ "do": "settled" }));
    }

    /// Returns what is wider than the window.
    pub fn overflow(&mut self) -> Vec<String> {
        serde_json::from_value(self.step(&json!({ "do": "overflow" }))).unwrap_or_default()
    }

    /// Returns what keeps some people from using the page, by axe's rules.
    pub fn violations(&mut self) -> Vec<String> {
        serde_json::from_value(self.step(&json!({ "do": "violations" }))).unwrap_or_default()
    }

    /// Returns what the browser complained of, as a policy that was broken.
    pub fn complaints(&mut self) -> Vec<String> {
        serde_json::from_value(self.step(&json!({ "do": "complaints" }))).unwrap_or_default()
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The driver closes the browser, and removes its folders, when nothing more is said to it.
        self.tell = None;
        let until = Instant::now() + LONGEST_END;
        while matches!(self.driver.try_wait(), Ok(None)) && Instant::now() < until {
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
