//! Concessions: asked for by one person, approved by another, kept by a freeze, counted apart, and over by a day.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;

const SHELL: &str = "/etc/kiosk/shell.conf";

fn json(fleet: &Fleet, arguments: &[&str]) -> Value {
    let arguments = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&arguments))).expect("as asked")
}

fn ran(machine: &Machine) {
    machine.run(&["daemon", "--once"]);
}

const ASK: [&str; 8] = [
    "concession",
    "ask",
    "--clause",
    "file:/etc/kiosk/*",
    "--for",
    "5d",
    "--because",
    "the old screens stay until the pier is rebuilt",
];

fn ask<'a>(more: &[&'a str]) -> Vec<&'a str> {
    [&ASK[..], more].concat()
}

#[test]
fn a_deviation_is_conceded_by_a_second_person_kept_counted_apart_and_corrected_when_that_ends() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    ran(&kiosk);
    ran(&other);
    let whole = json(&fleet, &["compliance"]);
    let of_auken = ["--filter", "labels.site == \"auken\""];

    // What it would cover is said before anything is stored.
    let preview = fleet.client(&ask(&[&of_auken[..], &["--preview"]].concat()));
    assert!(
        well(&preview).contains("covers 4 clauses on 1 node; none of them deviates now"),
        "{}",
        preview.stdout
    );
    assert_eq!(fleet.query("select count(*) from concession"), "0");
    let operator = fleet.token("pia.lund", "operator");
    let asked = fleet.client_by(&operator, &ask(&of_auken));
    assert!(
        well(&asked).contains("D1    waits for approval, until 20")
            && asked.stdout.contains("another person approves it: constans concession approve D1"),
        "{}",
        asked.stdout
    );
    let noted = json(&fleet, &["concession", "list"]);
    assert_eq!(noted[0]["status"], "asked", "{noted}");

    // Nobody approves what they asked for, whatever they may do otherwise.
    let refused = fleet.client_by(&operator, &["concession", "approve", "D1"]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("concession.decide"), "{}", refused.stderr);
    well(&fleet.client(&["person", "grant", "pia.lund", "approver"]));
    let own = fleet.client_by(&operator, &["concession", "approve", "D1"]);
    assert!(own.stderr.contains("you asked for D1 yourself: another person decides it"), "{}", own.stderr);
    let in_database = std::process::Command::new("psql")
        .args(["-Xq", fleet.database(), "-c"])
        .arg("update concession set decided_by = 'pia.lund', decided_at = now(), is_approved = true")
        .output()
        .expect("psql starts");
    assert!(!in_database.status.success(), "not even in the database");
    assert_eq!(json(&fleet, &["compliance"])["clauses"], whole["clauses"], "it is not in force");

    let approved = fleet.client(&["concession", "approve", "d1", "--because", "agreed with the harbour"]);
    assert!(
        well(&approved).contains("approved by ilse.maren 20")
            && approved.stdout.contains("F1 keeps them as they are"),
        "{}",
        approved.stdout
    );
    let again = fleet.client(&["concession", "approve", "D1"]);
    assert!(again.stderr.contains("D1 does not wait for approval: it is in force"), "{}", again.stderr);

    // The kiosk keeps what somebody changed; it counts as conceded, and the rate as found stays.
    well(&kiosk.run(&["check-in"]));
    kiosk.root.write(SHELL, "{}").expect("as asked");
    other.root.write(SHELL, "{}").expect("as asked");
    ran(&kiosk);
    assert_eq!(kiosk.root.read(SHELL).expect("as asked"), "{}", "F1 keeps it");
    let figures = json(&fleet, &["compliance", "--by", "cause"]);
    assert_eq!(
        (&figures["clauses"]["conceded"], &figures["clauses"]["noncompliant"]),
        (&1.into(), &0.into()),
        "{figures}"
    );
    assert_eq!(figures["nodes"]["conceded"], 1, "{figures}");
    assert!(figures["rate_basis_points"].as_u64() < Some(10_000), "{figures}");
    assert_eq!(figures["rate_with_concessions_basis_points"], 10_000, "{figures}");
    let rows = figures["rows"].as_array().expect("as asked").iter();
    assert_eq!(rows.filter(|row| row["key"] == "conceded").count(), 1, "{figures}");
    let text = fleet.client(&["compliance"]);
    assert!(well(&text).contains("100 % with concessions), 1 conceded"), "{}", text.stdout);
    let shown = fleet.client(&["node", "show", "kiosk-auken-1"]);
    assert!(
        well(&shown).contains("may deviate until 20") && shown.stdout.contains("by D1"),
        "{}",
        shown.stdout
    );
    let (_, overview) = fleet.curl().with_token(fleet.administrator()).get("/api/overview");
    assert!(overview.contains("the concession D1 ends in 4 d"), "{overview}");
    let conceded_at = figures["as_of"].as_str().expect("as asked").to_owned();
    // The node that it is not for is corrected.
    ran(&other);
    assert_ne!(other.root.read(SHELL).expect("as asked"), "{}");

    // It ends: the next run corrects, and the past stays.
    let reader = fleet.token("tor.havik", "reader");
    let refused = fleet.client_by(&reader, &["concession", "end", "D1", "--because", "rebuilt"]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("concession.ask"), "{}", refused.stderr);
    well(&fleet.client(&["person", "grant", "tor.havik", "operator"]));
    let refused = fleet.client_by(&reader, &["concession", "end", "D1", "--because", "rebuilt"]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("concession.decide"), "{}", refused.stderr);
    well(&fleet.client_by(&operator, &["concession", "end", "D1", "--because", "rebuilt"]));
    let ended = json(&fleet, &["compliance"]);
    assert_eq!((&ended["clauses"]["noncompliant"], &ended["clauses"]["conceded"]), (&1.into(), &0.into()));
    let moves = json(&fleet, &["compliance", "--since", &conceded_at]);
    assert_eq!(moves["moves"][0]["reason"], "concession", "{moves}");
    assert_eq!(moves["moves"][0]["basis_points"], 0, "{moves}");
    well(&kiosk.run(&["check-in"]));
    ran(&kiosk);
    assert_ne!(kiosk.root.read(SHELL).expect("as asked"), "{}", "it is corrected");
    let then = json(&fleet, &["compliance", "--as-of", &conceded_at, "--as-known-at", &conceded_at]);
    assert_eq!(then["clauses"], figures["clauses"], "what was conceded stays so");
    assert!(well(&fleet.client(&["concession", "list"])).contains("no concession waits or is in force"));
    let all = fleet.client(&["concession", "list", "--also-over"]);
    assert!(
        well(&all).contains("ended by pia.lund 20") && all.stdout.contains(": \"rebuilt\""),
        "{}",
        all.stdout
    );
    assert_eq!(
        fleet.query("select string_agg(who || ' ' || did, ', ' order by id) from event where subject = 'D1' and who <> 'the server'"),
        "pia.lund asked for a concession, ilse.maren approved a concession, pia.lund ended a concession"
    );
}

#[test]
fn a_concession_is_bounded_and_a_refused_one_never_comes_into_force() {
    let fleet = Fleet::start();
    let _kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let error_of = |more: &[&str]| {
        let ended = fleet.client(&[&["concession", "ask", "--because", "the pier"], more].concat());
        assert_ne!(ended.exit, Some(0), "{}", ended.stdout);
        ended.stderr
    };
    for (arguments, said) in [
        (&["--clause", "file:/etc/issue", "--for", "400d", "--node", "kiosk-auken-1"][..], "at most a year"),
        (
            &["--clause", "file:/etc/issue", "--until", "2026-01-01T00:00:00Z", "--node", "kiosk-auken-1"],
            "is over",
        ),
        (&["--clause", "issue", "--for", "5d", "--node", "kiosk-auken-1"], "kind:name"),
        (&["--clause", "file:/etc/issue", "--for", "5d", "--node", "kiosk-auken-9"], "kiosk-auken-9"),
        (&["--clause", "file:/etc/issue", "--for", "5d"], "--filter"),
        (
            &["--clause", "file:/etc/issue", "--for", "5d", "--filter", "node.status == \"failed\""],
            "node.status",
        ),
        (
            &[
                "--clause",
                "file:/etc/issue",
                "--for",
                "5d",
                "--filter",
                "labels.role == \"gate\"",
                "--only-present-nodes",
            ],
            "no node matches it now",
        ),
    ] {
        let stderr = error_of(arguments);
        assert!(stderr.contains(said), "{said}: {stderr}");
    }
    assert_eq!(fleet.query("select count(*) from concession"), "0", "nothing of these is stored");

    well(&fleet.client(&ask(&["--node", "kiosk-auken-1"])));
    let approver = fleet.token("tor.havik", "approver");
    well(&fleet.client_by(&approver, &["concession", "refuse", "D1", "--because", "the screens are here"]));
    let approved = fleet.client_by(&approver, &["concession", "approve", "D1"]);
    assert!(approved.stderr.contains("D1 does not wait for approval: it is refused"), "{}", approved.stderr);
    well(&fleet.client(&ask(&["--node", "kiosk-auken-1"])));
    well(&fleet.client(&["concession", "end", "D2", "--because", "not needed"]));
    let all = fleet.client(&["concession", "list", "--also-over"]);
    assert!(
        well(&all).contains("refused by tor.havik") && all.stdout.contains("withdrawn by ilse.maren"),
        "{}",
        all.stdout
    );
    assert_eq!(fleet.query("select count(*) from change_freeze"), "0");
}
