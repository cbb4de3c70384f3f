//! Versions of the agent go out in waves, and halt where agents cannot be upgraded. What an upgrade does on a real host is tested there
//! (crates/hosts).

use crate::changes::{ask, until};
use crate::installing::deb;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, signed_in, well};
use constans_e2e::{Fleet, Machine, Running};
use serde_json::Value;
use std::process::Command;

const LATER: &str = "0.0.9";

fn kiosks(mode: &str) -> String {
    KIOSKS.replace("MODE", mode).replace("interval_secs = 60", "interval_secs = 5")
}

/// Kiosks whose agents go on, each in a folder of its own: none of them was installed by a package.
fn fleet_of_two(mode: &str) -> (Fleet, Vec<Machine>, Vec<Running>) {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let machines: Vec<Machine> =
        (1..=2).map(|number| joined(&fleet, &format!("kiosk-auken-{number}"), &["role=kiosk"])).collect();
    well(&group(&fleet, &machines[0], &kiosks(mode)));
    let folder = tempfile::tempdir().expect("a folder");
    for version in ["0.0.8", LATER] {
        well(&fleet.client(&["agent-package", "add", &deb(folder.path(), "constans-agent", version)]));
    }
    let daemons = machines.iter().map(Machine::daemon).collect();
    until("both have run", || fleet.query("select count(*) from node_now where full_run is not null") == "2");
    (fleet, machines, daemons)
}

fn begin(fleet: &Fleet, more: &[&str]) -> i64 {
    let words =
        ["rollout", "begin", "agent@0.0.9", "--group", "kiosks", "--settle", "1s", "--confirm", "0", "--yes"];
    well(&fleet.client(&[&words, more].concat()));
    ask(fleet, "/api/rollouts")[0]["no"].as_i64().expect("a number")
}

#[test]
fn a_version_that_agents_cannot_take_halts_in_its_first_wave_and_is_turned_back() {
    let (fleet, machines, _daemons) = fleet_of_two("enforce");
    let no = begin(&fleet, &["--waves", "50%,100%", "--because", "the winter timetable"]);
    until("it halts", || ask(&fleet, &format!("/api/rollouts/{no}"))["rollout"]["status"] == "halted");
    let rollout = ask(&fleet, &format!("/api/rollouts/{no}"));
    assert_eq!(rollout["waves"][0]["figures"]["failed"], 1, "{rollout}");
    assert_eq!(rollout["rollout"]["what"], "version 0.0.9 of the agent for the group kiosks");
    let bad = &rollout["bad_clauses"][0];
    assert_eq!((&bad["address"], &bad["nodes"]), (&"constans-agent".into(), &1.into()));
    assert_eq!(bad["message"], "not upgraded to 0.0.9: it keeps a private root folder and not this machine");
    let shown = fleet.client(&["rollout", "show", &format!("C{no}")]);
    refused(&shown, "is halted");
    assert!(shown.stdout.contains("not upgraded to 0.0.9"), "{}", shown.stdout);

    // It says so wherever one looks, until it is turned back; the package stays as long as it may be fetched.
    let name = bad["names"][0].as_str().unwrap();
    let machine = machines.iter().find(|machine| machine.run(&["status"]).stdout.contains(name)).unwrap();
    let status = machine.run(&["status"]);
    assert!(well(&status).contains("to 0.0.9: failed: it keeps a private root folder"), "{}", status.stdout);
    let node = fleet.client(&["node", "show", name]);
    assert!(
        well(&node).contains("the agent was not upgraded to 0.0.9: it keeps a private root"),
        "{}",
        node.stdout
    );
    let listed = fleet.client(&["overview"]);
    assert!(listed.stdout.contains("agent not upgraded"), "{}{}", listed.stdout, listed.stderr);
    let packages = ask(&fleet, "/api/agent-packages");
    let served = packages.as_array().unwrap().iter().find(|package| package["version"] == LATER).unwrap();
    let sha256 = served["sha256"].as_str().unwrap();
    refused(&fleet.client(&["agent-package", "remove", sha256]), &format!("C{no} sets agent_version"));
    let retried = machine.run(&["retry-upgrade"]);
    assert!(
        well(&retried).contains("the upgrade to 0.0.9 is tried again at the next check-in"),
        "{}",
        retried.stdout
    );

    well(&fleet.client(&["rollout", "turn-back", &format!("C{no}")]));
    until("no node is to be upgraded", || {
        fleet.query("select count(*) from node where jsonb_typeof(agent_upgrade) = 'object'") == "0"
    });
    assert!(!well(&machine.run(&["status"])).contains("upgrade"));
    well(&fleet.client(&["agent-package", "remove", sha256]));
    let unknown = fleet.client(&["rollout", "begin", "agent@0.0.9"]);
    refused(&unknown, "there is no package of the agent 0.0.9; served are: 0.0.8");
    refused(&fleet.client(&["group", "setting", "kiosks", "agent_version", "0.0.9"]), "served are: 0.0.8");
    refused(&fleet.client(&["node", "setting", name, "agent_version", "0.0.9"]), "served are: 0.0.8");
    refused(&fleet.client(&["rollout", "begin", "agent@"]), "a version follows agent@");
    refused(
        &fleet.client(&["rollout", "begin", "C1", "--group", "kiosks"]),
        "are for a version of the agent",
    );
}

#[test]
fn where_nothing_may_be_changed_a_version_waits_and_is_untried() {
    let (fleet, machines, _daemons) = fleet_of_two("observe");
    let no = begin(&fleet, &["--waves", "100%"]);
    let figures = || ask(&fleet, &format!("/api/rollouts/{no}"))["waves"][0]["figures"].clone();
    until("both have looked", || figures()["untried"] == 2);
    let status = machines[0].run(&["status"]);
    assert!(well(&status).contains("to 0.0.9: waits: mode is observe"), "{}", status.stdout);
    assert!(!machines[0].run(&["retry-upgrade"]).stdout.contains("0.0.9"), "none has failed");
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    browser.open("/nodes/kiosk-auken-1");
    browser.see("Upgrade of the agent waits, to 0.0.9: mode is observe");
    // Once its last wave is handed out, the group names it; who may enforce then tries.
    well(&group(
        &fleet,
        &machines[0],
        &kiosks("enforce").replace("[settings]", "[settings]\nagent_version = \"0.0.9\""),
    ));
    until("both have tried", || {
        fleet.query("select count(*) from node where agent_upgrade ->> 'state' = 'failed'") == "2"
    });
    let package: Value = ask(&fleet, "/api/agent-packages")[0].clone();
    let removed = fleet.client(&["agent-package", "remove", package["sha256"].as_str().unwrap()]);
    refused(&removed, "the group kiosks sets agent_version = \"0.0.9\"");
}

#[test]
fn an_agent_that_is_hung_up_executes_the_program_that_is_installed_and_goes_on() {
    let (fleet, machines, _daemons) = fleet_of_two("enforce");
    let note = || -> Value {
        serde_json::from_str(&machines[0].root.read("/var/lib/constans/daemon.json").unwrap()).unwrap()
    };
    let before = note();
    let learned = || fleet.query("select full_learned from node_now order by node limit 1");
    let last = learned();
    let hung_up = Command::new("kill").args(["-HUP", &before["pid"].to_string()]).status();
    assert!(hung_up.unwrap().success());
    until("it goes on", || note()["since"] != before["since"] && learned() != last);
    assert_eq!(note()["pid"], before["pid"], "it is the same process");
}
