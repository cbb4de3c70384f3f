//! Labels, names and retirement of nodes: changes of desired state like any other.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};

/// Returns the number of the newest change, as `C12`.
fn newest(fleet: &Fleet) -> String {
    format!("C{}", fleet.query("select max(no) from change"))
}

#[test]
fn a_label_moves_a_node_from_group_to_group_is_previewed_asked_and_taken_back() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "spare=yes"]);
    let other = joined(&fleet, "kiosk-auken-2", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for machine in [&kiosk, &other] {
        well(&machine.run(&["daemon", "--once"]));
    }
    let of_other =
        "select counter from node_wanted w join node on node.id = w.node where name = 'kiosk-auken-2'";
    let other_before = fleet.query(of_other);

    let gone =
        ["node", "label", "kiosk-auken-1", "--set", "role=store", "--because", "moved behind the counter"];
    let preview = fleet.client(&[&gone[..], &["--preview"]].concat());
    let preview = well(&preview);
    assert!(
        preview.contains("nothing is handed out yet")
            && preview.contains("takes")
            && preview.contains("kiosk-auken-1"),
        "{preview}"
    );
    let unasked = fleet.client(&gone);
    assert!(
        unasked.exit != Some(0) && unasked.stderr.contains("takes clauses from 1 node"),
        "{}",
        unasked.stderr
    );
    assert_eq!(
        fleet.query("select labels ->> 'role' from node where name = 'kiosk-auken-1'"),
        "kiosk",
        "nothing is changed yet"
    );
    let labelled = fleet.client(&[&gone[..], &["--confirm", "1"]].concat());
    assert!(well(&labelled).contains("kiosk-auken-1 is labelled"), "{}", labelled.stdout);
    let change = newest(&fleet);
    assert_eq!(
        fleet.query(
            "select (labels ->> 'role') || (labels ->> 'spare') from node where name = 'kiosk-auken-1'"
        ),
        "storeyes"
    );
    assert_eq!(
        fleet.query("select string_agg(value ->> 'role', ' ' order by from_at) from node_attribute where name = 'labels' and value ? 'spare'"),
        "kiosk store",
        "what it was before stays on record"
    );
    let shown = well(&fleet.client(&["node", "show", "kiosk-auken-1"])).to_owned();
    assert!(
        shown.contains(&format!("by {change}, "))
            && shown.contains("moved behind the counter")
            && shown.contains("groups    everyone\n"),
        "{shown}"
    );
    let change_shown = well(&fleet.client(&["change", "show", &change])).to_owned();
    assert!(
        change_shown.contains("node kiosk-auken-1\n")
            && change_shown.contains("-     \"role\": \"kiosk\"")
            && change_shown.contains("+     \"role\": \"store\""),
        "{change_shown}"
    );
    assert_eq!(fleet.query(of_other), other_before, "no other node is touched");
    assert_eq!(
        fleet.query(&format!("select total from job where change = {}", &change[1..])),
        "1",
        "nor resolved"
    );

    well(&fleet.client(&["change", "go-back", &change]));
    assert!(well(&fleet.client(&["node", "show", "kiosk-auken-1"])).contains("groups    everyone, kiosks"));
    well(&fleet.client(&[
        "node",
        "label",
        "kiosk-auken-1",
        "kiosk-auken-2",
        "--set",
        "quay=3",
        "--remove",
        "spare",
    ]));
    assert_eq!(
        fleet.query("select count(*) from node where labels ->> 'quay' = '3' and not labels ? 'spare'"),
        "2"
    );
    let again = fleet.client(&["node", "label", "kiosk-auken-1", "kiosk-auken-2", "--set", "quay=3"]);
    assert!(again.stderr.contains("all these nodes have these labels already"), "{}", again.stderr);
    let later = fleet.client(&["change", "go-back", &change]);
    assert!(
        later.stderr.contains("cannot be taken back: node kiosk-auken-1 was changed since by C"),
        "{}",
        later.stderr
    );

    for (arguments, message) in [
        (["node", "label", "kiosk-auken-7", "--set", "a=b"], "there is no node `kiosk-auken-7`"),
        (["node", "label", "kiosk-auken-1", "--set", "no label=b"], "is no key of a label"),
        (["node", "label", "kiosk-auken-1", "--set", "site"], "a label is written KEY=VALUE"),
        (
            ["node", "rename", "kiosk-auken-1", "kiosk-auken-2", "--preview"],
            "there is a node kiosk-auken-2 already",
        ),
        (["node", "rename", "kiosk-auken-1", "../kiosk", "--preview"], "a node's name has letters"),
    ] {
        let refused = fleet.client(&arguments);
        assert!(
            refused.exit != Some(0) && refused.stderr.contains(message),
            "{arguments:?}: {}",
            refused.stderr
        );
    }
    let many: Vec<String> = (0..51).map(|number| format!("--set=l{number}=x")).collect();
    let many: Vec<&str> =
        ["node", "label", "kiosk-auken-1"].into_iter().chain(many.iter().map(String::as_str)).collect();
    assert!(
        fleet.client(&many).stderr.contains("at most 50 labels"),
        "one request does not grow without end"
    );
    let reader = fleet.token("pia.lund", "reader");
    assert_eq!(
        fleet.client_by(&reader, &["node", "label", "kiosk-auken-1", "--set", "role=gate"]).exit,
        Some(3),
        "a reader labels nothing"
    );
}

#[test]
fn a_renamed_node_goes_on_and_a_retired_one_ends_and_is_counted_no_more() {
    let mut fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let other = joined(&fleet, "kiosk-auken-2", &["role=kiosk"]);
    publish_and_serve(&fleet);
    let pinned = KIOSKS
        .replace("MODE", "enforce")
        .replace("filter = \"labels.role == 'kiosk'\"", "nodes = [\"kiosk-auken-1\", \"kiosk-auken-2\"]");
    assert!(pinned.contains("nodes = "), "{pinned}");
    well(&group(&fleet, &kiosk, &pinned));
    for machine in [&kiosk, &other] {
        well(&machine.run(&["daemon", "--once"]));
    }
    well(&fleet.client(&[
        "node",
        "rename",
        "kiosk-auken-1",
        "kiosk-auken-9",
        "--because",
        "the quays were renumbered",
    ]));
    assert!(
        well(&fleet.client(&["node", "show", "kiosk-auken-9"])).contains("groups    everyone, kiosks"),
        "the group follows"
    );
    assert!(
        fleet
            .query(
                "select body ->> 'nodes' from node_group where name = 'kiosks' order by from_at desc limit 1"
            )
            .contains("kiosk-auken-9")
    );
    assert!(well(&kiosk.run(&["check-in"])).contains("kiosk-auken-9"), "the node learns its name");

    // Drift that is open when it is retired.
    fleet.query("insert into episode (node, address, severity, wanted, in_line_until, detected_at, detected_run, learned_at) select id, 'file:/etc/motd', 'minor', 'x', joined_at, joined_at, gen_random_uuid(), joined_at from node where name = 'kiosk-auken-2'");
    well(&fleet.client(&["node", "retire", "kiosk-auken-2", "--because", "sold"]));
    let change = newest(&fleet);
    assert_eq!(fleet.query("select closed_as from episode where address = 'file:/etc/motd'"), "retired");
    let nodes = well(&fleet.client(&["node", "list"])).to_owned();
    assert!(nodes.contains("kiosk-auken-9") && !nodes.contains("kiosk-auken-2"), "{nodes}");
    assert!(
        !fleet
            .query(
                "select body ->> 'nodes' from node_group where name = 'kiosks' order by from_at desc limit 1"
            )
            .contains("kiosk-auken-2")
    );
    let refused = other.run(&["daemon", "--once"]);
    assert!(refused.stderr.contains("was retired"), "{}{}", refused.stdout, refused.stderr);
    assert!(well(&other.run(&["status"])).contains("retired"));
    let back = fleet.client(&["change", "go-back", &change]);
    assert!(
        back.stderr.contains("the node kiosk-auken-2 is retired, and its agent has ended"),
        "{}",
        back.stderr
    );

    // A database from before the retirement refuses it too.
    let third = joined(&fleet, "kiosk-auken-3", &["role=kiosk"]);
    fleet.back_up();
    well(&fleet.client(&["node", "retire", "kiosk-auken-3"]));
    fleet.put_back();
    let refused = third.run(&["check-in"]);
    assert!(refused.exit != Some(0), "{}{}", refused.stdout, refused.stderr);
    well(&kiosk.run(&["check-in"]));
}
