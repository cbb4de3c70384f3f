//! The server on the hub of a lab, with a PostgreSQL of its own.

use crate::lab::{Failed, Lab};
use constans_world::Postgres;
use serde_json::{Value, json};
use std::fs::{self, File};
use std::io::{BufRead as _, BufReader, Read as _};
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

const AGENTS: &str = "10.77.0.1:7443";
const PEOPLE: &str = "10.77.0.1:7444";

/// Starts PostgreSQL and the server, prints how to reach them, and goes on until its input ends. This runs on the hub.
pub fn serve(folder: &Path) -> Result<(), Failed> {
    let message = |error: std::io::Error| error.to_string();
    let postgres = Postgres::start(&folder.join("postgres")).map_err(message)?;
    let database = postgres.database("constans").map_err(message)?;
    let program = beside("constans-server")?;
    let token = Command::new(&program)
        .args(["token", "make", "--person", "ilse.maren", "--name", "hosts", "--role", "administrator"])
        .env("CONSTANS_DATABASE", &database)
        .output();
    let token = String::from_utf8_lossy(&token.map_err(message)?.stdout).trim().to_owned();
    let log = folder.join("server.log");
    let mut server = Command::new(&program)
        .args(["serve", "--name", "10.77.0.1", "--agents", AGENTS, "--people", PEOPLE, "--protected"])
        .arg(folder.join("protected"))
        .env("CONSTANS_DATABASE", &database)
        .env("NO_COLOR", "1")
        .stdin(Stdio::null())
        .stderr(File::create(&log).map_err(message)?)
        .stdout(Stdio::null())
        .spawn()
        .map_err(message)?;
    let end = Instant::now() + Duration::from_secs(30);
    while TcpStream::connect(PEOPLE).is_err() {
        if Instant::now() > end || server.try_wait().map_err(message)?.is_some() {
            return Err(format!(
                "the server does not start: {}",
                fs::read_to_string(&log).unwrap_or_default()
            ));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let log_text = fs::read_to_string(&log).map_err(message)?;
    let ca = log_text
        .split("fingerprint=\"")
        .nth(1)
        .and_then(|rest| rest.split('"').next())
        .ok_or("the server does not say its fingerprint")?;
    println!("{}", json!({ "ca": ca, "token": token }));
    let _ = std::io::stdin().read(&mut [0]);
    let _ = server.kill();
    let _ = server.wait();
    Ok(())
}

fn beside(program: &str) -> Result<PathBuf, Failed> {
    std::env::current_exe().map(|path| path.with_file_name(program)).map_err(|error| error.to_string())
}

/// The server that runs on a lab's hub; it ends with this value.
pub struct Hub<'l> {
    lab: &'l Lab,
    server: Child,
    ca: String,
    token: String,
    _folder: TempDir,
}

impl<'l> Hub<'l> {
    /// Starts it and waits until it answers.
    pub fn start(lab: &'l Lab) -> Result<Self, Failed> {
        let message = |error: std::io::Error| error.to_string();
        let folder = tempfile::tempdir().map_err(message)?;
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).map_err(message)?;
        let own = beside("constans-hosts")?;
        let mut command =
            lab.command(&["hub", &own.display().to_string(), "hub", &folder.path().display().to_string()]);
        let mut server = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().map_err(message)?;
        let mut line = String::new();
        let out = server.stdout.take().ok_or("no output")?;
        BufReader::new(out).read_line(&mut line).map_err(message)?;
        let answer: Value = serde_json::from_str(&line)
            .map_err(|error| format!("the server on the hub did not start: {error}: {line}"))?;
        let text = |key: &str| answer[key].as_str().unwrap_or_default().to_owned();
        Ok(Self { lab, server, ca: text("ca"), token: text("token"), _folder: folder })
    }

    /// Runs the operators' client and returns its output.
    pub fn client(&self, arguments: &[&str]) -> Result<String, Failed> {
        let program = beside("constans")?.display().to_string();
        let all: Vec<&str> = ["hub", &program].into_iter().chain(arguments.iter().copied()).collect();
        let mut command = self.lab.command(&all);
        command
            .env("CONSTANS_SERVER", "https://10.77.0.1:7444")
            .env("CONSTANS_CA", &self.ca)
            .env("CONSTANS_TOKEN", &self.token);
        let output = command.stdin(Stdio::null()).output().map_err(|error| error.to_string())?;
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        if output.status.success() {
            return Ok(text);
        }
        Err(format!("constans {}: {text}{}", arguments.join(" "), String::from_utf8_lossy(&output.stderr)))
    }

    /// Waits until the client's output has a text, and returns it.
    pub fn wait_for(&self, arguments: &[&str], text: &str, patience: Duration) -> Result<String, Failed> {
        let end = Instant::now() + patience;
        loop {
            let output = self.client(arguments)?;
            if output.contains(text) {
                return Ok(output);
            }
            if Instant::now() > end {
                return Err(format!(
                    "`constans {}` never said `{text}`; last: {output}",
                    arguments.join(" ")
                ));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
    }
}

impl Drop for Hub<'_> {
    fn drop(&mut self) {
        drop(self.server.stdin.take());
        let _ = self.server.wait();
    }
}
