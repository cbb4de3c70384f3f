//! The server as its operators use it: probes, metrics, locks, methods, streams.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

#[test]
fn probes_say_alive_and_ready_to_anybody_and_nothing_more() {
    let fleet = Fleet::start();
    let anybody = fleet.curl();
    assert_eq!(anybody.get("/healthy"), (200, "alive\n".to_owned()));
    assert_eq!(anybody.get("/ready"), (200, "ready\n".to_owned()));
    fleet.let_database_in(false);
    assert_eq!(anybody.get("/healthy").0, 200);
    assert_eq!(anybody.get("/ready"), (503, "not ready\n".to_owned()));
    assert!(anybody.headers().to_lowercase().contains("content-type: text/plain"), "{}", anybody.headers());
    fleet.let_database_in(true);
    let is_back = (0..100).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        anybody.get("/ready").0 == 200
    });
    assert!(is_back);
}

#[test]
fn the_server_measures_itself_as_open_metrics() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    assert_eq!(kiosk.run(&["check-in"]).exit, Some(0));
    fleet.curl().get("/healthy");
    let read = Command::new("curl")
        .args(["-s", "-i", "-H", "Accept: application/openmetrics-text", &fleet.metrics_url()])
        .output()
        .unwrap();
    let answer = String::from_utf8_lossy(&read.stdout).into_owned();
    assert!(answer.contains("application/openmetrics-text") && answer.ends_with("# EOF\n"), "{answer}");
    let value = |name: &str| -> f64 {
        let line = answer
            .lines()
            .find(|line| line.starts_with(name))
            .unwrap_or_else(|| panic!("{name} in {answer}"));
        line.rsplit(' ').next().unwrap().parse().unwrap()
    };
    assert!(
        value("constans_check_ins_total{path=\"Single\"}")
            + value("constans_check_ins_total{path=\"Batched\"}")
            >= 2.0
    );
    assert!(
        (179.0..=180.0)
            .contains(&(value("constans_certificate_left_seconds{certificate=\"agents\"}") / 86_400.0))
    );
    assert!(value("constans_requests_total{listener=\"people\",status=\"2xx\"}") >= 1.0);
    assert!(value("constans_resolving_seconds_count") >= 1.0);
    assert_eq!(fleet.curl().get("/metrics").0, 200, "on the people's listener that is a page of the console");
    assert!(!fleet.curl().get("/metrics").1.contains("constans_check_ins"));

    let counted = (0..60).any(|_| {
        std::thread::sleep(Duration::from_millis(500));
        let read = Command::new("curl").args(["-s", &fleet.metrics_url()]).output().unwrap();
        String::from_utf8_lossy(&read.stdout).contains("constans_events_total{kind=\"joined\"} 1\n")
    });
    assert!(counted, "the event of the node that joined is counted once");

    // Who does not ask for it gets plain text, of which an independent tool finds nothing to say.
    let promtool = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/metrics/usr/bin/promtool");
    assert!(promtool.exists(), "make tools brings it");
    let script = format!("curl -s {} | {} check metrics", fleet.metrics_url(), promtool.display());
    let checked = Command::new("sh").args(["-c", &script]).output().unwrap();
    let found = String::from_utf8_lossy(&checked.stderr).into_owned();
    assert!(checked.status.success() && found.is_empty(), "{found}");
    let plain = Command::new("curl").args(["-s", "-i", &fleet.metrics_url()]).output().unwrap();
    let plain = String::from_utf8_lossy(&plain.stdout).into_owned();
    assert!(plain.to_lowercase().contains("content-type: text/plain; version=0.0.4"), "{plain}");
}

#[test]
fn reading_waits_for_no_lock_and_refusals_say_what_to_do() {
    let fleet = Fleet::start();
    let _kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let operator = fleet.curl().with_token(fleet.administrator());
    std::thread::scope(|scope| {
        // Someone changes the node and takes long about it.
        scope.spawn(|| fleet.query("begin; select id from node for update; select node from node_now for update; select pg_sleep(4); commit"));
        std::thread::sleep(Duration::from_millis(700));
        let began = Instant::now();
        for path in ["", "/runs", "/episodes", "/clauses", "/left-behind", "/why"] {
            let (status, body) = operator.get(&format!("/api/nodes/kiosk-auken-1{path}"));
            assert!(status == 200, "{path}: {status} {body}");
        }
        assert!(began.elapsed() < Duration::from_secs(2), "{:?}", began.elapsed());
    });

    let curl = |arguments: &[&str], path: &str| {
        let output = Command::new("curl")
            .args(["-sk", "-i"])
            .args(arguments)
            .arg(format!("{}{path}", fleet.people_url()))
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).to_lowercase()
    };
    let wrong_method = curl(&["-X", "PUT"], "/api/nodes");
    assert!(
        wrong_method.contains("405")
            && wrong_method.contains("allow: get, head")
            && wrong_method.contains("problem+json"),
        "{wrong_method}"
    );
    let unknown = curl(&[], "/api/nodes");
    assert!(unknown.contains("401") && unknown.contains("www-authenticate: bearer"), "{unknown}");
    let nothing = curl(&[], "/api/nothing");
    assert!(nothing.contains("404") && nothing.contains("problem+json"), "{nothing}");
    fleet.let_database_in(false);
    let busy = curl(&["-H", &format!("Authorization: Bearer {}", fleet.administrator())], "/api/nodes");
    assert!(busy.contains("503") && busy.contains("retry-after: 5"), "{busy}");
    fleet.let_database_in(true);
    let log = fleet.log();
    assert_eq!(
        log.lines().filter(|line| line.contains("/api/nodes/kiosk-auken-1/runs")).count(),
        1,
        "one line a request: {log}"
    );
}

#[test]
fn an_event_stream_ends_when_its_reader_may_read_no_more() {
    let fleet = Fleet::start();
    let token = fleet.token("pia.lund", "reader");
    let began = Instant::now();
    let stream = Command::new("curl")
        .args([
            "-skN",
            "-m",
            "60",
            "-H",
            &format!("Authorization: Bearer {token}"),
            &format!("{}/api/live", fleet.people_url()),
        ])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_secs(1));
    fleet.query("delete from token where person = 'pia.lund'");
    let ended = stream.wait_with_output().unwrap();
    assert!(String::from_utf8_lossy(&ended.stdout).contains("event:changed"));
    assert!(began.elapsed() < Duration::from_secs(25), "{:?}", began.elapsed());
}

#[test]
fn what_people_write_is_bounded_and_hides_nothing() {
    let fleet = Fleet::start();
    let _kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let mut operator = fleet.curl().with_token(fleet.administrator());
    let began = Instant::now();
    for (filter, answer) in [
        ("node.name.matches(labels.role)", "the pattern of `matches` is not written out"),
        ("node.name.matches('((a{100}){100}){100}')", "takes more than 65536 bytes"),
        ("about.os.name.matches('(')", "unclosed group"),
    ] {
        let shown = fleet.client(&["node", "list", "--filter", filter]);
        assert!(shown.exit != Some(0) && shown.stderr.contains(answer), "{filter}: {}", shown.stderr);
    }
    let lists = (0..40).map(|number| number.to_string()).collect::<Vec<_>>().join(",");
    let sums = vec![format!("[{lists}]"); 10].join("+");
    let slow = format!("({sums}).all(a, ({sums}).exists(b, a == b))");
    let shown = fleet.client(&["node", "list", "--filter", &slow]);
    assert!(shown.exit != Some(0), "{}", shown.stdout);
    let group = serde_json::json!({ "name": "slow", "priority": 5, "filter": "labels.all(a, labels.exists(b, a == b && b.matches('x')))" });
    let (status, answer) = operator.put("/api/groups", &group.to_string());
    assert!(
        status == 422 && answer.contains("it is evaluated for every node at every change"),
        "{status} {answer}"
    );
    assert!(began.elapsed() < Duration::from_secs(5), "{:?}", began.elapsed());

    for label in ["role=a\u{202e}b", "röle=x", "role=two\nlines"] {
        let shown = fleet.client(&["invite", "--label", label]);
        assert!(shown.exit == Some(2) && shown.stderr.contains("label"), "{}", shown.stderr);
    }
    let invitation = serde_json::json!({ "for_secs": 60, "uses": 1, "labels": { "role": "a\u{202e}b" } });
    let (status, answer) = operator.post("/api/invitations", &invitation.to_string());
    assert!(status == 422 && answer.contains("none of them hidden"), "{status} {answer}");
    let ordinary = serde_json::json!({ "for_secs": 60, "uses": 1, "labels": { "constructor": "__proto__", "__proto__": "x" } });
    let (status, answer) = operator.post("/api/invitations", &ordinary.to_string());
    assert!(status == 422 && answer.contains("begins with a letter or digit"), "{status} {answer}");
}

#[test]
fn what_is_stored_and_cannot_be_read_is_named_and_nothing_takes_its_place() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["check-in"]));
    let operator = fleet.curl().with_token(fleet.administrator());

    let before = fleet.query("select state from node_wanted");
    fleet.query("update node_group set body = body || '{\"priority\": \"high\"}' where name = 'kiosks'");
    let (status, answer) = operator.get("/api/groups");
    assert!(status == 500 && answer.contains("the stored group kiosks cannot be read"), "{status} {answer}");
    let changed = group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe").replace("kiosks", "others"));
    assert!(
        changed.exit != Some(0) && changed.stderr.contains("the stored group kiosks cannot be read"),
        "{}",
        changed.stderr
    );
    assert_eq!(
        fleet.query("select state from node_wanted"),
        before,
        "no node is given what is left without that group"
    );

    fleet.query("update node set about = '[]'");
    let (status, answer) = operator.get("/api/nodes/kiosk-auken-1");
    assert!(
        status == 500 && answer.contains("the stored report of kiosk-auken-1 about itself cannot be read"),
        "{status} {answer}"
    );
    assert!(fleet.log().contains("invalid type"), "the log says why");
}

#[test]
fn refused_requests_are_on_record_and_strangers_fill_no_log() {
    let fleet = Fleet::start();
    let gate = joined(&fleet, "gate-auken-1", &[]);
    well(&fleet.client(&["node", "revoke", "gate-auken-1"]));
    assert_eq!(gate.run(&["check-in"]).exit, Some(3));
    let reader = fleet.token("pia.lund", "reader");
    assert!(fleet.client_by(&reader, &["invite"]).exit != Some(0));
    let before = fleet.log().lines().count();
    let curl = Command::new("curl")
        .args([
            "-sk",
            "-o",
            "/dev/null",
            "-H",
            "Authorization: Bearer herring",
            &format!("{}/api/nodes/herring-[1-900]?tern=[1-1]", fleet.people_url()),
        ])
        .status()
        .unwrap();
    assert!(curl.success());
    well(&fleet.client(&["node", "list"]));
    let log = fleet.log();
    assert!(
        !log.contains("herring") && !log.contains("tern"),
        "what strangers write is not written down: {log}"
    );
    let lines = log.lines().count() - before;
    assert!(
        (200..700).contains(&lines),
        "{lines} lines for 900 requests: {}",
        log.lines().rev().take(12).collect::<Vec<_>>().join("\n")
    );
    std::thread::sleep(Duration::from_secs(4));
    let refused = well(&fleet.client(&["refusal", "list"])).to_owned();
    for (who, what, times) in [
        ("a stranger from 127.0.0.1", "GET /api/nodes/<name>  401", ", 900 times since"),
        ("pia.lund from 127.0.0.1", "POST /api/invitations  403", ""),
        ("the node gate-auken-1 from 127.0.0.1", "POST /check-in  403", ""),
    ] {
        let line = refused.lines().find(|line| line.contains(who) && line.contains(what));
        assert!(line.is_some_and(|line| line.contains(times)), "{who} {what}: {refused}");
    }
    assert!(fleet.client_by(&reader, &["refusal", "list"]).stderr.contains("people.manage"));
}

#[test]
fn check_says_everything_that_does_not_fit_at_once_and_so_does_the_log_at_the_start() {
    let fleet = Fleet::start();
    let check = |more: &[&str]| {
        let base = [
            "check",
            "--name",
            "127.0.0.1",
            "--name",
            "hub.skerry.invalid",
            "--agents",
            "127.0.0.1:0",
            "--people",
        ];
        let people = fleet.people_url().trim_start_matches("https://").to_owned();
        let protected = fleet.protected().display().to_string();
        let arguments: Vec<&str> = base
            .into_iter()
            .chain([people.as_str(), "--metrics", "127.0.0.1:0", "--protected", &protected])
            .collect();
        let output = Command::new(constans_e2e::program("constans-server"))
            .args(arguments)
            .args(more)
            .env("CONSTANS_DATABASE", fleet.database())
            .output()
            .expect("it starts");
        (output.status.code(), String::from_utf8_lossy(&output.stdout).into_owned())
    };
    let (exit, answer) = check(&["--expect", "1000000"]);
    assert_eq!(exit, Some(1), "{answer}");
    for misfit in [
        "memory      MISFIT: ",
        "port        MISFIT: people at 127.0.0.1:",
        "name        MISFIT: hub.skerry.invalid",
        "postgresql  MISFIT: fsync is off",
    ] {
        assert!(answer.contains(misfit), "{misfit} in {answer}");
    }
    for well in [
        "port        well: agents at 127.0.0.1:0 is free",
        "name        well: 127.0.0.1",
        "postgresql  well: version 1",
        "protected   well: ",
    ] {
        assert!(answer.contains(well), "{well} in {answer}");
    }
    assert!(
        answer.contains("does a server run here already?")
            && answer.contains(" misfits, for a fleet of 1000000 nodes"),
        "{answer}"
    );
    let log = fleet.log();
    assert!(log.contains("fsync is off") && log.contains("lost in a power cut"), "{log}");
}
