//! The language server, driven over stdio as an editor would.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::{demo_kit, program};
use serde_json::{Value, json};
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};
use tempfile::TempDir;

/// An editor that has one kit open.
struct Editor {
    server: Child,
    to: ChildStdin,
    from: BufReader<ChildStdout>,
    folder: TempDir,
    requests: u64,
}

impl Editor {
    fn start(kits: &[&str]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        for kit in kits {
            Command::new("cp").arg("-r").arg(demo_kit(kit)).arg(folder.path()).status().unwrap();
        }
        let mut server = Command::new(program("constans"))
            .args(["kit", "lsp"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let (to, from) = (server.stdin.take().unwrap(), BufReader::new(server.stdout.take().unwrap()));
        let mut editor = Self { server, to, from, folder, requests: 0 };
        let able = editor.ask("initialize", &json!({ "capabilities": {} }));
        assert_eq!(able["capabilities"]["hoverProvider"], true);
        editor.tell("initialized", &json!({}));
        editor
    }

    fn path(&self, file: &str) -> PathBuf {
        self.folder.path().join(file)
    }

    fn uri(&self, file: &str) -> String {
        format!("file://{}", self.path(file).display())
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.to, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.to.flush().unwrap();
    }

    fn receive(&mut self) -> Value {
        let mut length = 0;
        loop {
            let mut line = String::new();
            assert!(self.from.read_line(&mut line).unwrap() > 0, "the server ended");
            match line.trim().strip_prefix("Content-Length: ") {
                Some(value) => length = value.parse().unwrap(),
                None if line.trim().is_empty() => break,
                None => {}
            }
        }
        let mut body = vec![0; length];
        self.from.read_exact(&mut body).unwrap();
        serde_json::from_slice(&body).unwrap()
    }

    fn tell(&mut self, method: &str, params: &Value) {
        self.send(&json!({ "jsonrpc": "2.0", "method": method, "params": params }));
    }

    fn ask(&mut self, method: &str, params: &Value) -> Value {
        self.requests += 1;
        let id = self.requests;
        self.send(&json!({ "jsonrpc": "2.0", "id": id, "method": method, "params": params }));
        loop {
            let answer = self.receive();
            if answer["id"] == id {
                assert!(answer.get("error").is_none(), "{answer}");
                return answer["result"].clone();
            }
        }
    }

    /// Opens a document or changes it, and returns what is said of it: code, line and message.
    fn write(&mut self, file: &str, text: &str, is_new: bool) -> Vec<(String, u64, String)> {
        let uri = self.uri(file);
        if is_new {
            self.tell(
                "textDocument/didOpen",
                &json!({ "textDocument": { "uri": uri, "languageId": "toml", "version": 1, "text": text } }),
            );
        } else {
            self.tell("textDocument/didChange", &json!({ "textDocument": { "uri": uri, "version": 2 }, "contentChanges": [{ "text": text }] }));
        }
        self.diagnostics(file)
    }

    fn diagnostics(&mut self, file: &str) -> Vec<(String, u64, String)> {
        let uri = self.uri(file);
        loop {
            let message = self.receive();
            if message["method"] == "textDocument/publishDiagnostics"
                && message["params"]["uri"] == uri.as_str()
            {
                let of = |one: &Value| {
                    let text = |value: &Value| value.as_str().unwrap().to_owned();
                    (
                        text(&one["code"]),
                        one["range"]["start"]["line"].as_u64().unwrap(),
                        text(&one["message"]),
                    )
                };
                return message["params"]["diagnostics"].as_array().unwrap().iter().map(of).collect();
            }
        }
    }

    /// Returns what a request about a position in an open text answers; the position is that of `at` in it.
    fn about(&mut self, method: &str, file: &str, text: &str, at: &str) -> Value {
        let offset = text.find(at).unwrap() + at.len();
        let line = text[..offset].matches('\n').count();
        let character = text[..offset].rsplit('\n').next().unwrap().encode_utf16().count();
        let uri = self.uri(file);
        self.ask(method, &json!({ "textDocument": { "uri": uri }, "position": { "line": line, "character": character }, "context": { "includeDeclaration": true, "triggerKind": 1 } }))
    }
}

const SHELL: &str = "kiosk-floor/baselines/kiosk-lockdown.toml";

fn read(path: &Path) -> String {
    std::fs::read_to_string(path).unwrap()
}

#[test]
fn findings_come_and_go_as_one_types() {
    let mut editor = Editor::start(&["quay-base", "kiosk-floor"]);
    let fine = read(&editor.path(SHELL));
    assert_eq!(editor.write(SHELL, &fine, true), []);
    let line = fine.lines().position(|line| line.contains("package:kiosk-shell\"")).unwrap() as u64;
    let findings = editor.write(SHELL, &fine.replacen("package:kiosk-shell", "pakage:kiosk-shell", 1), false);
    assert_eq!(
        findings[0],
        ("C0120".to_owned(), line, "unknown kind `pakage`\ndid you mean `package`?".to_owned())
    );
    let findings = editor.write(SHELL, &fine.replacen("type = \"list\"", "type = \"list", 1), false);
    assert_eq!(findings[0].0, "C0101");
    assert_eq!(editor.write(SHELL, &fine, false), [], "what was fixed is said no more");
}

#[test]
fn completion_hover_and_definition_answer_in_a_text_that_is_half_written() {
    let mut editor = Editor::start(&["quay-base", "kiosk-floor", "ship-gateway"]);
    let text = read(&editor.path(SHELL));
    editor.write(SHELL, &text, true);
    let labels = |answer: &Value| {
        answer
            .as_array()
            .unwrap()
            .iter()
            .map(|item| item["label"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };

    let half = format!("{text}\n[[clause]]\nwhat = \"service:kiosk-lights\"\nneeds = [\"");
    editor.write(SHELL, &half, false);
    let offered =
        labels(&editor.about("textDocument/completion", SHELL, &half, "kiosk-lights\"\nneeds = [\""));
    assert!(
        offered.contains(&"package:kiosk-shell".to_owned())
            && offered.contains(&"file:/etc/kiosk/lanes/*.conf".to_owned()),
        "{offered:?}"
    );
    let half = format!("{half}package:kiosk-shell\"]\n");
    editor.write(SHELL, &half, false);
    let end = "kiosk-lights\"\nneeds = [\"package:kiosk-shell\"]\n";
    let keys = labels(&editor.about("textDocument/completion", SHELL, &half, end));
    assert!(
        keys.contains(&"running".to_owned()) && !keys.contains(&"needs".to_owned()),
        "what is written already is not offered: {keys:?}"
    );

    editor.write(SHELL, &text, false);
    let hover = editor.about("textDocument/hover", SHELL, &text, "reacts_to = [\"file:/etc/kiosk/sh");
    assert!(
        hover["contents"]["value"].as_str().unwrap().contains("baselines/kiosk-lockdown.toml:"),
        "{hover}"
    );
    let hover = editor.about("textDocument/hover", SHELL, &text, "\nvers");
    assert!(hover["contents"]["value"].as_str().unwrap().starts_with("**version**"), "{hover}");
    let places = editor.about("textDocument/definition", SHELL, &text, "needs = [\"package:kio");
    let line = text.lines().position(|line| line == "what = \"package:kiosk-shell\"").unwrap() as u64;
    assert_eq!(
        (places[0]["range"]["start"]["line"].as_u64(), places[0]["uri"].as_str().unwrap().ends_with(SHELL)),
        (Some(line), true)
    );

    let ship = "ship-gateway/baselines/store-and-forward.toml";
    let text = read(&editor.path(ship));
    editor.write(ship, &text, true);
    let places = editor.about("textDocument/definition", ship, &text, "include = [\"quay-base/lo");
    assert!(
        places[0]["uri"].as_str().unwrap().ends_with("quay-base/baselines/login.toml"),
        "it leads into the required kit: {places}"
    );
}

#[test]
fn a_document_that_belongs_to_no_kit_is_checked_by_itself_and_the_end_is_orderly() {
    let mut editor = Editor::start(&[]);
    let findings =
        editor.write("alone.toml", "[baseline]\nname = \"alone\"\n[[clause]]\nwhat = \"file:etc\"\n", true);
    assert_eq!(findings[0].0, "C0121");
    editor.ask("shutdown", &Value::Null);
    editor.tell("exit", &Value::Null);
    assert_eq!(editor.server.wait().unwrap().code(), Some(0));
}

#[test]
fn what_a_document_declares_is_listed_and_found_wherever_it_is_named() {
    let mut editor = Editor::start(&["kiosk-floor", "quay-base"]);
    let text = read(&editor.path(SHELL));
    editor.write(SHELL, &text, true);
    let uri = editor.uri(SHELL);
    let symbols = editor.ask("textDocument/documentSymbol", &json!({ "textDocument": { "uri": uri } }));
    let names: Vec<&str> =
        symbols.as_array().unwrap().iter().map(|symbol| symbol["name"].as_str().unwrap()).collect();
    assert_eq!(names[0], "kiosk-lockdown");
    let clauses = text.lines().filter(|line| line.starts_with("what = ")).count();
    assert!(
        names.len() > clauses && names.iter().filter(|name| name.contains(':')).count() == clauses,
        "{names:?}"
    );

    // A clause is found where others wait for it, from its declaration and from there.
    let named = |found: &Value| -> Vec<(String, u64)> {
        let of = |place: &Value| {
            (
                place["uri"].as_str().unwrap().rsplit('/').next().unwrap().to_owned(),
                place["range"]["start"]["line"].as_u64().unwrap(),
            )
        };
        found.as_array().unwrap().iter().map(of).collect()
    };
    let address = "package:kiosk-shell";
    let expected: Vec<u64> = text
        .lines()
        .zip(0..)
        .filter(|(line, _)| line.contains(&format!("\"{address}\"")))
        .map(|(_, at)| at)
        .collect();
    assert!(expected.len() > 1, "{text}");
    let from_declaration =
        named(&editor.about("textDocument/references", SHELL, &text, &format!("what = \"{address}")));
    let here: Vec<u64> = from_declaration
        .iter()
        .filter(|(file, _)| file == "kiosk-lockdown.toml")
        .map(|(_, line)| *line)
        .collect();
    assert_eq!(here, expected);
    assert!(
        editor
            .about("textDocument/references", SHELL, &text, "severity = ")
            .as_array()
            .is_none_or(Vec::is_empty)
    );
}

#[test]
fn whatever_bytes_come_the_server_goes_on_and_ends_as_the_protocol_says() {
    let mut editor = Editor::start(&[]);
    for noise in [
        b"\xff\xfe\x00noise\r\n\r\n".as_slice(),
        b"Content-Length: 900000000000\r\n\r\n",
        b"Content-Length: 4\r\n\r\nnull",
        b"Content-Length: 7\r\n\r\n{\"a\": 1",
        b"Content-Length: 2\r\n\r\n\xff\xff",
    ] {
        editor.to.write_all(noise).unwrap();
    }
    editor.tell("textDocument/didOpen", &json!({ "nothing": "that is asked for" }));
    editor.tell("textDocument/didOpen", &json!({ "textDocument": { "uri": "not a uri at all", "languageId": "toml", "version": 1, "text": "" } }));
    editor.send(&json!({ "jsonrpc": "2.0", "id": 900, "method": "textDocument/hover", "params": [] }));
    let unreadable = |answer: &Value| answer["id"].is_null() && answer["error"]["code"] == -32700;
    let mut answers = Vec::new();
    while answers.last().is_none_or(|answer: &Value| answer["id"] != 900) {
        answers.push(editor.receive());
    }
    assert_eq!(answers.iter().filter(|answer| unreadable(answer)).count(), 3, "{answers:?}");
    assert_eq!(answers.last().unwrap()["error"]["code"], -32602);
    let findings =
        editor.write("alone.toml", "[baseline]\nname = \"alone\"\n[[clause]]\nwhat = \"file:etc\"\n", true);
    assert_eq!(findings[0].0, "C0121", "it goes on");
    editor.ask("shutdown", &Value::Null);
    editor.send(&json!({ "jsonrpc": "2.0", "id": 901, "method": "textDocument/hover", "params": {} }));
    assert_eq!(editor.receive()["error"]["code"], -32600, "after `shutdown` nothing is answered");
    editor.tell("exit", &Value::Null);
    assert_eq!(editor.server.wait().unwrap().code(), Some(0));
    // An end that nobody announced.
    let mut rude = Editor::start(&[]);
    rude.tell("exit", &Value::Null);
    assert_eq!(rude.server.wait().unwrap().code(), Some(1));
}
