//! What must hold when something was restored to an earlier state: the server's database, an agent's memory, a node that
//! was away too long.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use std::fs;

#[test]
fn a_restored_database_puts_nothing_back_that_nobody_ordered() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for machine in [&kiosk, &gate] {
        well(&round(machine));
    }
    assert!(well(&fleet.client(&["recovery", "show"])).contains("not recovering"));
    well(&fleet.client(&["sweep", "observe", "--node", "kiosk-auken-1", "--because", "a look", "--no-wait"]));
    fleet.back_up();
    assert!(well(&fleet.client(&["recovery", "show"])).contains("not recovering"), "a start is no restore");

    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("= 45", "= 30")));
    well(&round(&kiosk));
    well(&fleet.client(&["node", "revoke", "gate-auken-1"]));
    assert_eq!(fleet.query("select count(done_at) from sweep_node"), "1");
    fleet.put_back();
    assert_eq!(
        fleet.query("select stopped_by from sweep"),
        "constans",
        "what came of it is not known any more"
    );

    let output = round(&kiosk);
    assert!(
        well(&output).contains("which is recovering; continuing with the last desired state"),
        "{}",
        output.stdout
    );
    assert!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("idle = 30"));
    let refused = round(&gate);
    assert!(
        refused.stderr.contains("gate-auken-1 was revoked"),
        "a revoked node stays refused: {}",
        refused.stderr
    );
    let bridge = joined(&fleet, "bridge-tern", &["role=bridge"]);
    let shown = fleet.client(&["recovery", "show"]);
    assert!(
        well(&shown).contains("would change     kiosk-auken-1")
            && shown.stdout.contains("not heard since  no nodes"),
        "{}",
        shown.stdout
    );

    well(&fleet.client(&["recovery", "end"]));
    assert!(well(&round(&kiosk)).contains("rolled out"), "now somebody ordered it");
    assert!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("idle = 45"));
    assert_eq!(fleet.client(&["recovery", "end"]).exit, Some(1));
    well(&round(&bridge));
}

#[test]
fn a_database_that_is_put_back_under_a_running_server_is_noticed_at_once() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for _ in 0..2 {
        well(&round(&kiosk));
        well(&round(&gate));
    }
    fleet.back_up();
    for _ in 0..3 {
        well(&round(&kiosk));
    }

    // Nothing but check-ins is lost: what the nodes show is newer than what the database knows.
    fleet.put_back_while_serving();
    for _ in 0..2 {
        assert!(!well(&round(&kiosk)).contains("recovering"));
    }
    assert_eq!(
        fleet.query("select count(*) from node_now where duplicate_identity_since is not null"),
        "0",
        "no node is held to marks that were lost"
    );
    assert_eq!(fleet.query("select count(*) from event where did = 'found another database'"), "1");

    // A change and a refusal are lost.
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce").replace("= 45", "= 30")));
    well(&round(&kiosk));
    well(&fleet.client(&["node", "revoke", "gate-auken-1"]));
    fleet.put_back_while_serving();
    let refused = round(&gate);
    assert!(
        refused.stderr.contains("gate-auken-1 was revoked"),
        "a revoked node stays refused: {}",
        refused.stderr
    );
    let output = round(&kiosk);
    assert!(
        well(&output).contains("which is recovering; continuing with the last desired state"),
        "{}",
        output.stdout
    );
    assert!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("idle = 30"));
    well(&fleet.client(&["recovery", "end"]));
    assert!(well(&round(&kiosk)).contains("rolled out"));
    assert_eq!(fleet.query("select count(*) from node_now where duplicate_identity_since is not null"), "0");
}

#[test]
fn a_server_whose_protected_folder_was_lost_does_not_make_another_one() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let (folder, elsewhere) = (fleet.protected(), fleet.protected().with_extension("kept"));
    fs::rename(&folder, &elsewhere).unwrap();
    let output = fleet.refused_start();
    assert!(
        output.contains("is missing, and the database is in use already")
            && output.contains("from its backup"),
        "{output}"
    );
    assert!(!folder.exists());
    fs::rename(&elsewhere, &folder).unwrap();
    let key = fs::read(folder.join("ca.key")).unwrap();
    fs::write(folder.join("ca.key"), "").unwrap();
    let output = fleet.refused_start();
    assert!(output.contains("ca.key is empty"), "{output}");
    fs::write(folder.join("ca.key"), key).unwrap();
    fleet.start_server();
    well(&kiosk.run(&["check-in"]));
}

fn round(machine: &constans_e2e::Machine) -> constans_e2e::Ended {
    machine.run(&["daemon", "--once"])
}

#[test]
fn a_node_whose_certificate_ended_asks_again_with_its_key() {
    let fleet = Fleet::start();
    let bridge = joined(&fleet, "bridge-gannet", &["role=bridge"]);
    let path = "/var/lib/constans/joined.json";
    let end = |machine: &constans_e2e::Machine| {
        let mut membership: serde_json::Value =
            serde_json::from_str(&machine.root.read(path).unwrap()).unwrap();
        membership["ends_at"] = "2026-01-01T00:00:00Z".into();
        machine.root.write(path, &membership.to_string()).unwrap();
    };
    end(&bridge);
    fleet.query("update node_key set ends_at = '2026-01-01'");
    let asks = bridge.run(&["check-in"]);
    assert!(
        asks.stderr.contains("certificate ended on 2026-01-01")
            && asks.stderr.contains("constans join approve bridge-gannet"),
        "{}",
        asks.stderr
    );
    let listed = fleet.client(&["join", "list"]).stdout;
    assert!(
        listed.contains("the node of this name with its old key, after its certificate ended"),
        "{listed}"
    );
    assert!(bridge.run(&["check-in"]).stderr.contains("waits for approval"), "asking twice is one request");
    assert_eq!(fleet.query("select count(*) from joining_request where known_node is not null"), "1");
    well(&fleet.client(&["join", "approve", "bridge-gannet"]));
    assert!(well(&bridge.run(&["check-in"])).contains("connected to"));
    assert_eq!(fleet.query("select count(*) from node"), "1", "it is the node that it was");

    end(&bridge);
    fleet.query("update node_key set ends_at = '2026-01-01'");
    well(&fleet.client(&["node", "revoke", "bridge-gannet"]));
    assert!(
        bridge.run(&["check-in"]).stderr.contains("was revoked"),
        "a refused node does not come back by its key"
    );
}

#[test]
fn drift_opens_an_episode_that_outlives_lost_memory_and_ends_when_it_is_put_right() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for _ in 0..2 {
        well(&round(&kiosk));
    }
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let banner = kiosk.root.read("/etc/issue").unwrap();
    kiosk.root.write("/etc/issue", &"who was here?\n".repeat(20)).unwrap();
    assert!(well(&round(&kiosk)).contains("drift found"));
    let shown = fleet.client(&["node", "show", "kiosk-auken-1"]).stdout;
    assert!(shown.contains("drift     file:/etc/issue changed "), "{shown}");
    assert!(
        fleet
            .query("select report::text from run order by began desc limit 1")
            .find("who was here")
            .is_none(),
        "long texts are kept apart"
    );
    let id = fleet.query("select run from run order by began desc limit 1");
    let run = fleet.client(&["run", "show", "kiosk-auken-1", &id]).stdout;
    assert!(run.contains("-who was here?"), "{run}");
    let texts = "select count(distinct digest) || ' ' || count(*) from report_text, run, jsonb_each_text(texts) t where t.value = digest and body like '%who was here%'";
    well(&round(&kiosk));
    assert_eq!(fleet.query(texts), "1 1", "what is found again is not kept again");

    fs::remove_dir_all(kiosk.root.at("/var/lib/constans/memory")).unwrap();
    well(&round(&kiosk));
    let shown = fleet.client(&["node", "show", "kiosk-auken-1"]).stdout;
    assert!(
        ["0 s ago", "1 s ago"].iter().any(|ago| shown.contains(&format!("the agent lost its memory {ago}"))),
        "{shown}"
    );
    assert!(shown.contains("status    drift found"), "causes stay as last known: {shown}");
    assert_eq!(fleet.query(texts), "1 2", "two runs report the same text, and it is stored once");

    kiosk.root.write("/etc/issue", &banner).unwrap();
    well(&round(&kiosk));
    assert_eq!(fleet.query("select closed_as from episode where address = 'file:/etc/issue'"), "by_hand");
    well(&round(&kiosk));
    let shown = fleet.client(&["node", "show", "kiosk-auken-1"]).stdout;
    assert!(!shown.contains("problem") && !shown.contains("  drift  "), "{shown}");

    fleet.query("update node_now set clock_off_ms = 3600000");
    fleet.query("update node_key set ends_at = now() + interval '40 days'");
    fleet.query("update node_now set overdue_at = now() - interval '1 second'");
    let listed = fleet.client(&["node", "list"]).stdout;
    assert!(listed.contains("certificate ends  runs overdue  clock off"), "{listed}");
}
