//! Lists of nodes, narrowed: what the database decides is what the filter's language decides.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use serde_json::Value;
use std::collections::BTreeMap;

#[test]
fn the_database_and_the_language_decide_alike() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let drifted = joined(&fleet, "kiosk-brisk-1", &["role=kiosk", "site=brisk"]);
    let _not_run = joined(&fleet, "gate-brisk-1", &["role=gate", "site=brisk"]);
    let _bare = joined(&fleet, "hub-1", &[]);
    let _revoked = joined(&fleet, "gate-auken-1", &["role=gate", "site=auken"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for machine in [&kiosk, &drifted] {
        well(&machine.run(&["daemon", "--once"]));
        well(&machine.run(&["daemon", "--once"]));
    }
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    drifted.root.write("/etc/issue", "somebody was here\n").unwrap();
    let _ = drifted.run(&["daemon", "--once"]);
    well(&fleet.client(&["node", "revoke", "gate-auken-1"]));
    fleet.query("update node set about = about - 'arch' || '{\"cpu.count\": 3}' where name = 'hub-1'");
    for zone in ["quay", "pier"] {
        fleet.query(&format!(
            "update node set labels = labels || '{{\"zone\": \"{zone}\"}}' where name = 'gate-brisk-1'"
        ));
    }
    fleet.query(
        "update node_now set silent_after = now() - interval '1 s', on_time_until = now() - interval '2 s' from node where id = node and name = 'gate-brisk-1'",
    );

    let reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let answer_of = |page: &str, filter: &str| -> Value {
        let encoded: String = filter.bytes().map(|byte| format!("%{byte:02x}")).collect();
        let (status, answer) = reader.get(&format!("/api/{page}?filter={encoded}"));
        assert_eq!(status, 200, "{filter}: {answer}");
        serde_json::from_str(&answer).unwrap()
    };
    let (mut some, mut undecided) = (0, 0);
    for filter in [
        "",
        "labels.site == 'brisk' && labels.role in ['kiosk', 'gate'] && labels.zone == 'pier'",
        "labels.zone == 'quay'",
        "labels.site == 'auken'",
        "labels.site != 'auken'",
        "labels['site'] == ''",
        "has(labels.role)",
        "!has(labels.site) || labels.role == 'gate'",
        "labels.site in ['brisk', 'tern']",
        "labels.site > 'auken' && labels.role < 'h'",
        "node.name.startsWith('kiosk-')",
        "'kiosk-auken-1' == node.name",
        "node.status == 'in_line'",
        "node.status == 'drift_found'",
        "node.status == 'never_reported'",
        "node.status == 'revoked'",
        "node.status == 'silent' || node.last_contact == 'silent'",
        "!(node.status == 'in_line' || node.status == 'drift_found')",
        "node.status in ['drift_found', 'revoked']",
        "node.last_contact != 'on_time'",
        "node.mode == 'observe'",
        "node.stage == 'open-water' && 'kiosks' in node.groups",
        "node.open_episodes > 0",
        "1 <= node.open_episodes",
        "about.arch != 'none'",
        "about.arch == 'none' || labels.role == 'kiosk'",
        "!(about.arch != 'none') || labels.site == ''",
        "about.cpu.count == 3 && about.os.family in ['debian']",
        "about.cpu.count < 3 && about.arch.startsWith('x')",
    ] {
        // With a loop in it, the database cannot decide it.
        let one_by_one =
            format!("({}) && [1].exists(one, one == 1)", if filter.is_empty() { "true" } else { filter });
        let (list, listed) = (answer_of("nodes", filter), answer_of("nodes", &one_by_one));
        assert_eq!(
            (names(&list["nodes"]), &list["undecidable"]),
            (names(&listed["nodes"]), &listed["undecidable"]),
            "{filter}"
        );
        for fleet in [answer_of("overview", filter), answer_of("overview", &one_by_one)] {
            let of_signs: BTreeMap<String, u64> = fleet["statuses"]
                .as_array()
                .unwrap()
                .iter()
                .map(|one| (one["status"].to_string(), one["nodes"].as_u64().unwrap()))
                .collect();
            let mut counted = BTreeMap::new();
            for node in list["nodes"].as_array().unwrap() {
                *counted.entry(node["status"].to_string()).or_insert(0) += 1;
            }
            assert_eq!(
                (of_signs, &fleet["undecidable"], &fleet["total"]),
                (counted, &list["undecidable"], &Value::from(4)),
                "{filter}"
            );
            let mut ticks = names(&fleet["ticks"]);
            ticks.sort_unstable();
            assert_eq!(ticks, names(&list["nodes"]), "{filter}");
        }
        some += names(&list["nodes"]).len();
        undecided += list["undecidable"].as_u64().unwrap();
    }
    assert!(
        some > 40 && undecided >= 2,
        "the filters are about something: {some} nodes, {undecided} not decided"
    );
}

fn names(nodes: &Value) -> Vec<&str> {
    nodes.as_array().into_iter().flatten().filter_map(|node| node["name"].as_str()).collect()
}
