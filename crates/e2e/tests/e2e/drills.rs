//! Drills: clauses are broken on purpose, noticed and put right by the node's own run, undone without the server, and counted apart.

use crate::changes::until;
use crate::waking::wait_until_held;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use constans_e2e::{Fleet, Machine, Running};
use serde_json::{Value, json};
use std::fs;
use std::os::unix::fs::PermissionsExt as _;

const CONF: &str = "/etc/kiosk/shell.conf";
const CLAUSE: &str = "file:/etc/kiosk/shell.conf";
const WHY: &str = "does anybody notice";

fn mode_of(machine: &Machine, path: &str) -> u32 {
    fs::metadata(machine.root.at(path)).expect("it is there").permissions().mode() & 0o7777
}

/// A kiosk that has applied what is desired of it, and runs every quarter of an hour.
fn kiosk(fleet: &Fleet, settings: &str, labels: &[&str]) -> (Machine, Running) {
    publish_and_serve(fleet);
    let kiosk = joined(fleet, "kiosk-auken-1", &[&["role=kiosk"], labels].concat());
    let kiosks =
        KIOSKS.replace("mode = \"MODE\"", settings).replace("interval_secs = 60", "interval_secs = 900");
    well(&group(fleet, &kiosk, &kiosks));
    kiosk.run(&["daemon", "--once"]);
    let daemon = kiosk.daemon();
    wait_until_held(fleet, 1);
    // Its first run since it began, in which nothing is broken yet.
    until("it has run", || kiosk.run(&["runs"]).stdout.lines().count() > 1 || settings.contains("observe"));
    (kiosk, daemon)
}

fn drill(fleet: &Fleet, more: &[&str]) -> constans_e2e::Ended {
    fleet.client(&[&["drill", "kiosk-auken-1", "--clause", CLAUSE, "--because", WHY], more].concat())
}

fn told(fleet: &Fleet, no: i64) -> Value {
    let shown = fleet.client(&["drill", "--show", &format!("D{no}"), "--output", "json"]);
    serde_json::from_str(&shown.stdout)
        .unwrap_or_else(|error| panic!("{error}: {}{}", shown.stdout, shown.stderr))
}

#[test]
fn what_is_broken_on_purpose_is_noticed_and_put_right_by_a_run_and_counted_apart() {
    let fleet = Fleet::start();
    let (kiosk, _daemon) = kiosk(&fleet, "mode = \"enforce\"", &["drill=allowed"]);
    let before = mode_of(&kiosk, CONF);
    assert_eq!(before, 0o644);
    let ended = drill(&fleet, &["--now"]);
    let said = well(&ended);
    for part in [
        "D1   Drill, noticed by a run at once, on kiosk-auken-1",
        "1 of 1 clause broken, 1 noticed, 1 put right, 0 undone by the end of the drill",
        "permissions 0640 in place of 0644",
        "noticed      20",
        "in line      20",
    ] {
        assert!(said.contains(part), "{part} is not in\n{said}");
    }
    assert_eq!(mode_of(&kiosk, CONF), before);
    let times = &told(&fleet, 1)["report"]["clauses"][0];
    let at = |what: &str| times[what].as_str().unwrap_or_else(|| panic!("{what}: {times}")).to_owned();
    assert!(at("broken_at") <= at("noticed_at") && at("noticed_at") <= at("put_right_at"), "{times}");

    // The run says so, its episode is marked, and no figure of drift has it.
    let runs = fleet.client(&["run", "list", "kiosk-auken-1", "--output", "json"]);
    let runs: Value = serde_json::from_str(well(&runs)).unwrap();
    let run = fleet.client(&["run", "show", "kiosk-auken-1", runs[0]["run"].as_str().unwrap()]);
    assert!(well(&run).contains("drill D1: broken on purpose; the node changed"), "{}", run.stdout);
    assert!(run.stdout.contains("started by a drill") || run.stdout.contains("a drill"), "{}", run.stdout);
    assert_eq!(
        fleet.query("select count(*) || ' ' || min(drill) || ' ' || min(closed_as) from episode"),
        "1 1 corrected"
    );
    let drift = fleet.client(&["drift", "figures"]);
    assert!(well(&drift).contains("0 episodes on 0 nodes: 0 open"), "{}", drift.stdout);
    assert!(drift.stdout.contains("1 episode of drills, in no other figure"), "{}", drift.stdout);
    let by_clause = fleet.client(&["drift", "figures", "--by", "clause"]);
    assert!(!well(&by_clause).contains(CLAUSE), "{}", by_clause.stdout);
    let audit = fleet.client(&["audit", "list", "--output", "json"]);
    assert!(well(&audit).contains("began a drill") && audit.stdout.contains(WHY));
}

#[test]
fn what_is_only_reported_is_undone_when_its_time_is_over_without_the_server() {
    let mut fleet = Fleet::start();
    let (kiosk, daemon) = kiosk(&fleet, "mode = \"enforce\"\non_drift = \"report\"", &["drill=allowed"]);
    let begun = drill(&fleet, &["--for", "1m", "--now", "--no-wait"]);
    assert!(
        well(&begun).contains("the node was woken") || begun.stdout.contains("1 of 1 clause broken"),
        "{}",
        begun.stdout
    );
    until("it is broken", || told(&fleet, 1)["report"]["clauses"][0]["broken_at"].is_string());
    assert_eq!(mode_of(&kiosk, CONF), 0o640);
    // A run notices it, and only reports it; compliance has a cause of its own for that.
    until("it is counted apart", || {
        fleet.query("select count(*) from deviation where cause = 'drill' and until_at is null") == "1"
    });
    let compliance = fleet.client(&["compliance", "--by", "cause"]);
    assert!(compliance.stdout.contains("broken in a drill"), "{}{}", compliance.stdout, compliance.stderr);
    assert_eq!(fleet.query("select count(*) from deviation where cause = 'drift' and until_at is null"), "0");
    refused(&drill(&fleet, &[]), "the drill D1 of kiosk-auken-1 is not over");
    // The agent is killed, and begins anew while no server answers.
    drop(daemon);
    fleet.stop_server();
    let daemon = kiosk.daemon();
    let mut passed = 0;
    while mode_of(&kiosk, CONF) != 0o644 {
        assert!(passed < 100, "it is undone");
        passed += 1;
        std::thread::sleep(std::time::Duration::from_secs(1));
    }
    fleet.start_server();
    // An agent that nobody answered for so long asks seldom; one that begins asks at once.
    drop(daemon);
    kiosk.run(&["daemon", "--once"]);
    until("the server knows", || told(&fleet, 1)["over_at"].is_string());
    let shown = fleet.client(&["drill", "--show", "D1"]);
    refused(&shown, "not put right by the node: 1 of 1 clause");
}

#[test]
fn only_where_it_is_allowed_by_who_may_and_nothing_that_could_do_harm_is_broken() {
    let fleet = Fleet::start();
    let (kiosk, _daemon) = kiosk(&fleet, "mode = \"observe\"", &[]);
    refused(&drill(&fleet, &[]), "kiosk-auken-1 has no label drill=allowed: nothing is broken on it");
    well(&fleet.client(&["node", "label", "kiosk-auken-1", "--set", "drill=allowed", "--because", WHY]));
    let operator = fleet.token("brisa.falk", "operator");
    let asked = ["drill", "kiosk-auken-1", "--clause", CLAUSE, "--because", WHY];
    refused(&fleet.client_by(&operator, &asked), "node.drill");
    refused(
        &fleet.client(&["drill", "kiosk-auken-1", "--clause", "package:kiosk-shell", "--because", WHY]),
        "package:kiosk-shell is not of the kinds file and service",
    );
    let in_observe = drill(&fleet, &[]);
    refused(&in_observe, "nothing was broken on kiosk-auken-1: mode is observe");

    // A node that says of its drift that it was a drill is not believed.
    let no_such = json!({ "refused": null, "clauses": [] }).to_string();
    assert_eq!(fleet.curl().as_node(&kiosk).deliver("/drills/7", &no_such).0, 404);
}
