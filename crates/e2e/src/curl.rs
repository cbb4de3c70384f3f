//! curl as a caller of the interface: as a program, as a browser would, or as a node.

use crate::Machine;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;
use tempfile::TempDir;

/// A caller with its own cookies.
pub struct Curl {
    people: String,
    agents: String,
    folder: TempDir,
    bearer: Option<String>,
    session_token: Option<String>,
    node: Option<(String, PathBuf)>,
    request_key: Option<String>,
}

impl Curl {
    /// Makes a caller that nobody knows.
    pub(crate) fn new(people: String, agents: String) -> Self {
        let folder = tempfile::tempdir().expect("a folder for cookies");
        Self { people, agents, folder, bearer: None, session_token: None, node: None, request_key: None }
    }

    /// Shows a bearer token from now on.
    #[must_use]
    pub fn with_token(mut self, token: &str) -> Self {
        self.bearer = Some(token.to_owned());
        self
    }

    /// Sends the key of a request that may be repeated from now on.
    #[must_use]
    pub fn with_request_key(mut self, key: &str) -> Self {
        self.request_key = Some(key.to_owned());
        self
    }

    /// Shows the certificate of a machine that joined from now on.
    ///
    /// # Panics
    ///
    /// Panics if it has none.
    #[must_use]
    pub fn as_node(mut self, machine: &Machine) -> Self {
        let folder = machine.root.at("/var/lib/constans");
        let joined: serde_json::Value =
            serde_json::from_slice(&std::fs::read(folder.join("joined.json")).expect("it joined"))
                .expect("it is JSON");
        self.node = Some((
            machine.document("node.pem", joined["certificate"].as_str().unwrap_or_default()),
            folder.join("node.key"),
        ));
        self
    }

    /// Sends the token of the session that was just begun from now on.
    ///
    /// # Panics
    ///
    /// Panics if the answer holds none.
    pub fn keep_token(&mut self, session: &str) {
        let session: serde_json::Value = serde_json::from_str(session).expect("a session");
        self.session_token = session["token"].as_str().map(str::to_owned);
    }

    /// Returns the cookie as the server set it last.
    pub fn cookie(&self) -> String {
        self.headers()
            .lines()
            .find(|line| line.to_ascii_lowercase().starts_with("set-cookie:"))
            .unwrap_or_default()
            .to_owned()
    }

    /// Asks for something.
    pub fn get(&self, path: &str) -> (u16, String) {
        self.send(&format!("{}{path}", self.people), &[])
    }

    /// Has something done, as our own pages do.
    pub fn post(&mut self, path: &str, body: &str) -> (u16, String) {
        let origin = self.people.clone();
        self.post_from(&origin, true, path, body)
    }

    /// Has something done as a page of another origin would, or without the session's token.
    pub fn post_from(&self, origin: &str, shows_token: bool, path: &str, body: &str) -> (u16, String) {
        let (origin, token) = (
            format!("Origin: {origin}"),
            format!("Constans-Token: {}", self.session_token.as_deref().unwrap_or_default()),
        );
        let data = self.in_file(body);
        let mut arguments =
            vec!["-X", "POST", "-H", "Content-Type: application/json", "--data-binary", &data, "-H", &origin];
        if shows_token {
            arguments.extend(["-H", &token]);
        }
        self.send(&format!("{}{path}", self.people), &arguments)
    }

    /// Sends something to the agents' listener.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be put into a file first, as something large must.
    pub fn deliver(&self, path: &str, body: &str) -> (u16, String) {
        let data = self.in_file(body);
        self.send(
            &format!("{}{path}", self.agents),
            &["-X", "POST", "-H", "Content-Type: application/json", "--data-binary", &data],
        )
    }

    /// Asks the agents' listener for something. No answer within this time is status 0.
    pub fn ask_within(&self, longest: Duration, path: &str) -> (u16, String) {
        let longest = longest.as_secs().to_string();
        self.send(&format!("{}{path}", self.agents), &["-m", &longest])
    }

    /// Puts a body into a file, as something large must be.
    fn in_file(&self, body: &str) -> String {
        let file = self.folder.path().join("body");
        std::fs::write(&file, body).expect("the body is written");
        format!("@{}", file.display())
    }

    /// Sets something whole.
    pub fn put(&self, path: &str, body: &str) -> (u16, String) {
        self.send(
            &format!("{}{path}", self.people),
            &["-X", "PUT", "-H", "Content-Type: application/json", "-d", body],
        )
    }

    /// Has something ended.
    pub fn delete(&self, path: &str) -> (u16, String) {
        self.send(&format!("{}{path}", self.people), &["-X", "DELETE"])
    }

    /// Sends a file.
    pub fn put_file(&self, path: &str, file: &Path) -> (u16, String) {
        let data = format!("@{}", file.display());
        self.send(
            &format!("{}{path}", self.people),
            &["-X", "PUT", "-H", "Content-Type: application/octet-stream", "--data-binary", &data],
        )
    }

    /// Returns the headers of the last answer.
    pub fn headers(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("headers")).unwrap_or_default()
    }

    /// Calls a path by a method with an empty object, as our own pages do; returns the status.
    pub fn call(&self, method: &str, path: &str, is_for_agents: bool) -> u16 {
        let base = if is_for_agents { &self.agents } else { &self.people };
        let (method, origin) = (method.to_uppercase(), format!("Origin: {base}"));
        let token = format!("Constans-Token: {}", self.session_token.as_deref().unwrap_or_default());
        let mut arguments = vec!["-X", &method, "-H", &origin, "-H", &token];
        if method != "GET" {
            arguments.extend(["-H", "Content-Type: application/json", "-d", "{}"]);
        }
        self.send(&format!("{base}{path}"), &arguments).0
    }

    fn send(&self, url: &str, arguments: &[&str]) -> (u16, String) {
        let jar = self.folder.path().join("cookies");
        let mut command = Command::new("curl");
        // Events never end: what they begin with is enough. Everything else has time, on a busy machine too.
        let longest = if url.ends_with("/api/live") { "2" } else { "30" };
        command
            .args(["-sk", "-m", longest, "-w", "\n%{http_code}", "-b"])
            .arg(&jar)
            .arg("-c")
            .arg(&jar)
            .arg("-D")
            .arg(self.folder.path().join("headers"));
        if let Some(bearer) = &self.bearer {
            command.arg("-H").arg(format!("Authorization: Bearer {bearer}"));
        }
        if let Some(key) = &self.request_key {
            command.arg("-H").arg(format!("Idempotency-Key: {key}"));
        }
        if let Some((certificate, key)) = &self.node {
            command.args(["--cert", certificate, "--key"]).arg(key);
        }
        let output = command.args(arguments).arg(url).stdin(Stdio::null()).output().expect("curl starts");
        let output = String::from_utf8_lossy(&output.stdout).into_owned();
        let (body, status) = output.rsplit_once('\n').unwrap_or(("", "0"));
        (status.parse().unwrap_or(0), body.to_owned())
    }
}
