//! Several nodes are retired by one change, searched, and brought back with their history.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use serde_json::Value;

fn retired(fleet: &Fleet, name: &str) -> Value {
    serde_json::from_str(well(&fleet.client(&["node", "retired", name, "--output", "json"]))).unwrap()
}

#[test]
fn retired_nodes_are_found_with_who_and_why_and_one_is_brought_back_as_it_was() {
    let mut fleet = Fleet::start();
    let machines =
        ["kiosk-auken-1", "kiosk-auken-2", "kiosk-brisk-1"].map(|name| joined(&fleet, name, &["role=kiosk"]));
    publish_and_serve(&fleet);
    well(&group(&fleet, &machines[0], &KIOSKS.replace("MODE", "enforce")));
    machines.iter().for_each(|machine| drop(well(&machine.run(&["daemon", "--once"])).to_owned()));
    let before = fleet_clauses(&fleet, "kiosk-auken-1");

    refused(
        &fleet.client(&["node", "retire", "kiosk-auken-1", "kiosk-auken-9"]),
        "there is no node `kiosk-auken-9`",
    );
    assert_eq!(fleet.query("select count(*) from node where retired_at is not null"), "0", "all or none");
    let both = ["node", "retire", "kiosk-auken-1", "kiosk-auken-2", "--because", "sold", "--confirm", "2"];
    assert!(well(&fleet.client(&both)).contains("2 nodes are retired"));
    assert_eq!(
        fleet.query("select count(distinct retired_by) from node where retired_at is not null"),
        "1",
        "one change"
    );
    let found = retired(&fleet, "kiosk-*-1");
    assert_eq!(found.as_array().unwrap().len(), 1);
    let one = &found[0];
    assert_eq!(
        (one["name"].as_str(), one["retired_by"].as_str(), one["because"].as_str()),
        (Some("kiosk-auken-1"), Some("ilse.maren"), Some("sold"))
    );
    assert_eq!(one["labels"]["role"], "kiosk");
    assert_eq!(retired(&fleet, "kiosk_auken-1"), Value::Array(Vec::new()), "`_` is no pattern");
    refused(&machines[0].run(&["daemon", "--once"]), "was retired");

    // It is the same node, with what is desired of it, its runs and its key; it is counted again from now on.
    let reader = fleet.token("pia.lund", "reader");
    refused(&fleet.client_by(&reader, &["node", "bring-back", "kiosk-auken-1"]), "join.approve");
    refused(
        &fleet.client(&["node", "bring-back", "kiosk-auken-7"]),
        "no retired node has the name or id kiosk-auken-7",
    );
    let runs =
        "select count(*) from run_span join node on node.id = run_span.node where name = 'kiosk-auken-1'";
    let had = fleet.query(runs);
    let back = fleet.client(&["node", "bring-back", "kiosk-auken-1"]);
    assert!(well(&back).contains("kiosk-auken-1 is of the fleet again"), "{}", back.stdout);
    assert_eq!((fleet_clauses(&fleet, "kiosk-auken-1"), fleet.query(runs)), (before, had));
    assert!(well(&machines[0].run(&["check-in"])).contains("as kiosk-auken-1"));
    well(&machines[0].run(&["daemon", "--once"]));
    let shown = well(&fleet.client(&["node", "show", "kiosk-auken-1"])).to_owned();
    assert!(shown.contains("in line"), "{shown}");
    let life = fleet.query("select count(*) || ' ' || count(until_at) from node_life join node on node.no = node_life.node where name = 'kiosk-auken-1'");
    assert_eq!(life, "2 1", "it was of the fleet before, and is again");
    refused(&fleet.client(&["node", "bring-back", "kiosk-auken-1"]), "no retired node has the name or id");

    // A machine that did not hear that it was retired joins as another node, with another key.
    let invitation = fleet.invite(&machines[1], &[]);
    let again = machines[1].run(&[
        "join",
        "--again",
        "--invitation-file",
        &invitation,
        "--name",
        "till-auken-1",
        "--wait",
        "0",
    ]);
    assert!(
        again.stdout.contains("waiting for approval as till-auken-1"),
        "{}{}",
        again.stdout,
        again.stderr
    );
    let keys = "select count(distinct spki_digest) from joining_request where name in ('till-auken-1', 'kiosk-auken-2')";
    assert_eq!(fleet.query(keys), "2");
    well(&fleet.client(&["join", "approve", "till-auken-1"]));

    // A name that was given away meanwhile is not taken back.
    joined(&fleet, "kiosk-auken-2", &["role=kiosk"]);
    refused(
        &fleet.client(&["node", "bring-back", "kiosk-auken-2"]),
        "another node is called kiosk-auken-2 now",
    );
    well(&fleet.client(&["node", "bring-back", "kiosk-auken-2", "--name", "kiosk-auken-3"]));
    assert!(well(&fleet.client(&["node", "list"])).contains("kiosk-auken-3"));

    // One that was revoked before it was retired is refused still.
    well(&fleet.client(&["node", "revoke", "kiosk-brisk-1"]));
    well(&fleet.client(&["node", "retire", "kiosk-brisk-1", "--confirm", "1"]));
    well(&fleet.client(&["node", "bring-back", "kiosk-brisk-1"]));
    refused(&machines[2].run(&["check-in"]), "was revoked");
    let life = "select count(*) filter (where until_at is null) from node_life join node on node.no = node_life.node where name = 'kiosk-brisk-1'";
    assert_eq!(fleet.query(life), "0", "it is not counted");

    // Who was brought back is admitted too after the server starts again, and by a database from before.
    fleet.kill_server();
    fleet.start_server();
    assert!(well(&machines[0].run(&["check-in"])).contains("as kiosk-auken-1"));
    assert_eq!(
        fleet.query("select string_agg(subject, ' ' order by id) from event where did = 'brought back'"),
        "kiosk-auken-1 kiosk-auken-3 kiosk-brisk-1"
    );
}

fn fleet_clauses(fleet: &Fleet, name: &str) -> String {
    fleet.query(&format!("select s.digest from node n join node_wanted w on w.node = n.id join effective_state s on s.id = w.state where n.name = '{name}'"))
}
