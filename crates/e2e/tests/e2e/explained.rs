//! What a node is given is explained: all layers of a value, what a node would get, how settings differ; and an impact says when nodes
//! apply it.

use constans_e2e::story::{KIOSKS, group, joined, kits, publish_and_serve, well};
use constans_e2e::{Ended, Fleet};
use serde_json::Value;

fn json(fleet: &Fleet, arguments: &[&str]) -> Value {
    let arguments = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&arguments))).expect("as asked")
}

#[test]
fn every_layer_of_a_value_is_told_and_what_a_node_would_get_is_what_it_gets() {
    let fleet = Fleet::start();
    let asked = ["node", "would-get", "kiosk-lab-1", "--label", "role=kiosk", "--label", "site=auken"];
    let nothing = fleet.client(&asked);
    assert!(well(&nothing).contains("no baseline: no group of it assigns one"), "{}", nothing.stdout);
    publish_and_serve(&fleet);
    let folder = kits();
    let file = folder.path().join("kiosks.toml");
    std::fs::write(&file, KIOSKS.replace("MODE", "enforce")).expect("it is written");
    well(&fleet.client(&["group", "set", &file.display().to_string()]));
    // No node is there yet, and it is known what one would get.
    let would = json(&fleet, &asked);
    assert_eq!(would["groups"], serde_json::json!(["everyone", "kiosks"]));
    let kiosk = joined(&fleet, "kiosk-lab-1", &["role=kiosk", "site=auken"]);
    well(&kiosk.run(&["daemon", "--once"]));
    let has = json(&fleet, &["node", "why", "kiosk-lab-1"]);
    assert_eq!(has["clauses"], would["clauses"].as_array().map_or(0, Vec::len));
    let addresses = fleet.query(
        "select string_agg(a.address, ' ' order by place) from node_wanted w join effective_state s on s.id = w.state,
            unnest(s.clauses) with ordinality as of_state (c, place) join clause on clause.id = c
            join desired_clause d on d.id = clause.desired join clause_address a on a.id = d.address",
    );
    let foretold: Vec<&str> = would["clauses"]
        .as_array()
        .expect("clauses")
        .iter()
        .filter_map(|one| one["address"].as_str())
        .collect();
    assert_eq!(addresses, foretold.join(" "));
    let wrong = fleet.client(&["node", "would-get", "kiosk-lab-2", "--like", "kiosk-lab-3"]);
    assert!(
        wrong.exit == Some(1) && wrong.stderr.contains("there is no node `kiosk-lab-3`"),
        "{}",
        wrong.stderr
    );

    let why = fleet.client(&["node", "why", "kiosk-lab-1"]);
    for told in [
        "idle_seconds = 45   from the group `kiosks`\n      in place of 90, the default",
        "in place of observe, the default",
    ] {
        assert!(well(&why).contains(told), "{told}: {}", why.stdout);
    }
    let name = "kiosk-floor/kiosk-lockdown.idle_seconds";
    well(&fleet.client(&["node", "param", "kiosk-lab-1", name, "30"]));
    let why = fleet.client(&["node", "why", "kiosk-lab-1"]);
    let layers = "idle_seconds = 30   from the node\n      in place of 45, the group `kiosks`\n      in place of 90, the default";
    assert!(well(&why).contains(layers), "{}", why.stdout);
    assert_eq!(json(&fleet, &["node", "why", "kiosk-lab-1"])["layers"]["parameters"][0]["counts_from"], 2);
}

#[test]
fn nodes_whose_settings_differ_are_compared_with_who_did_not_acknowledge_them() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let gate = joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    for node in [&kiosk, &gate] {
        // The second one shows that it has what the first one was answered.
        well(&node.run(&["check-in"]));
        well(&node.run(&["check-in"]));
    }
    let compared = fleet.client(&["node", "compare-settings"]);
    for told in [
        "2 nodes differ in 3 settings\nmode:\n",
        "  enforce, the group kiosks: 1 node   kiosk-auken-1",
        "  observe, default: 1 node   gate-auken-1",
        "all have acknowledged",
    ] {
        assert!(well(&compared).contains(told), "{told}: {}", compared.stdout);
    }
    well(&fleet.client(&["node", "setting", "gate-auken-1", "grace_secs", "30 min"]));
    let one = fleet.client(&["node", "compare-settings", "labels.role == 'gate'"]);
    assert!(well(&one).contains("1 node: all settings are the same"), "{}", one.stdout);
    assert!(one.stdout.contains("gate-auken-1  handed out"), "{}", one.stdout);
    well(&gate.run(&["check-in"]));
    well(&gate.run(&["check-in"]));
    let one = fleet.client(&["node", "compare-settings", "labels.role == 'gate'"]);
    assert!(well(&one).contains("all have acknowledged"), "{}", one.stdout);
}

#[test]
fn an_impact_says_when_nodes_apply_it_and_which_pending_restarts_come_with_it() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "kiosk-brisk-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    let observing = group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe"));
    well(&observing);
    well(&fleet.client(&["node", "setting", "kiosk-brisk-1", "mode", "enforce"]));
    kiosk.root.write("/run/reboot-required.pkgs", "linux-image-amd64\n").expect("it is written");
    kiosk.root.write("/run/reboot-required", "").expect("it is written");
    well(&kiosk.run(&["check-in"]));
    let name = "kiosk-floor/kiosk-lockdown.idle_seconds";
    let preview = fleet.client(&["group", "param", "kiosks", name, "60", "--preview"]);
    for told in ["  applied on 1 node with the next run", "  not applied on 1 node: mode is observe"] {
        assert!(well(&preview).contains(told), "{told}: {}", preview.stdout);
    }
    // Letting nodes restart names those that would, and when.
    let left = fleet.client(&["group", "setting", "kiosks", "restart", "when_needed", "--preview"]);
    let told = "kiosk-auken-1 has a restart pending since";
    assert!(
        well(&left).contains(told) && left.stdout.contains("it is left: mode is observe"),
        "{}",
        left.stdout
    );
    well(&fleet.client(&["node", "setting", "kiosk-auken-1", "mode", "enforce"]));
    let next = fleet.client(&["group", "setting", "kiosks", "restart", "when_needed", "--preview"]);
    assert!(
        well(&next).contains("(linux-image-amd64): with its next run")
            && !next.stdout.contains("kiosk-brisk-1 has"),
        "{}",
        next.stdout
    );
}

#[test]
fn a_kit_is_published_served_and_assigned_by_one_change() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, "name = \"kiosks\"\npriority = 10\nfilter = \"labels.role == 'kiosk'\"\n"));
    let folder = kits();
    let kit = folder.path().join("kiosk-floor");
    let manifest = kit.join("kit.toml");
    let text = std::fs::read_to_string(&manifest).expect("the kit");
    std::fs::write(&manifest, text.replace("1.0.0", "1.0.1")).expect("it is written");
    let kit = kit.display().to_string();
    let publish = |more: &[&str]| fleet.client(&[&["kit", "publish", &kit], more].concat());
    let refused = |ended: &Ended, said: &str| {
        assert!(
            ended.exit != Some(0) && ended.stderr.contains(said),
            "{said}: {}{}",
            ended.stdout,
            ended.stderr
        );
    };
    let releases = || {
        fleet.query("select string_agg(version, ' ' order by version) from release where kit = 'kiosk-floor'")
    };
    refused(&publish(&["--preview"]), "--serve STAGE");
    refused(&publish(&["--assign", "kiosks"]), "--serve");
    let wrong = ["--serve", "open-water", "--assign", "kiosks", "--baseline", "kiosk-lockdwn"];
    refused(&publish(&wrong), "kiosk-floor has no baseline `kiosk-lockdwn`");
    assert_eq!(releases(), "1.0.0", "nothing was published");
    let changes = || fleet.query("select count(*) from change where status = 'handed_out'");
    let before = changes();
    let done = publish(&["--serve", "open-water", "--assign", "kiosks", "--because", "the winter timetable"]);
    for told in [
        "published kiosk-floor@1.0.1",
        "open-water serves kiosk-floor@1.0.1; kiosks is assigned kiosk-floor/kiosk-lockdown",
        "desired state changed on 1 node",
    ] {
        assert!(well(&done).contains(told), "{told}: {}", done.stdout);
    }
    let after: u64 = changes().parse().expect("a number");
    assert_eq!(after, before.parse::<u64>().expect("a number") + 1, "one change");
    assert!(
        well(&fleet.client(&["node", "why", "kiosk-auken-1"])).contains("kiosk-floor@1.0.1/kiosk-lockdown")
    );
    // Going back takes both back.
    let change = format!("C{}", fleet.query("select max(no) from change where status = 'handed_out'"));
    well(&fleet.client(&["change", "go-back", &change, "--confirm", "1"]));
    assert!(well(&fleet.client(&["node", "why", "kiosk-auken-1"])).contains("no desired state yet"));
    // Whoever may not hand out requests both at once.
    let (stages, asker) = ("/api/stages/open-water/serve", fleet.token("pia.lund", "publisher"));
    let body = r#"{"releases": ["kiosk-floor@1.0.1"], "assign": [{"group": "kiosks", "kit": "kiosk-floor", "baseline": "kiosk-lockdown"}], "request": true}"#;
    let (status, answer) = fleet.curl().with_token(&asker).post(stages, body);
    assert!(status == 200 && answer.contains("\"requested\":true"), "{status} {answer}");
    let reader = fleet.token("runa.skare", "reader");
    assert_eq!(fleet.curl().with_token(&reader).post(stages, body).0, 403);
}
