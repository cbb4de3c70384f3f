//! Joining a fleet, with the real server, PostgreSQL, agents and client on loopback.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::{Ended, Fleet, Machine};
use std::io::Read as _;
use std::net::TcpListener;
use std::process::Stdio;

fn join(machine: &Machine, invitation: &str, name: &str, wait: &str) -> Ended {
    machine.run(&["join", "--invitation-file", invitation, "--name", name, "--wait", wait])
}

/// Brings a machine in as a node.
fn joined(fleet: &Fleet, name: &str) -> Machine {
    let machine = Machine::fresh();
    let invitation = fleet.invite(&machine, &[]);
    join(&machine, &invitation, name, "0");
    let approved = fleet.client(&["join", "approve", name]);
    assert_eq!(approved.exit, Some(0), "{}", approved.stderr);
    let connected = join(&machine, &invitation, name, "0");
    assert!(connected.stdout.contains(&format!("as {name}")), "{}{}", connected.stdout, connected.stderr);
    machine
}

#[test]
fn a_node_asks_waits_is_approved_and_is_connected() {
    let fleet = Fleet::start();
    let kiosk = Machine::fresh();
    let invitation = fleet.invite(&kiosk, &["--label", "role=kiosk"]);

    let waiting = join(&kiosk, &invitation, "kiosk-auken-1", "0");
    assert!(
        waiting.stdout.starts_with("waiting for approval as kiosk-auken-1, key fingerprint "),
        "{}{}",
        waiting.stdout,
        waiting.stderr
    );
    let fingerprint = waiting.stdout.lines().next().unwrap().rsplit(' ').next().unwrap().to_owned();

    let listed = fleet.client(&["join", "list"]).stdout;
    assert!(
        listed.contains("kiosk-auken-1")
            && listed.contains(&fingerprint)
            && listed.contains("invited by ilse.maren"),
        "{listed}"
    );
    assert!(listed.contains("role=kiosk site=auken") && listed.contains("debian, 12"), "{listed}");
    let wrong = fleet.client(&["join", "approve", "kiosk-auken-2"]);
    assert!(wrong.stderr.contains("did you mean `kiosk-auken-1`?"), "{}", wrong.stderr);
    assert_eq!(fleet.client(&["join", "approve", "kiosk-auken-1"]).exit, Some(0));

    let connected = join(&kiosk, &invitation, "kiosk-auken-1", "0");
    assert_eq!(
        (connected.exit, connected.stdout.contains("connected to https://127.0.0.1")),
        (Some(0), true),
        "{}{}",
        connected.stdout,
        connected.stderr
    );
    let nodes = fleet.client(&["node", "list"]).stdout;
    assert!(
        nodes.starts_with("kiosk-auken-1  on time") && nodes.contains("role=kiosk site=auken"),
        "{nodes}"
    );

    let again = kiosk.run(&["check-in"]);
    assert!(again.stdout.contains("as kiosk-auken-1"), "{}", again.stderr);
    assert_eq!(
        fleet.query("select count(*) || ' ' || sum(count) from heard"),
        "1 2",
        "check-ins as promised are one span"
    );
    assert_eq!(
        fleet.query("select string_agg(did, ', ' order by id) from event"),
        "granted a role, made a token, invited, asked to join, approved"
    );
}

#[test]
fn nothing_is_said_to_a_server_with_another_ca() {
    let (fleet, stranger) = (Fleet::start(), Fleet::start());
    let kiosk = Machine::fresh();
    let invitation = fleet.invite(&kiosk, &[]);
    // The same invitation, leading to a server that is not the one it was made by.
    let text = std::fs::read_to_string(&invitation).unwrap();
    let decoded = decode(text.trim()).replace(&fleet.agents_url(), &stranger.agents_url());
    let forged = kiosk.document("forged", &encode(&decoded));
    let refused = join(&kiosk, &forged, "kiosk-auken-1", "0");
    assert_eq!(refused.exit, Some(1));
    assert!(refused.stderr.contains("the CA of the server is not the expected one"), "{}", refused.stderr);
    assert_eq!(stranger.query("select count(*) from joining_request"), "0");

    // And to one that records whatever it is sent before it shows a certificate: only the TLS greeting comes.
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("https://{}", listener.local_addr().unwrap());
    let recorder = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut bytes = [0u8; 4096];
        let read = stream.read(&mut bytes).unwrap();
        bytes[..read].to_vec()
    });
    let forged =
        kiosk.document("forged", &encode(&decode(text.trim()).replace(&fleet.agents_url(), &address)));
    join(&kiosk, &forged, "kiosk-auken-1", "0");
    let output = recorder.join().unwrap();
    assert_eq!(output.first(), Some(&22), "a TLS handshake and nothing else");
    assert!(!String::from_utf8_lossy(&output).contains("kiosk-auken-1"));
}

#[test]
fn a_name_in_use_is_refused_without_as_and_the_old_key_ends_with_it() {
    let fleet = Fleet::start();
    let old = joined(&fleet, "gate-auken-1");
    let new = Machine::fresh();
    let invitation = fleet.invite(&new, &[]);
    join(&new, &invitation, "gate-auken-1", "0");
    assert!(fleet.client(&["join", "list"]).stdout.contains("this name is in use by a node that joined"));
    let refused = fleet.client(&["join", "approve", "gate-auken-1"]);
    assert_eq!(refused.exit, Some(1));
    assert!(
        refused.stderr.contains("the name gate-auken-1 is in use")
            && refused.stderr.contains("approve it as gate-auken-1 (--as)"),
        "{}",
        refused.stderr
    );

    assert_eq!(fleet.client(&["join", "approve", "gate-auken-1", "--as", "gate-auken-1"]).exit, Some(0));
    assert!(join(&new, &invitation, "gate-auken-1", "0").stdout.contains("as gate-auken-1"));
    let ended = old.run(&["check-in"]);
    assert_eq!(ended.exit, Some(3));
    assert!(ended.stderr.contains("the node gate-auken-1 was revoked"), "{}", ended.stderr);
    assert_eq!(fleet.query("select count(*) from node"), "1", "it is the same node");
}

#[test]
fn a_denied_machine_is_told_why() {
    let fleet = Fleet::start();
    let machine = Machine::fresh();
    let invitation = fleet.invite(&machine, &[]);
    join(&machine, &invitation, "kiosk-eldrey-9", "0");
    fleet.client(&["join", "deny", "kiosk-eldrey-9", "--because", "there is no such quay"]);
    let denied = join(&machine, &invitation, "kiosk-eldrey-9", "0");
    assert_eq!(
        (denied.exit, denied.stderr.contains("an operator denied it: there is no such quay")),
        (Some(3), true),
        "{}",
        denied.stderr
    );
}

#[test]
fn an_invitation_ends_by_time_and_by_use_and_a_wrong_one_opens_nothing() {
    let fleet = Fleet::start();
    let (first, second) = (Machine::fresh(), Machine::fresh());
    let invitation = fleet.invite(&first, &[]);
    join(&first, &invitation, "kiosk-brisk-1", "0");
    let shared = second.document("invitation", &std::fs::read_to_string(&invitation).unwrap());
    let used_up = join(&second, &shared, "kiosk-brisk-2", "0");
    assert!(used_up.stderr.contains("the invitation has no uses left"), "{}", used_up.stderr);

    let over = fleet.invite(&second, &["--for", "1s"]);
    std::thread::sleep(std::time::Duration::from_millis(1_100));
    assert!(join(&second, &over, "kiosk-brisk-2", "0").stderr.contains("the invitation expired"));

    let decoded = decode(std::fs::read_to_string(fleet.invite(&second, &[])).unwrap().trim());
    let secret = decoded.split("\"secret\":\"").nth(1).unwrap().split('"').next().unwrap().to_owned();
    let guessed = second.document("guessed", &encode(&decoded.replace(&secret, "AAAA")));
    assert!(join(&second, &guessed, "kiosk-brisk-2", "0").stderr.contains("unknown invitation"));
    assert!(
        join(&second, &second.document("torn", "eyJmb3Jt"), "x", "0")
            .stderr
            .contains("contains no invitation")
    );
    assert!(!fleet.log().contains(&secret) && fleet.query("select count(*) from joining_request") == "1");
}

#[test]
fn a_revoked_node_is_refused_at_its_next_request_and_let_back_by_an_operator() {
    let fleet = Fleet::start();
    let bridge = joined(&fleet, "bridge-tern");
    assert_eq!(fleet.client(&["node", "revoke", "bridge-tern"]).exit, Some(0));
    let refused = bridge.run(&["check-in"]);
    assert_eq!(
        (refused.exit, refused.stderr.contains("the node bridge-tern was revoked")),
        (Some(3), true),
        "{}",
        refused.stderr
    );
    assert!(fleet.client(&["node", "list"]).stdout.contains("bridge-tern  revoked"));
    let output = bridge.run(&["diagnose"]);
    assert!(
        output.stdout.contains("approval    FAILS: the node bridge-tern was revoked")
            && output.stdout.contains("the server does not accept this node"),
        "{}",
        output.stdout
    );

    // On the node it is seen without asking anyone.
    let status = bridge.run(&["status"]);
    assert!(
        status.stdout.contains("revoked") && status.stdout.contains("the server refused it"),
        "{}",
        status.stdout
    );
    let id = fleet.query("select id from node where name = 'bridge-tern'");
    let invitation = fleet.invite(&bridge, &[]);
    let ask = ["join", "--invitation-file", &invitation, "--name", "another-name", "--wait", "0"];
    let waiting = bridge.run(&ask);
    assert!(
        waiting.stdout.contains("waiting for approval as bridge-tern")
            && waiting.stdout.contains("join approve bridge-tern"),
        "{}{}",
        waiting.stdout,
        waiting.stderr
    );
    let waiting = fleet.client(&["join", "list"]).stdout;
    assert!(
        waiting.contains("bridge-tern ")
            && waiting.contains("the revoked node of this name (since")
            && !waiting.contains("another-name"),
        "{waiting}"
    );
    assert_eq!(bridge.run(&["check-in"]).exit, Some(3), "asking is not being approved");
    let approved = fleet.client(&["join", "approve", "bridge-tern"]);
    assert!(approved.stdout.contains("bridge-tern is approved"), "{}{}", approved.stdout, approved.stderr);
    let back = bridge.run(&ask);
    assert_eq!(back.exit, Some(0), "{}{}", back.stdout, back.stderr);
    assert!(!bridge.run(&["status"]).stdout.contains("the server refused it"));
    assert_eq!(fleet.query("select id from node"), id, "it is the node that it was");
    assert!(!fleet.client(&["node", "list"]).stdout.contains("revoked"));
    // Revoked once more, the same way leads back.
    assert_eq!(fleet.client(&["node", "revoke", "bridge-tern"]).exit, Some(0));
    assert_eq!(bridge.run(&["check-in"]).exit, Some(3));
    let used = bridge.run(&ask);
    assert!(used.stderr.contains("the invitation has no uses left"), "{}", used.stderr);
    let invitation = fleet.invite(&bridge, &[]);
    bridge.run(&["join", "--invitation-file", &invitation, "--wait", "0"]);
    assert_eq!(fleet.client(&["join", "approve", "bridge-tern"]).exit, Some(0));
    assert_eq!(bridge.run(&["join", "--invitation-file", &invitation, "--wait", "0"]).exit, Some(0));
}

#[test]
fn diagnose_says_which_part_fails_and_what_to_do() {
    let mut fleet = Fleet::start();
    let machine = joined(&fleet, "depot-print-1");
    let well = machine.run(&["diagnose"]);
    assert_eq!(well.exit, Some(0));
    for part in [
        "name        well: 127.0.0.1",
        "port        well:",
        "trust       well:",
        "clock       well:",
        "approval    well: it is known as depot-print-1",
        "no problems",
    ] {
        assert!(well.stdout.contains(part), "{part} in {}", well.stdout);
    }
    let output: serde_json::Value =
        serde_json::from_str(&machine.run(&["diagnose", "--output", "json"]).stdout).unwrap();
    assert!(output["is_heard"] == true && output["ways"][0]["parts"][2]["part"] == "trust", "{output}");
    let output: serde_json::Value =
        serde_json::from_str(&machine.run(&["check-in", "--output", "json"]).stdout).unwrap();
    assert_eq!((&output["name"], &output["wanted"]), (&"depot-print-1".into(), &"nothing".into()));
    fleet.kill_server();
    let down = machine.run(&["diagnose"]);
    assert_eq!(down.exit, Some(1));
    assert!(
        down.stdout.contains("port        FAILS:") && down.stdout.contains("check that the server runs"),
        "{}",
        down.stdout
    );
    assert!(machine.run(&["check-in"]).stderr.contains("does not answer"));

    // A server that was set up again has another CA: it is not taken for the one that was joined.
    fleet.set_up_anew();
    let other = machine.run(&["diagnose"]);
    assert!(
        other.stdout.contains("trust       FAILS: the CA of the server is not the expected one"),
        "{}",
        other.stdout
    );
    let fresh = Machine::fresh().run(&["diagnose"]);
    assert!(fresh.stderr.contains("this machine belongs to no fleet"));
}

#[test]
fn nodes_are_late_and_silent_by_their_own_promise_and_the_servers_downtime_is_added() {
    let fleet = Fleet::start();
    let _kiosk = joined(&fleet, "kiosk-auken-1");
    let hearing = || fleet.client(&["node", "list"]).stdout.split_whitespace().nth(1).unwrap().to_owned();
    assert_eq!(hearing(), "on");
    let went_by = |minutes: u32| {
        let moments = ["heard_at", "promised_at", "on_time_until", "silent_after"]
            .map(|at| format!("{at} = {at} - interval '{minutes} min'"));
        fleet.query(&format!("update node_now set {}", moments.join(", ")));
    };
    went_by(20);
    assert_eq!(hearing(), "late");
    went_by(30);
    assert_eq!(hearing(), "silent");
    fleet.query("insert into server_down values (now() - interval '60 min', now() - interval '10 min')");
    assert_eq!(hearing(), "on", "what the server could not hear is not held against the node");
}

#[test]
fn each_route_refuses_those_who_may_not() {
    let fleet = Fleet::start();
    let reader = fleet.token("pia.lund", "reader");
    assert_eq!(fleet.client_by(&reader, &["node", "list"]).exit, Some(0));
    assert_eq!(fleet.client_by(&reader, &["join", "list"]).exit, Some(0));
    for (arguments, permission) in
        [(&["invite"][..], "join.invite"), (&["node", "revoke", "x"], "node.revoke")]
    {
        let refused = fleet.client_by(&reader, arguments);
        assert_eq!(refused.exit, Some(3));
        assert!(
            refused.stderr.contains(&format!("pia.lund lacks the permission {permission}")),
            "{}",
            refused.stderr
        );
    }
    let nobody = fleet.client_by("AAAA", &["node", "list"]);
    assert!(nobody.stderr.contains("unknown token"), "{}", nobody.stderr);

    let curl = |arguments: &[&str]| {
        let output = std::process::Command::new("curl")
            .args(["-sk", "-w", " %{http_code}"])
            .args(arguments)
            .stderr(Stdio::null())
            .output()
            .unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    let without = curl(&[
        "-X",
        "POST",
        "-H",
        "Content-Type: application/json",
        "-d",
        "{}",
        &format!("{}/check-in", fleet.agents_url()),
    ]);
    assert!(without.contains("unknown certificate") && without.ends_with(" 401"), "{without}");
    let nothing = curl(&[&format!("{}/api/nothing", fleet.people_url())]);
    assert!(
        nothing.contains("there is nothing at GET /api/nothing") && nothing.ends_with(" 404"),
        "{nothing}"
    );
}

#[test]
fn what_was_approved_outlives_a_server_that_is_killed() {
    let mut fleet = Fleet::start();
    let machine = joined(&fleet, "gate-brisk-1");
    let ca = fleet.ca.clone();
    fleet.kill_server();
    fleet.start_server();
    assert_eq!(fleet.log().matches(&ca).count(), 2, "the CA is the same");
    assert!(machine.run(&["check-in"]).stdout.contains("as gate-brisk-1"));
}

fn decode(text: &str) -> String {
    use base64::Engine as _;
    String::from_utf8(base64::engine::general_purpose::URL_SAFE_NO_PAD.decode(text).unwrap()).unwrap()
}

fn encode(text: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(text)
}
