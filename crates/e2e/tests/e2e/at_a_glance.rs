//! What the terminal says at a glance: the fleet with a command for each thing, the server itself, and a run beside the one before it.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;
use std::fs;

fn listed(fleet: &Fleet, arguments: &[&str]) -> Value {
    let all = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&all))).expect("JSON")
}

fn last_run(fleet: &Fleet) -> String {
    listed(fleet, &["run", "list", "kiosk-auken-1"])[0]["run"].as_str().expect("it is kept whole").to_owned()
}

#[test]
fn the_overview_ranks_what_needs_attention_and_a_run_tells_what_is_otherwise() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    let first = last_run(&fleet);
    let alone = well(&fleet.client(&["run", "compare", "kiosk-auken-1", &first])).to_owned();
    assert!(alone.contains("no run before it is kept"), "{alone}");

    // Where the file was stands a folder: its clause fails.
    let shell = kiosk.root.path().join("etc/kiosk/shell.conf");
    fs::remove_file(&shell).expect("it is there");
    fs::create_dir_all(shell.join("something")).expect("a folder");
    well(&kiosk.run(&["daemon", "--once"]));
    let failed = last_run(&fleet);
    let said = well(&fleet.client(&["run", "compare", "kiosk-auken-1", &failed])).to_owned();
    assert!(
        said.lines().any(|line| line.starts_with("fails now") && line.contains("file:/etc/kiosk/shell.conf")),
        "{said}"
    );
    let overview = well(&fleet.client(&["overview"])).to_owned();
    let attention = overview.split("needs attention").nth(1).expect("it has one");
    assert!(
        attention.contains("failed: kiosk-auken-1: file:/etc/kiosk/shell.conf failed")
            && attention.contains("constans node why kiosk-auken-1 'file:/etc/kiosk/shell.conf'"),
        "{overview}"
    );
    assert!(overview.starts_with("1 node as of ") && overview.contains("1 failed"), "{overview}");
    let why = fleet.client(&["node", "why", "kiosk-auken-1", "file:/etc/kiosk/shell.conf"]);
    assert_eq!(why.exit, Some(0), "the command that it names works: {}", why.stderr);

    fs::remove_dir_all(&shell).expect("a folder");
    well(&kiosk.run(&["daemon", "--once"]));
    let passed = listed(&fleet, &["run", "compare", "kiosk-auken-1", &last_run(&fleet)]);
    let of_shell = passed["changed"]
        .as_array()
        .and_then(|all| all.iter().find(|one| one["address"] == "file:/etc/kiosk/shell.conf"));
    assert_eq!(of_shell.map(|one| &one["change"]), Some(&Value::from("passes_now")), "{passed}");
    // With a run of one's choice, also further back; and one that is not there is told.
    let with =
        well(&fleet.client(&["run", "compare", "kiosk-auken-1", &failed, "--with", &first])).to_owned();
    assert!(with.contains("fails now"), "{with}");
    let missing = fleet.client(&["run", "compare", "kiosk-auken-1", "ffffffff"]);
    assert!(missing.stderr.contains("there is no run kept whole `ffffffff`"), "{}", missing.stderr);
}

#[test]
fn the_server_says_how_it_is_itself_and_gives_no_secret_away() {
    let fleet = Fleet::start();
    let machine = joined(&fleet, "kiosk-auken-1", &[]);
    well(&machine.run(&["check-in"]));
    drop(Machine::fresh());
    let reader = fleet.token("pia.lund", "reader");
    let said = fleet.client_by(&reader, &["server", "status"]);
    let text = well(&said);
    for part in [
        "for 1 node of 1000 that it is sized for",
        "audit trail    well  ",
        // The tests' PostgreSQL is as quick as it can be.
        "postgresql     MISFIT  fsync is off",
        "what the server acknowledged would be lost in a power cut",
        "for agents   until ",
        "0.1.0  1",
        "packages of the agent that are served: none",
        "1 problem",
    ] {
        assert!(text.contains(part), "`{part}` is not in {text}");
    }
    let whole = well(&fleet.client_by(&reader, &["server", "status", "--output", "json"])).to_owned();
    let password =
        fleet.database().split(':').nth(2).and_then(|rest| rest.split('@').next()).expect("a password");
    assert!(!whole.contains(password) && !whole.contains("postgres://"), "{whole}");
}
