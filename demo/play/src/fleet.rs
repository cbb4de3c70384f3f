//! The server and the agents of the demo: started, asked, and stopped together.

use constans_world::{Postgres, UNPRIVILEGED, is_root};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write as _};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::OpenOptionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

const WORDS: &str = include_str!("../../try.txt");

/// The loopback ports of the server.
#[derive(Debug, Clone, Copy)]
pub struct Ports {
    agents: u16,
    people: u16,
    metrics: u16,
}

impl Ports {
    /// Returns 7443 and 7444, or what `DEMO_PORT` says and the next one.
    pub fn of_environment() -> io::Result<Self> {
        let agents = match std::env::var("DEMO_PORT") {
            Ok(text) => text
                .parse()
                .map_err(|_| io::Error::other(format!("DEMO_PORT is `{text}`, and no number of a port")))?,
            Err(_) => 7443,
        };
        Ok(Self { agents, people: agents + 1, metrics: agents + 2 })
    }

    /// Says which port is busy, before anything starts.
    pub fn check_free(self) -> io::Result<()> {
        for port in [self.agents, self.people, self.metrics] {
            TcpListener::bind(("127.0.0.1", port)).map_err(|_| {
                io::Error::other(format!(
                    "port {port} is used by another program: end it, or name another port by DEMO_PORT=…"
                ))
            })?;
        }
        Ok(())
    }
}

/// The running server and its agents. Dropping it ends them.
pub struct Fleet {
    folder: PathBuf,
    database: String,
    ports: Ports,
    server: Child,
    agents: Vec<Child>,
    ca: String,
    token: String,
}

impl Fleet {
    /// Starts the server, which goes by the clock in a file if one is named, and waits until it is heard.
    pub fn start(folder: &Path, postgres: &Postgres, ports: Ports, clock: Option<&Path>) -> io::Result<Self> {
        let database = postgres.database_kept("constans")?;
        let token = make_token(folder, &database, "demo")?;
        let log = File::create(folder.join("server.log"))?;
        let mut server = tied(&folder.join("constans-server"), false);
        server.arg("serve");
        if let Some(clock) = clock {
            server.arg("--clock").arg(clock);
        }
        let server = server
            .args(["--name", "127.0.0.1", "--title", "Skerry Line · demo", "--colour", "#5B3A6E"])
            .args([
                "--agents",
                &format!("127.0.0.1:{}", ports.agents),
                "--people",
                &format!("127.0.0.1:{}", ports.people),
            ])
            .args(["--metrics", &format!("127.0.0.1:{}", ports.metrics)])
            .arg("--protected")
            .arg(folder.join("protected"))
            .env("CONSTANS_DATABASE", &database)
            .env("NO_COLOR", "1")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(log)
            .spawn()?;
        let mut fleet = Self {
            folder: folder.to_owned(),
            database,
            ports,
            server,
            agents: Vec::new(),
            ca: String::new(),
            token,
        };
        fleet.wait()?;
        let log = fs::read_to_string(folder.join("server.log"))?;
        let ca = log.split("fingerprint=\"").nth(1).and_then(|rest| rest.split('"').next());
        fleet.ca = ca.ok_or_else(|| io::Error::other("the server does not say its fingerprint"))?.to_owned();
        fleet.keep_environment()?;
        Ok(fleet)
    }

    fn wait(&mut self) -> io::Result<()> {
        let end = Instant::now() + Duration::from_secs(30);
        while TcpStream::connect(("127.0.0.1", self.ports.people)).is_err() {
            self.check_alive()?;
            if Instant::now() > end {
                return Err(io::Error::other("the server was not heard within 30 s"));
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        Ok(())
    }

    /// Returns an error if a part of the demo ended by itself.
    pub fn check_alive(&mut self) -> io::Result<()> {
        if let Some(status) = self.server.try_wait()? {
            let log = fs::read_to_string(self.folder.join("server.log")).unwrap_or_default();
            return Err(io::Error::other(format!("the server ended, {status}:\n{log}")));
        }
        Ok(())
    }

    /// Writes what demo/constans needs to speak to the server, for this account alone.
    fn keep_environment(&self) -> io::Result<()> {
        let path = self.folder.join("client.env");
        let _ = fs::remove_file(&path);
        let mut file = OpenOptions::new().create_new(true).write(true).mode(0o600).open(path)?;
        writeln!(
            file,
            "export CONSTANS_SERVER={} CONSTANS_CA={} CONSTANS_TOKEN={}",
            self.people_url(),
            self.ca,
            self.token
        )
    }

    fn people_url(&self) -> String {
        format!("https://127.0.0.1:{}", self.ports.people)
    }

    /// Returns the demo's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Returns the demo's token.
    pub fn token(&self) -> &str {
        &self.token
    }

    /// Returns the server's address for people, the fingerprint of its CA, and the demo's token.
    pub fn access(&self) -> (String, &str, &str) {
        (self.people_url(), &self.ca, &self.token)
    }

    /// Returns a token of a person, who is made if nobody has this name.
    pub fn token_of(&self, person: &str) -> io::Result<String> {
        make_token(&self.folder, &self.database, person)
    }

    /// Runs the client on behalf of the demo and returns what it says.
    pub fn client(&self, arguments: &[&str]) -> io::Result<String> {
        self.client_by(&self.token, arguments)
    }

    /// Runs the client with a token and returns what it says.
    pub fn client_by(&self, token: &str, arguments: &[&str]) -> io::Result<String> {
        let mut command = Command::new(self.folder.join("constans"));
        command
            .args(arguments)
            .env("CONSTANS_SERVER", self.people_url())
            .env("CONSTANS_CA", &self.ca)
            .env("CONSTANS_TOKEN", token);
        output_of(&mut command)
    }

    /// Returns a command of the agent on a node.
    pub fn agent(&self, node: &str, arguments: &[&str]) -> Command {
        let mut command = tied(&self.folder.join("constans-agent"), true);
        command.args(arguments).arg("--root").arg(self.folder.join(node).join("root")).stdin(Stdio::null());
        command
    }

    /// Runs the agent on a node and returns what it says.
    pub fn on(&self, node: &str, arguments: &[&str]) -> io::Result<String> {
        output_of(&mut self.agent(node, arguments))
    }

    /// Starts the agent of a node as a daemon.
    pub fn start_agent(&mut self, node: &str) -> io::Result<()> {
        let log =
            OpenOptions::new().create(true).append(true).open(self.folder.join(node).join("agent.log"))?;
        self.agents.push(self.agent(node, &["daemon"]).stdout(log.try_clone()?).stderr(log).spawn()?);
        Ok(())
    }

    /// Says where the console is, how to sign in, and what to try.
    pub fn words(&self) -> io::Result<String> {
        let mut link = Command::new(self.folder.join("constans-server"));
        link.args(["link", "--url", &self.people_url(), "--person", "ilse.maren", "--role", "administrator"]);
        let link = output_of(link.env("CONSTANS_DATABASE", &self.database))?;
        Ok(WORDS
            .replace("{console}", &self.people_url())
            .replace("{fingerprint}", &self.ca)
            .replace("{link}", link.trim())
            .replace("{folder}", &self.folder.display().to_string()))
    }
}

impl Drop for Fleet {
    fn drop(&mut self) {
        for child in self.agents.iter_mut().chain(std::iter::once(&mut self.server)) {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn make_token(folder: &Path, database: &str, person: &str) -> io::Result<String> {
    let started = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    let name = format!("demo, started at {started}");
    let token = output_of(
        tied(&folder.join("constans-server"), false)
            .args(["token", "make", "--person", person, "--name", &name, "--for", "7d"])
            .args(["--role", "administrator"])
            .env("CONSTANS_DATABASE", database),
    )?;
    Ok(token.trim().to_owned())
}

/// Returns a command that ends with this program, however that ends; agents never have root's rights.
fn tied(program: &Path, is_agent: bool) -> Command {
    let mut command = Command::new("setpriv");
    command.args(["--pdeathsig", "KILL"]).process_group(0);
    if is_agent && is_root() {
        let id = UNPRIVILEGED.to_string();
        command.args(["--reuid", &id, "--regid", &id, "--clear-groups"]);
    }
    command.arg(program);
    command
}

/// Runs a command to its end, and returns what it says.
fn output_of(command: &mut Command) -> io::Result<String> {
    let output = command.stdin(Stdio::null()).output()?;
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    let output_of =
        String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    Err(io::Error::other(format!(
        "{} failed:\n{output_of}",
        command.get_args().filter_map(|word| word.to_str()).take(8).collect::<Vec<_>>().join(" ")
    )))
}
