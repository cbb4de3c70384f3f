//! An agent goes on, whatever its server says, whatever it finds in its own folder, and however its last run ended.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use std::process::Stdio;

/// A fleet with one kiosk that is in line.
fn kiosk() -> (Fleet, Machine) {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    assert!(well(&kiosk.run(&["daemon", "--once"])).contains("rolled out"));
    (fleet, kiosk)
}

#[test]
fn only_revoked_said_in_so_many_words_ends_a_daemon_and_what_is_due_runs_whatever_else_failed() {
    let (fleet, kiosk) = kiosk();

    // As after a restore: the server knows no such certificate.
    let known = fleet.query(
        "update node_key set spki_digest = sha256('other') returning encode(certificate::bytea, 'hex')",
    );
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    let unknown = kiosk.run(&["daemon", "--once"]);
    let output = well(&unknown);
    assert!(output.contains("unknown certificate; continuing with the last desired state"), "{output}");
    assert!(
        output.contains("drift corrected") && output.contains("the report stays in the spool"),
        "{output}"
    );
    assert!(!known.is_empty());
    fleet.query(
        "update node_key set spki_digest = k.spki_digest from joining_request k where k.node = node_key.node",
    );
    assert!(well(&kiosk.run(&["check-in"])).contains("connected"));
    assert_eq!(
        fleet.query("select count(*) from run where status = 'drift_corrected'"),
        "1",
        "what waited is delivered"
    );

    // The new state's contents cannot be fetched: what was wanted before is gone on with, and reports are delivered.
    fleet.query("delete from clause_content");
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("45", "46")));
    fleet.query("delete from clause_content");
    kiosk.root.write("/etc/issue", "and now?\n").unwrap();
    let partly = kiosk.run(&["daemon", "--once"]);
    let output = well(&partly);
    assert!(
        output.contains("connected to")
            && output.contains("the new state was not applied: there is no content of this node"),
        "{output}"
    );
    assert!(
        output.contains("drift corrected") && !output.contains("the report stays in the spool"),
        "{output}"
    );
    let checked_in = kiosk.run(&["check-in"]);
    assert_eq!(checked_in.exit, Some(1));
    assert!(checked_in.stderr.contains("the new state was not applied"), "{}", checked_in.stderr);

    well(&fleet.client(&["node", "revoke", "kiosk-auken-1"]));
    let revoked = kiosk.run(&["daemon"]);
    assert_eq!(revoked.exit, Some(3), "{}{}", revoked.stdout, revoked.stderr);
    assert!(revoked.stderr.contains(
        "the node kiosk-auken-1 was revoked; the desired state and all secrets were deleted from this machine"
    ));
}

#[test]
fn a_refused_report_is_set_aside_told_and_counted_and_those_behind_it_are_delivered() {
    let (mut fleet, kiosk) = kiosk();
    fleet.kill_server();
    for text in ["first\n", "second\n"] {
        kiosk.root.write("/etc/issue", text).unwrap();
        well(&kiosk.run(&["daemon", "--once"]));
    }
    let spool = kiosk.root.at("/var/lib/constans/spool");
    let mut waiting: Vec<_> = std::fs::read_dir(&spool).unwrap().map(|entry| entry.unwrap().path()).collect();
    waiting.sort();
    assert_eq!(waiting.len(), 2, "{waiting:?}");
    let report = std::fs::read_to_string(&waiting[0]).unwrap();
    let sequence = report.split("\"sequence\":").nth(1).unwrap().split(',').next().unwrap();
    std::fs::write(
        &waiting[0],
        report.replace(&format!("\"sequence\":{sequence}"), "\"sequence\":18446744073709551615"),
    )
    .unwrap();

    fleet.start_server();
    well(&kiosk.run(&["check-in"]));
    assert_eq!(
        fleet.query("select count(*) from run where status = 'drift_corrected'"),
        "1",
        "the second is delivered"
    );
    let status = kiosk.run(&["status"]);
    let output = well(&status);
    assert!(
        output.contains("1 report was refused by the server") && output.contains("the sequence is too large"),
        "{output}"
    );
    assert!(!output.contains("waits for the server"), "{output}");
}

#[test]
fn what_cannot_be_read_in_its_folder_is_set_aside_and_blocks_nothing() {
    let (fleet, kiosk) = kiosk();
    let folder = kiosk.root.at("/var/lib/constans");
    let broken = [
        "served.json",
        "start.json",
        "daemon.json",
        "memory/runs.json",
        "memory/served/due.json",
        "memory/served/memory",
        "put-back.json",
        "key",
    ];
    for name in broken {
        std::fs::write(folder.join(name), "\u{0}nonsense").unwrap();
    }
    std::fs::write(folder.join("spool/0.json"), "{").unwrap();
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    let round = kiosk.run(&["daemon", "--once"]);
    let output = well(&round);
    assert!(output.contains("in the state folder is unusable and was set aside"), "{output}");
    assert!(
        kiosk.root.read("/etc/issue").unwrap().contains("Skerry Line"),
        "it was run and put right: {output}"
    );
    let status = kiosk.run(&["status"]);
    let output = well(&status);
    for name in broken.into_iter().filter(|name| *name != "daemon.json").chain(["spool/0.json"]) {
        assert!(output.contains(&format!("set aside {name} at ")), "{name}: {output}");
    }
    assert!(
        fleet.client(&["node", "show", "kiosk-auken-1"]).stdout.contains("memory"),
        "the server says that its memory was lost"
    );
}

#[test]
fn a_run_that_was_killed_stays_on_record_on_the_node_and_at_the_server() {
    let (fleet, kiosk) = kiosk();
    kiosk.root.write("/etc/issue", "who was here?\n").unwrap();
    let killed = kiosk
        .agent(&["daemon", "--once"])
        .env("CONSTANS_KILL_AT", "10")
        .stdin(Stdio::null())
        .output()
        .unwrap();
    assert_eq!(killed.status.code(), None, "{}", String::from_utf8_lossy(&killed.stdout));
    let round = kiosk.run(&["daemon", "--once"]);
    let output = well(&round);
    assert!(output.contains("interrupted after ") && output.contains(" of 19 clauses"), "{output}");
    let runs = kiosk.run(&["runs"]);
    assert!(
        well(&runs).lines().any(|line| line.contains("failed") && line.contains("interrupted after ")),
        "{}",
        runs.stdout
    );
    let known = fleet.client(&["run", "list", "kiosk-auken-1"]);
    let line = well(&known)
        .lines()
        .find(|line| line.contains("interrupted after "))
        .unwrap_or_else(|| panic!("{}", known.stdout))
        .to_owned();
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", line.rsplit(' ').next().unwrap()]);
    assert!(well(&shown).contains("the agent was killed or the machine stopped"), "{}", shown.stdout);
    let nodes = fleet.client(&["node", "list"]).stdout;
    assert!(nodes.contains("in line"), "the node is shown by its last full run: {nodes}");
}
