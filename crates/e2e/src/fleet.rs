//! A server with its own PostgreSQL, on loopback, for one test.

use crate::{Curl, Ended, Machine, program};
use constans_world::Postgres;
use std::fs::{self, File};
use std::io::Write as _;
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// A server with its database and certificates; everything ends with it.
pub struct Fleet {
    server: Child,
    _postgres: Postgres,
    folder: TempDir,
    database: String,
    agents: u16,
    people: u16,
    metrics: u16,
    /// The fingerprint of the server's CA.
    pub ca: String,
    administrator: String,
    /// What the server is started with besides.
    arguments: Vec<String>,
}

impl Fleet {
    /// Starts a server with an empty database and an administrator.
    ///
    /// # Panics
    ///
    /// Panics if something does not start.
    pub fn start() -> Self {
        Self::start_with(true, Vec::new())
    }

    /// Starts a server that goes by the clock in a file.
    ///
    /// # Panics
    ///
    /// Panics if something does not start.
    pub fn start_by(clock: &Path) -> Self {
        Self::start_with(true, vec!["--clock".to_owned(), clock.display().to_string()])
    }

    /// Starts a server with more arguments.
    ///
    /// # Panics
    ///
    /// Panics if something does not start.
    pub fn start_given(arguments: &[&str]) -> Self {
        Self::start_with(true, arguments.iter().map(|&argument| argument.to_owned()).collect())
    }

    /// Starts a server that nobody administers yet.
    ///
    /// # Panics
    ///
    /// Panics if something does not start.
    pub fn start_without_people() -> Self {
        Self::start_with(false, Vec::new())
    }

    /// Starts a server with more arguments, and with the people's listener at this port.
    ///
    /// # Panics
    ///
    /// Panics if something does not start.
    pub fn start_given_at(people: u16, arguments: &[&str]) -> Self {
        Self::start_at(people, true, arguments.iter().map(|&argument| argument.to_owned()).collect())
    }

    fn start_with(an_administrator: bool, arguments: Vec<String>) -> Self {
        Self::start_at(free_port(), an_administrator, arguments)
    }

    fn start_at(people: u16, an_administrator: bool, arguments: Vec<String>) -> Self {
        let folder = tempfile::tempdir().expect("a folder for the test");
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755))
            .expect("others may look into it");
        let postgres = Postgres::start(&folder.path().join("postgres")).expect("PostgreSQL starts");
        let database = postgres.database("constans").expect("a database");
        let (agents, metrics) = (free_port(), free_port());
        let administrator =
            if an_administrator { token(&database, "ilse.maren", "administrator") } else { String::new() };
        let server = serve(&folder, &database, [agents, people, metrics], &arguments, None);
        let mut fleet = Self {
            server,
            _postgres: postgres,
            folder,
            database,
            agents,
            people,
            metrics,
            ca: String::new(),
            administrator,
            arguments,
        };
        fleet.wait();
        fleet.ca = fleet
            .log()
            .lines()
            .find_map(|line| line.split("fingerprint=\"").nth(1))
            .and_then(|rest| rest.split('"').next())
            .expect("the server says its fingerprint")
            .to_owned();
        fleet.make_stages();
        fleet
    }

    /// Makes the stages that the stories go by; how they are made has a story of its own.
    fn make_stages(&self) {
        self.query("insert into stage (name, place) values ('harbour', 1), ('open-water', 2)");
    }

    fn wait(&mut self) {
        let end = Instant::now() + Duration::from_secs(30);
        while [self.agents, self.people, self.metrics]
            .iter()
            .any(|port| TcpStream::connect(("127.0.0.1", *port)).is_err())
        {
            assert!(
                self.server.try_wait().expect("it can be asked").is_none() && Instant::now() < end,
                "the server does not start:\n{}",
                self.log()
            );
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Kills the server without a word.
    ///
    /// # Panics
    ///
    /// Panics if it runs no more.
    pub fn kill_server(&mut self) {
        self.server.kill().expect("it runs");
        self.server.wait().expect("it ends");
    }

    /// Asks the server to stop, and waits until it has.
    ///
    /// # Panics
    ///
    /// Panics if it goes on.
    pub fn stop_server(&mut self) {
        let asked = Command::new("kill").arg(self.process().to_string()).status();
        assert!(asked.expect("kill(1) starts").success(), "the server runs no more");
        self.wait_for_end();
    }

    /// Has the server be started with other arguments from the next time on.
    pub fn give(&mut self, arguments: &[&str]) {
        self.arguments = arguments.iter().map(|&argument| argument.to_owned()).collect();
    }

    /// Starts the server again.
    pub fn start_server(&mut self) {
        self.server = serve(
            &self.folder,
            &self.database,
            [self.agents, self.people, self.metrics],
            &self.arguments,
            None,
        );
        self.wait();
    }

    /// Starts the server again, to be killed when it comes to this step of a change.
    pub fn start_server_until(&mut self, step: &str) {
        self.server = serve(
            &self.folder,
            &self.database,
            [self.agents, self.people, self.metrics],
            &self.arguments,
            Some(step),
        );
        self.wait();
    }

    /// Waits until the server has ended.
    ///
    /// # Panics
    ///
    /// Panics if it goes on for half a minute.
    pub fn wait_for_end(&mut self) {
        let end = Instant::now() + Duration::from_secs(30);
        while self.server.try_wait().expect("it can be asked").is_none() {
            assert!(Instant::now() < end, "the server goes on:\n{}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Starts another server on the same database and the same protected folder; it is killed when this is dropped. Returns it with
    /// the URL of its people's listener.
    ///
    /// # Panics
    ///
    /// Panics if it does not start.
    pub fn another_server(&self) -> (Running, String) {
        let ports = [free_port(), free_port(), free_port()];
        let running = Running(serve(&self.folder, &self.database, ports, &self.arguments, None));
        let end = Instant::now() + Duration::from_secs(30);
        while ports.iter().any(|port| TcpStream::connect(("127.0.0.1", *port)).is_err()) {
            assert!(Instant::now() < end, "the other server does not start:\n{}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
        (running, format!("https://127.0.0.1:{}", ports[1]))
    }

    /// Keeps the database as it is now.
    ///
    /// # Panics
    ///
    /// Panics if PostgreSQL refuses.
    pub fn back_up(&mut self) {
        self.kill_server();
        self.query_elsewhere("create database night template constans");
        self.start_server();
    }

    /// Puts the database back to what was kept.
    ///
    /// # Panics
    ///
    /// Panics if PostgreSQL refuses.
    pub fn put_back(&mut self) {
        self.kill_server();
        self.query_elsewhere("drop database constans with (force)");
        self.query_elsewhere("create database constans template night");
        self.start_server();
    }

    /// Sets another server up at the same address, with nothing of the one before.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be set up.
    pub fn set_up_anew(&mut self) {
        self.kill_server();
        self.query_elsewhere("drop database constans with (force)");
        self.query_elsewhere("create database constans");
        fs::remove_dir_all(self.protected()).expect("there is a protected folder");
        self.start_server();
        self.make_stages();
    }

    /// Puts the database back to what was kept, under a server that goes on.
    ///
    /// # Panics
    ///
    /// Panics if PostgreSQL refuses.
    pub fn put_back_while_serving(&self) {
        self.let_database_in(false);
        self.query_elsewhere("drop database constans with (force)");
        self.query_elsewhere("create database constans template night");
    }

    /// Has the database let nobody in, or let everybody in again; the server goes on.
    pub fn let_database_in(&self, let_in: bool) {
        self.query_elsewhere(&format!("alter database constans with allow_connections {let_in}"));
        if !let_in {
            self.query_elsewhere(
                "select count(pg_terminate_backend(pid)) from pg_stat_activity where datname = 'constans'",
            );
        }
    }

    /// Stops the database's processes where they are, or lets them go on.
    pub fn pause_database(&self, pause: bool) {
        self.signal_database(if pause { "STOP" } else { "CONT" }, true);
    }

    /// Kills all of the database's processes but the first, which then recovers as after a crash.
    pub fn crash_database(&self) {
        self.signal_database("KILL", false);
    }

    fn signal_database(&self, signal: &str, first_too: bool) {
        let noted =
            fs::read_to_string(self.folder.path().join("postgres/data/postmaster.pid")).expect("it runs");
        let first = noted.lines().next().expect("its process").to_owned();
        let _ = Command::new("pkill").args([&format!("-{signal}"), "-P", &first]).status();
        if first_too {
            let _ = Command::new("kill").args([&format!("-{signal}"), &first]).status();
        }
    }

    /// Has the database take no changes, as when its disk has failed, or take them again.
    pub fn let_database_be_changed(&self, changed: bool) {
        self.query_elsewhere(&format!(
            "alter database constans set default_transaction_read_only = {}",
            !changed
        ));
        self.query_elsewhere(
            "select count(pg_terminate_backend(pid)) from pg_stat_activity where datname = 'constans'",
        );
    }

    /// Moves the tables of the database to a folder of another file system; the server goes on.
    ///
    /// # Panics
    ///
    /// Panics if PostgreSQL refuses.
    pub fn move_database_to(&self, folder: &Path) {
        let owner = format!("--reference={}", self.folder.path().join("postgres/data").display());
        let owned =
            Command::new("chown").arg(owner).arg(folder).status().is_ok_and(|status| status.success());
        assert!(owned, "{} belongs to PostgreSQL's account", folder.display());
        self.query_elsewhere(&format!("create tablespace small location '{}'", folder.display()));
        self.let_database_in(false);
        self.query_elsewhere("alter database constans set tablespace small");
        self.let_database_in(true);
    }

    fn query_elsewhere(&self, sql: &str) {
        let elsewhere = format!("{}/postgres", self.database.trim_end_matches("/constans"));
        let output =
            Command::new("psql").args(["-tAq", "-c", sql, &elsewhere]).output().expect("psql starts");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    /// Returns what the server wrote to its log.
    pub fn log(&self) -> String {
        fs::read_to_string(self.folder.path().join("log")).unwrap_or_default()
    }

    /// Runs the operators' client as the administrator.
    pub fn client(&self, arguments: &[&str]) -> Ended {
        self.client_by(&self.administrator, arguments)
    }

    /// Runs the operators' client by a token.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn client_by(&self, token: &str, arguments: &[&str]) -> Ended {
        Ended::of(&self.client_command(token, arguments).output().expect("the client starts"))
    }

    /// Runs the operators' client, which goes on until it is stopped, for a while.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started, or ends by itself.
    pub fn client_for(&self, time: Duration, arguments: &[&str]) -> Ended {
        let mut command = self.client_command(&self.administrator, arguments);
        let mut started =
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("the client starts");
        std::thread::sleep(time);
        assert!(started.try_wait().expect("it is known").is_none(), "it goes on");
        started.kill().expect("it is stopped");
        Ended::of(&started.wait_with_output().expect("it ends"))
    }

    fn client_command(&self, token: &str, arguments: &[&str]) -> Command {
        let mut command = Command::new(program("constans"));
        command
            .args(arguments)
            .env("CONSTANS_SERVER", self.people_url())
            .env("CONSTANS_CA", &self.ca)
            .env("CONSTANS_TOKEN", token)
            .stdin(Stdio::null());
        command
    }

    /// Runs the crowd's program, with this fleet's administrator as its operator.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn crowd(&self, arguments: &[&str]) -> Ended {
        let mut command = Command::new(program("constans-crowd"));
        command
            .args(arguments)
            .env("CONSTANS_SERVER", self.people_url())
            .env("CONSTANS_CA", &self.ca)
            .env("CONSTANS_TOKEN", &self.administrator)
            .stdin(Stdio::null());
        Ended::of(&command.output().expect("the crowd starts"))
    }

    /// Runs the operators' client with credentials of its own, and something typed.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn client_at(&self, credentials: &Path, arguments: &[&str], typed: &str) -> Ended {
        let mut command = Command::new(program("constans"));
        command
            .args(arguments)
            .env("CONSTANS_CREDENTIALS", credentials)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut started = command.spawn().expect("the client starts");
        // It may not want to read any of it.
        let _ = started.stdin.take().expect("it can be told").write_all(typed.as_bytes());
        Ended::of(&started.wait_with_output().expect("it ends"))
    }

    /// Returns what a command of the server's program says.
    ///
    /// # Panics
    ///
    /// Panics if it fails.
    pub fn server_says(&self, arguments: &[&str]) -> String {
        let output = Command::new(program("constans-server"))
            .args(arguments)
            .env("CONSTANS_DATABASE", &self.database)
            .output()
            .expect("it starts");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    /// Returns a link by which a person with a role signs in once.
    pub fn link(&self, person: &str, role: &str) -> String {
        self.server_says(&["link", "--url", &self.people_url(), "--person", person, "--role", role])
            .trim()
            .to_owned()
    }

    /// Returns a caller of the interface that nobody knows.
    pub fn curl(&self) -> Curl {
        Curl::new(self.people_url(), self.agents_url())
    }

    /// Returns the URL of the database.
    pub fn database(&self) -> &str {
        &self.database
    }

    /// Returns the URL of the people's listener.
    pub fn people_url(&self) -> String {
        format!("https://127.0.0.1:{}", self.people)
    }

    /// Returns what the server measures of itself under this name; 0 if it did not measure it yet.
    ///
    /// # Panics
    ///
    /// Panics if curl cannot be started.
    pub fn metric(&self, name: &str) -> f64 {
        let read = Command::new("curl").args(["-s", &self.metrics_url()]).output().expect("curl starts");
        let metrics = String::from_utf8_lossy(&read.stdout).into_owned();
        let line = metrics.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(' '));
        line.and_then(|number| number.trim().parse().ok()).unwrap_or(0.0)
    }

    /// Returns the URL of the agents' listener.
    pub fn agents_url(&self) -> String {
        format!("https://127.0.0.1:{}", self.agents)
    }

    /// Returns the URL of the server's own metrics.
    pub fn metrics_url(&self) -> String {
        format!("http://127.0.0.1:{}/metrics", self.metrics)
    }

    /// Returns the administrator's token.
    pub fn administrator(&self) -> &str {
        &self.administrator
    }

    /// Makes a person with a role and returns a token.
    pub fn token(&self, person: &str, role: &str) -> String {
        token(&self.database, person, role)
    }

    /// Makes an invitation and puts it into a file that a machine's agent can read.
    ///
    /// # Panics
    ///
    /// Panics if the server refuses.
    pub fn invite(&self, machine: &Machine, more: &[&str]) -> String {
        let made = self.client(&[&["invite", "--label", "site=auken"], more].concat());
        assert_eq!(made.exit, Some(0), "{}", made.stderr);
        machine.document("invitation", &made.stdout)
    }

    /// Returns one value from the database.
    ///
    /// # Panics
    ///
    /// Panics if the query is wrong.
    pub fn query(&self, sql: &str) -> String {
        let output =
            Command::new("psql").args(["-tAq", "-c", sql, &self.database]).output().expect("psql starts");
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// Starts the server again, and returns what it says if it does not start.
    ///
    /// # Panics
    ///
    /// Panics if the server starts.
    pub fn refused_start(&mut self) -> String {
        self.kill_server();
        let before = self.log().len();
        self.server = serve(
            &self.folder,
            &self.database,
            [self.agents, self.people, self.metrics],
            &self.arguments,
            None,
        );
        let until = Instant::now() + Duration::from_secs(30);
        let ended = loop {
            match self.server.try_wait().expect("it was started") {
                Some(ended) => break ended,
                None => assert!(Instant::now() < until, "it started"),
            }
            std::thread::sleep(Duration::from_millis(50));
        };
        assert!(!ended.success(), "it was told to stop");
        self.log().split_off(before)
    }

    /// Returns the id of the server's process.
    pub fn process(&self) -> u32 {
        self.server.id()
    }

    /// Returns the protected folder.
    pub fn protected(&self) -> PathBuf {
        self.folder.path().join("protected")
    }
}

impl Drop for Fleet {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

/// A port on loopback at which nobody listens, and that the kernel gives to no outgoing connection: it takes
/// those from 32768 on, so that one port seen free there may be taken a moment later.
///
/// # Panics
///
/// Panics if all are taken.
pub fn free_port() -> u16 {
    static TAKEN: AtomicU32 = AtomicU32::new(0);
    const FIRST: u32 = 10_000;
    const NUMBER: u32 = 20_000;
    let own = std::process::id().wrapping_mul(97);
    (0..NUMBER)
        .map(|_| FIRST + own.wrapping_add(TAKEN.fetch_add(1, Ordering::Relaxed)) % NUMBER)
        .map(|port| u16::try_from(port).expect("below 32768"))
        .find(|port| TcpListener::bind(("127.0.0.1", *port)).is_ok())
        .expect("a free port")
}

/// A server or a daemon that is killed when this is dropped.
pub struct Running(pub(crate) Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn serve(
    folder: &TempDir,
    database: &str,
    ports: [u16; 3],
    arguments: &[String],
    stop_at: Option<&str>,
) -> Child {
    let [agents, people, metrics] = ports.map(|port| format!("127.0.0.1:{port}"));
    let log = File::options().create(true).append(true).open(folder.path().join("log")).expect("a log");
    Command::new(program("constans-server"))
        .args([
            "serve",
            "--name",
            "127.0.0.1",
            "--agents",
            &agents,
            "--people",
            &people,
            "--metrics",
            &metrics,
        ])
        .arg("--protected")
        .arg(folder.path().join("protected"))
        .args(arguments)
        .env("CONSTANS_DATABASE", database)
        .env("NO_COLOR", "1")
        .envs(stop_at.map(|step| ("CONSTANS_STOP_AT", step)))
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log)
        .spawn()
        .expect("the server starts")
}

fn token(database: &str, person: &str, role: &str) -> String {
    let output = Command::new(program("constans-server"))
        .args(["token", "make", "--person", person, "--name", "test", "--role", role])
        .env("CONSTANS_DATABASE", database)
        .output()
        .expect("it starts");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}
