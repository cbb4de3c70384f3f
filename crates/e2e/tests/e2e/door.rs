//! The door: what callers may do before anyone knows them, and what certificates the server shows.

use constans_clock::MovedClock;
use constans_e2e::story::joined;
use constans_e2e::{Fleet, free_port};
use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// Someone who says only so much over TLS, and stays.
struct Mumbler(Child);

impl Mumbler {
    fn at(url: &str, says: &str) -> Self {
        let mut child = Command::new("openssl")
            .args(["s_client", "-quiet", "-ign_eof", "-connect", address(url)])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("openssl starts");
        child.stdin.as_mut().expect("a pipe").write_all(says.as_bytes()).expect("it takes that");
        Self(child)
    }

    fn has_ended_within(&mut self, longest: Duration) -> bool {
        let until = Instant::now() + longest;
        while Instant::now() < until {
            if self.0.try_wait().expect("it can be asked").is_some() {
                return true;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        false
    }
}

impl Drop for Mumbler {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn address(url: &str) -> &str {
    url.trim_start_matches("https://")
}

fn curl(arguments: &[&str]) -> String {
    let output =
        Command::new("curl").args(["-sk", "-i", "-m", "10"]).args(arguments).output().expect("curl starts");
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
fn whoever_says_nothing_or_says_it_slowly_is_not_waited_for() {
    let fleet = Fleet::start();
    let (people, agents) = (fleet.people_url(), fleet.agents_url());
    let began = Instant::now();
    let mut silent: Vec<TcpStream> =
        [&people, &agents].iter().map(|url| TcpStream::connect(address(url)).unwrap()).collect();
    let half_a_body = "POST /api/sign-in HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{";
    let mut mumblers = [
        Mumbler::at(&people, ""),
        Mumbler::at(&people, "GET /api/fle"),
        Mumbler::at(&people, "GET /healthy HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n"),
        Mumbler::at(&people, half_a_body),
        Mumbler::at(&agents, "GET /greeting HTTP/1.1\r\nHost: 127.0.0.1\r\nX: "),
        Mumbler::at(&agents, &half_a_body.replace("/api/sign-in", "/join")),
    ];
    std::thread::sleep(Duration::from_secs(4));
    assert_eq!(
        curl(&[&format!("{people}/healthy")]).lines().next(),
        Some("HTTP/2 200 "),
        "others are heard meanwhile"
    );
    assert!(
        mumblers.iter_mut().all(|mumbler| mumbler.0.try_wait().unwrap().is_none()),
        "so soon nobody is sent away"
    );
    for (number, mumbler) in mumblers.iter_mut().enumerate() {
        assert!(
            mumbler.has_ended_within(Duration::from_secs(45).saturating_sub(began.elapsed())),
            "mumbler {number} stays"
        );
    }
    for stream in &mut silent {
        stream.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
        assert_eq!(stream.read(&mut [0; 1]).unwrap_or(0), 0, "no handshake came");
    }
    assert!(began.elapsed() > Duration::from_secs(10), "{:?}", began.elapsed());
}

#[test]
fn too_many_connections_of_strangers_leave_room_for_nodes() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let address: SocketAddr = address(&fleet.agents_url()).parse().unwrap();
    let crowd: Vec<TcpStream> = (0..1_100).filter_map(|_| TcpStream::connect(address).ok()).collect();
    assert!(crowd.len() > 1_050, "{}", crowd.len());
    let until = Instant::now() + Duration::from_secs(10);
    let turned_away = || fleet.metric("constans_connections_turned_away_total{listener=\"agents\"}");
    while turned_away() < 50.0 {
        assert!(Instant::now() < until, "{}", turned_away());
        std::thread::sleep(Duration::from_millis(100));
    }
    assert_eq!(fleet.curl().get("/healthy").0, 200, "people are heard on a listener of their own");
    assert!(fleet.metric("constans_connections{listener=\"agents\"}") < 10.0);
    // Those who never began to speak TLS are sent away after ten seconds.
    std::thread::sleep(Duration::from_secs(11));
    let checked_in = kiosk.run(&["check-in"]);
    assert_eq!(checked_in.exit, Some(0), "{}", checked_in.stderr);
    drop(crowd);
}

#[test]
fn only_what_comes_through_the_door_and_by_the_servers_names_is_answered() {
    let fleet = Fleet::start();
    let token = format!("Authorization: Bearer {}", fleet.administrator());
    let overview = format!("{}/api/overview", fleet.people_url());
    assert!(curl(&["-H", &token, &overview]).starts_with("HTTP/2 200"));
    assert!(curl(&["--http1.1", "-H", &token, &overview]).starts_with("HTTP/1.1 200"));
    for version in ["--http1.1", "--http2"] {
        let misled = curl(&[version, "-H", &token, "-H", "Host: evil.example", &overview]);
        assert!(
            misled.contains(" 421") && misled.contains("problem+json") && misled.contains("--name"),
            "{misled}"
        );
    }
    let log = fleet.log();
    assert!(
        log.contains("because=\"not_this_server\"")
            && log.contains("status=421")
            && !log.contains("evil.example"),
        "{log}"
    );
    assert!(
        curl(&["-H", "Host: 10.0.0.9", &format!("{}/ready", fleet.people_url())]).contains("HTTP/2 200"),
        "whatever watches the server asks by its address"
    );
    let agents_only_speak_the_old_way =
        curl(&["--http2-prior-knowledge", &format!("{}/greeting", fleet.agents_url())]);
    assert!(!agents_only_speak_the_old_way.contains("HTTP/2 200"), "{agents_only_speak_the_old_way}");

    // A program of this machine finds Rocket's own ports, and says that it is a node and the door.
    let own: Vec<u16> = [fleet.agents_url(), fleet.people_url(), fleet.metrics_url()]
        .iter()
        .filter_map(|url| url.split(':').nth(2)?.split('/').next()?.parse().ok())
        .collect();
    let behind: Vec<u16> =
        listening_ports(fleet.process()).into_iter().filter(|port| !own.contains(port)).collect();
    assert_eq!(behind.len(), 2, "{behind:?} besides {own:?}");
    for port in behind {
        for path in ["/api/overview", "/greeting", "/healthy", "/", "/api/sign-in"] {
            let answer = curl(&[
                "-H",
                &token,
                "-H",
                "X-Real-IP: 192.0.2.1",
                "-H",
                "Forwarded: for=192.0.2.1",
                &format!("http://127.0.0.1:{port}{path}"),
            ]);
            assert!(
                answer.starts_with("HTTP/1.1 403") && answer.contains("not_by_the_door"),
                "{port}{path}: {answer}"
            );
        }
    }
}

/// Returns the TCP ports that a process listens on, from /proc.
fn listening_ports(process: u32) -> Vec<u16> {
    let sockets: Vec<String> = fs::read_dir(format!("/proc/{process}/fd"))
        .expect("it runs")
        .filter_map(|entry| {
            Some(
                fs::read_link(entry.ok()?.path())
                    .ok()?
                    .to_str()?
                    .strip_prefix("socket:[")?
                    .trim_end_matches(']')
                    .to_owned(),
            )
        })
        .collect();
    let table = fs::read_to_string("/proc/net/tcp").expect("it is Linux");
    let rows = table.lines().skip(1).map(|line| line.split_whitespace().collect::<Vec<_>>());
    let listening = rows.filter(|row| row[3] == "0A" && sockets.iter().any(|socket| socket == row[9]));
    listening.filter_map(|row| u16::from_str_radix(row[1].rsplit(':').next()?, 16).ok()).collect()
}

#[test]
fn a_body_that_is_too_large_is_answered_and_its_sender_reads_the_answer() {
    let fleet = Fleet::start();
    let folder = tempfile::tempdir().unwrap();
    let large = folder.path().join("large");
    fs::write(&large, format!("{{\"name\":\"{}\"", "x".repeat(12 * 1024 * 1024))).unwrap();
    let data = format!("@{}", large.display());
    let token = format!("Authorization: Bearer {}", fleet.administrator());
    let json = "Content-Type: application/json";
    for (url, version) in [
        (format!("{}/api/sign-in/client", fleet.people_url()), "--http1.1"),
        (format!("{}/api/sign-in/client", fleet.people_url()), "--http2"),
        (format!("{}/join", fleet.agents_url()), "--http1.1"),
    ] {
        for _ in 0..20 {
            let answer =
                curl(&[version, "-H", &token, "-H", json, "-H", "Expect:", "--data-binary", &data, &url]);
            assert!(answer.contains(" 413") && answer.contains("problem+json"), "{url} {version}: {answer}");
            // In HTTP/2 this curl ends its own stream as soon as it is refused, now and then before it has read why.
            assert!(
                version == "--http2" || answer.contains("this request has at most 64 KiB"),
                "{url} {version}: {answer}"
            );
        }
    }
    let without_end = Command::new("sh")
        .args([
            "-c",
            &format!(
                "yes | curl -sk -m 60 -i -H '{json}' -T - -X POST {}/api/sign-in/client",
                fleet.people_url()
            ),
        ])
        .output()
        .unwrap();
    assert!(
        String::from_utf8_lossy(&without_end.stdout).contains(" 413"),
        "{}",
        String::from_utf8_lossy(&without_end.stdout)
    );
}

#[test]
fn an_address_that_is_too_long_is_answered_and_its_sender_reads_the_answer() {
    let fleet = Fleet::start();
    let address = fleet.people_url().trim_start_matches("https://").to_owned();
    // All of it is sent before anything is read, as many programs do.
    let script = format!(
        "(printf 'GET /api/audit?who='; head -c 400000 /dev/zero | tr '\\0' x; printf ' HTTP/1.1\\r\\nHost: {address}\\r\\n\\r\\n'; sleep 1) \
         | openssl s_client -quiet -connect {address} 2>&1"
    );
    for _ in 0..5 {
        let output = Command::new("sh").args(["-c", &script]).output().unwrap();
        let answer = String::from_utf8_lossy(&output.stdout);
        assert!(answer.contains("HTTP/1.1 431") || answer.contains("HTTP/1.1 414"), "{answer}");
    }
}

/// Returns the serial number of the certificate that is shown there.
fn serial(url: &str) -> String {
    let script = format!(
        "openssl s_client -connect {} </dev/null 2>/dev/null | openssl x509 -noout -serial",
        address(url)
    );
    String::from_utf8_lossy(&Command::new("sh").args(["-c", &script]).output().expect("sh starts").stdout)
        .into_owned()
}

fn changes_within(longest: Duration, url: &str, before: &str) -> bool {
    let until = Instant::now() + longest;
    while Instant::now() < until {
        if serial(url) != before {
            return true;
        }
        std::thread::sleep(Duration::from_millis(300));
    }
    false
}

#[test]
fn the_servers_certificates_renew_themselves_from_half_of_their_time_on() {
    let folder = tempfile::tempdir().unwrap();
    let clock = MovedClock::create(&folder.path().join("clock"), jiff::Timestamp::now()).unwrap();
    let fleet = Fleet::start_by(clock.path());
    let before = [fleet.agents_url(), fleet.people_url()].map(|url| (serial(&url), url));
    let day = jiff::SignedDuration::from_hours(24);
    clock.set(jiff::Timestamp::now() + day * 85).unwrap();
    std::thread::sleep(Duration::from_secs(12));
    for (serial_before, url) in &before {
        assert_eq!(&serial(url), serial_before, "half of 180 days and 2 are not over");
    }
    clock.set(jiff::Timestamp::now() + day * 92).unwrap();
    for (serial_before, url) in &before {
        assert!(changes_within(Duration::from_secs(15), url, serial_before), "{url} shows the old one");
    }
    assert!(fleet.metric("constans_certificate_left_seconds{certificate=\"people\"}") > 179.0 * 86_400.0);
    assert!(fleet.log().contains("a newer certificate is shown"));
}

fn openssl(folder: &Path, arguments: &str) {
    let output = Command::new("openssl")
        .args(arguments.split(' '))
        .current_dir(folder)
        .output()
        .expect("openssl starts");
    assert!(output.status.success(), "{arguments}: {}", String::from_utf8_lossy(&output.stderr));
}

/// Makes a certificate of an organisation for a name: `NAME.pem` and `NAME.key`.
fn issue(folder: &Path, file: &str, days: u32) {
    if !folder.join("organisation.pem").exists() {
        openssl(
            folder,
            "req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=Skerry -keyout organisation.key -out organisation.pem",
        );
        fs::write(folder.join("for"), "subjectAltName=IP:127.0.0.1,DNS:localhost\n").expect("it is written");
    }
    openssl(folder, &format!("req -newkey rsa:2048 -nodes -subj /CN=hub -keyout {file}.key -out {file}.csr"));
    openssl(
        folder,
        &format!(
            "x509 -req -in {file}.csr -CA organisation.pem -CAkey organisation.key -days {days} -extfile for -out {file}.pem"
        ),
    );
}

#[test]
fn people_may_be_shown_the_organisations_own_certificate() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name).display().to_string();
    issue(folder.path(), "first", 28);
    issue(folder.path(), "second", 10);
    let mut fleet =
        Fleet::start_given(&["--people-certificate", &at("first.pem"), "--people-key", &at("first.key")]);
    let is_trusted = |fleet: &Fleet| {
        let url = format!("{}/healthy", fleet.people_url());
        Command::new("curl")
            .args(["-s", "-m", "5", "--cacert", &at("organisation.pem"), &url])
            .output()
            .unwrap()
            .stdout
            == b"alive\n"
    };
    assert!(is_trusted(&fleet), "whoever trusts the organisation trusts the server: {}", fleet.log());
    let before = serial(&fleet.people_url());
    let agents_before = serial(&fleet.agents_url());
    fs::copy(at("second.key"), at("first.key")).unwrap();
    fs::copy(at("second.pem"), at("first.pem")).unwrap();
    assert!(changes_within(Duration::from_secs(15), &fleet.people_url(), &before) && is_trusted(&fleet));
    assert_eq!(serial(&fleet.agents_url()), agents_before, "nodes trust the server's own CA and no other");
    let problems = |fleet: &Fleet| fleet.curl().with_token(fleet.administrator()).get("/api/overview").1;
    assert!(problems(&fleet).contains("the certificate for people ends in 9 days"), "{}", problems(&fleet));

    // A truncated file is refused and reported.
    let second = serial(&fleet.people_url());
    fs::write(at("first.pem"), "-----BEGIN CERTIFICATE-----\ncut o").unwrap();
    std::thread::sleep(Duration::from_secs(12));
    assert_eq!(serial(&fleet.people_url()), second);
    let text = problems(&fleet);
    assert!(
        text.contains("could not be renewed") && text.contains("first.pem holds no certificates in PEM"),
        "{text}"
    );
    fleet.kill_server();
    let refused = fleet.refused_start();
    assert!(
        refused.contains("first.pem holds no certificates in PEM")
            && refused.contains("hint: --people-certificate names the chain"),
        "{refused}"
    );
    issue(folder.path(), "first", 20);
    fs::copy(at("second.key"), at("first.key")).unwrap();
    let refused = fleet.refused_start();
    assert!(
        refused.contains("cannot be used together") && refused.contains("is --people-key the key"),
        "{refused}"
    );
}

/// An ACME server on loopback, which looks for proofs at a port.
struct Acme {
    server: Child,
    directory: String,
}

impl Acme {
    fn start(folder: &Path, proofs_at: u16) -> Self {
        issue(folder, "acme", 2);
        let [port, management] = [free_port(), free_port()];
        let config = serde_json::json!({ "pebble": {
            "listenAddress": format!("127.0.0.1:{port}"),
            "managementListenAddress": format!("127.0.0.1:{management}"),
            "certificate": folder.join("acme.pem"),
            "privateKey": folder.join("acme.key"),
            "httpPort": 1,
            "tlsPort": proofs_at,
        } });
        fs::write(folder.join("acme.json"), config.to_string()).expect("it is written");
        let log = fs::File::create(folder.join("acme.log")).expect("a log");
        let server = Command::new("pebble")
            .args(["-config", "acme.json"])
            .current_dir(folder)
            .envs([("PEBBLE_VA_NOSLEEP", "1"), ("PEBBLE_WFE_NONCEREJECT", "0")])
            .stdin(Stdio::null())
            .stdout(log.try_clone().expect("a log"))
            .stderr(log)
            .spawn()
            .expect("pebble starts");
        Self { server, directory: format!("https://localhost:{port}/dir") }
    }
}

impl Drop for Acme {
    fn drop(&mut self) {
        let _ = self.server.kill();
        let _ = self.server.wait();
    }
}

#[test]
fn an_acme_server_issues_the_certificate_for_people_and_it_is_kept() {
    let folder = tempfile::tempdir().unwrap();
    let people = free_port();
    let acme = Acme::start(folder.path(), people);
    let root = folder.path().join("organisation.pem").display().to_string();
    let given = [
        "--name",
        "localhost",
        "--acme",
        &acme.directory,
        "--acme-root",
        &root,
        "--acme-contact",
        "ops@skerry.example",
    ];
    let mut fleet = Fleet::start_given_at(people, &given);
    let issuer = |fleet: &Fleet| {
        let script = format!(
            "openssl s_client -connect {} </dev/null 2>/dev/null | openssl x509 -noout -issuer",
            address(&fleet.people_url())
        );
        String::from_utf8_lossy(&Command::new("sh").args(["-c", &script]).output().expect("sh starts").stdout)
            .into_owned()
    };
    let until = Instant::now() + Duration::from_secs(30);
    while !issuer(&fleet).contains("Pebble Intermediate CA") {
        let log = fs::read_to_string(folder.path().join("acme.log")).unwrap_or_default();
        assert!(Instant::now() < until, "{}\n{log}", fleet.log());
        std::thread::sleep(Duration::from_millis(300));
    }
    let before = serial(&fleet.people_url());
    // It outlives the server, and the ACME server need not be there.
    drop(acme);
    fleet.kill_server();
    fleet.start_server();
    assert_eq!(serial(&fleet.people_url()), before);
    let kept = fleet.protected().join("acme-certificate.key");
    assert_eq!(fs::metadata(kept).unwrap().permissions().mode() & 0o777, 0o600);

    // A server whose ACME server is away shows its own CA's, and says why.
    let mut other = Fleet::start_given(&["--acme", "https://localhost:1/dir", "--acme-root", &root]);
    assert!(issuer(&other).contains("Constans CA"));
    let text = other.curl().with_token(other.administrator()).get("/api/overview").1;
    assert!(
        text.contains("is not issued yet") && text.contains("the ACME server did not issue a certificate"),
        "{text}"
    );
    other.kill_server();
}

/// What a process takes: memory in KiB, and open descriptors.
fn usage(process: u32) -> (u64, usize) {
    let status = fs::read_to_string(format!("/proc/{process}/status")).expect("it runs");
    let memory = status
        .lines()
        .find_map(|line| line.strip_prefix("VmRSS:")?.split_whitespace().next()?.parse().ok())
        .expect("its memory");
    (memory, fs::read_dir(format!("/proc/{process}/fd")).expect("it runs").count())
}

#[test]
#[ignore = "a quarter of an hour: make test-long"]
fn a_quarter_of_an_hour_of_hostile_clients_leaves_memory_and_connections_level() {
    let lasts = Duration::from_secs(
        std::env::var("HOSTILE_SECS").ok().and_then(|secs| secs.parse().ok()).unwrap_or(900),
    );
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let (people, agents, until) = (fleet.people_url(), fleet.agents_url(), Instant::now() + lasts);
    let folder = tempfile::tempdir().unwrap();
    let large = folder.path().join("large");
    fs::write(&large, vec![b'['; 3 * 1024 * 1024]).unwrap();
    let data = format!("@{}", large.display());
    let mut samples = Vec::new();
    std::thread::scope(|scope| {
        for url in [&people, &agents] {
            // Silent, garbled, gone in the middle.
            scope.spawn(move || {
                let mut kept = std::collections::VecDeque::new();
                while Instant::now() < until {
                    if let Ok(mut stream) = TcpStream::connect(address(url)) {
                        let _ = stream.write_all(if kept.len() % 3 == 0 {
                            b"\x16\x03\x01\x02\x00\x01\x00"
                        } else {
                            b"GET / HTTP/1.1\r\n\r\n"
                        });
                        kept.push_back(stream);
                    }
                    if kept.len() > 300 {
                        kept.pop_front();
                    }
                    std::thread::sleep(Duration::from_millis(10));
                }
            });
        }
        // What is refused: wrong tokens, wrong methods, wrong names, too much, over HTTP of both versions.
        for version in ["--http1.1", "--http2"] {
            let (people, data) = (&people, &data);
            scope.spawn(move || {
                while Instant::now() < until {
                    let wrong = format!("{people}/api/nodes/herring-[1-40]?filter=labels.x==%22[1-3]%22");
                    let _ =
                        curl(&[version, "-o", "/dev/null", "-H", "Authorization: Bearer herring", &wrong]);
                    let _ = curl(&[version, "-X", "BREW", &format!("{people}/api/overview")]);
                    let _ = curl(&[version, "-H", "Host: evil.example", people]);
                    let _ = curl(&[
                        version,
                        "-H",
                        "Content-Type: application/json",
                        "-H",
                        "Expect:",
                        "--data-binary",
                        data,
                        &format!("{people}/api/sign-in/client"),
                    ]);
                    let _ = curl(&[
                        version,
                        "-m",
                        "1",
                        "-H",
                        "Content-Type: application/json",
                        "-T",
                        "/dev/zero",
                        "-X",
                        "POST",
                        &format!("{people}/api/welcome"),
                    ]);
                }
            });
        }
        while Instant::now() < until {
            std::thread::sleep(lasts / 15);
            samples.push(usage(fleet.process()));
            assert_eq!(kiosk.run(&["check-in"]).exit, Some(0), "nodes are heard meanwhile");
        }
    });
    println!("KiB of memory and descriptors: {samples:?}");
    let (settled, last) = (samples[samples.len() / 3], samples[samples.len() - 1]);
    assert!(last.0 < settled.0 + settled.0 / 4 + 20_000, "{samples:?}");
    assert!(samples.iter().all(|(_, descriptors)| *descriptors < 3_000), "{samples:?}");
    std::thread::sleep(Duration::from_secs(25));
    let after = usage(fleet.process());
    assert!(after.1 < 200, "{after:?} when all are gone");
    println!(
        "after all are gone: {after:?}; refused: {}",
        fleet.client(&["refusal", "list"]).stdout.lines().count()
    );
}

#[test]
fn what_one_network_asks_for_at_once_is_bounded_over_http_2_too() {
    let fleet = Fleet::start();
    let token = format!("Authorization: Bearer {}", fleet.administrator());
    let events = format!("{}/api/live?number=[1-60]", fleet.people_url());
    let asking: Vec<Child> = (0..22)
        .map(|_| {
            Command::new("curl")
                .args([
                    "-skN",
                    "--http2",
                    "-Z",
                    "--parallel-max",
                    "60",
                    "-m",
                    "8",
                    "-w",
                    "%{http_code}\n",
                    "-o",
                    "/dev/null",
                    "-H",
                    &token,
                    &events,
                ])
                .stdout(Stdio::piped())
                .stderr(Stdio::null())
                .spawn()
                .expect("curl starts")
        })
        .collect();
    std::thread::sleep(Duration::from_secs(6));
    let (_, descriptors) = usage(fleet.process());
    let connections = fleet.metric("constans_connections{listener=\"people\"}");
    let answer: String = asking
        .into_iter()
        .map(|asking| {
            String::from_utf8_lossy(&asking.wait_with_output().expect("it ends").stdout).into_owned()
        })
        .collect();
    let (heard, refused) = (
        answer.lines().filter(|line| *line == "200").count(),
        answer.lines().filter(|line| *line == "503").count(),
    );
    assert!(refused > 100 && heard > 300, "{heard} heard, {refused} refused over {connections} connections");
    assert!(descriptors < 2 * 1_024 + 600, "{descriptors} descriptors over {connections} connections");
    assert_eq!(fleet.curl().get("/healthy").0, 200);
}
