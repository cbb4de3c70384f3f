//! Controls: the catalogue with its scopes, gaps and versions, imported ones, and machines that never joined.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Ended, Fleet};
use serde_json::{Value, json};
use std::path::Path;

const CATALOGUE: &str = r#"
[[controls]]
id = "SK-3"
title = "No shared accounts"

[[controls]]
id = "SK-7"
title = "Kiosk shows tickets only"
scope = "labels.role == 'kiosk'"

[[controls]]
id = "SK-11"
title = "Vouchers are printed by the depot only"
scope = "labels.role == 'depot'"
"#;

fn json_of(fleet: &Fleet, arguments: &[&str]) -> Value {
    let arguments = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&arguments))).expect("as asked")
}

fn set(fleet: &Fleet, file: &Path, text: &str, more: &[&str]) -> Ended {
    std::fs::write(file, text).expect("it is written");
    let arguments = [&["control", "set", file.to_str().expect("UTF-8")], more].concat();
    fleet.client(&arguments)
}

fn control<'v>(controls: &'v Value, id: &str) -> &'v Value {
    let all = controls["controls"].as_array().expect("as asked").iter();
    all.clone().find(|one| one["id"] == id).unwrap_or_else(|| panic!("{id}: {controls}"))
}

/// The nodes that a node's page says have a clause for a control: another way than by the figures.
fn has_clause(fleet: &Fleet, node: &str, id: &str) -> bool {
    let (_, body) = fleet.curl().with_token(fleet.administrator()).get(&format!("/api/nodes/{node}/clauses"));
    let clauses: Value = serde_json::from_str(&body).expect("as asked");
    let mut all = clauses["clauses"].as_array().expect("as asked").iter();
    all.any(|clause| clause["satisfies"].as_array().expect("as asked").iter().any(|one| one == id))
}

#[test]
fn a_control_applies_to_its_scope_and_nodes_there_without_a_clause_are_gaps_now_and_as_of_then() {
    let fleet = Fleet::start();
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("controls.toml");
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let _depot = joined(&fleet, "depot-print-1", &["role=depot"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    let before_any = json_of(&fleet, &["control", "list"]);
    assert_eq!(before_any["version"], Value::Null);
    assert_eq!(control(&before_any, "SK-7")["in_scope"], Value::Null, "clauses name it: {before_any}");

    // What would be other than before is shown first.
    let preview = set(&fleet, &file, CATALOGUE, &["--preview"]);
    assert!(well(&preview).contains("new      SK-11 SK-3 SK-7"), "{}", preview.stdout);
    assert_eq!(fleet.query("select count(*) from control_catalogue"), "0");
    let done = set(&fleet, &file, CATALOGUE, &["--because", "the controls of this year"]);
    assert!(well(&done).contains("version 1 is valid from now on"), "{}", done.stdout);
    let reader = fleet.token("pia.lund", "reader");
    let refused = fleet.client_by(&reader, &["control", "set", file.to_str().expect("UTF-8")]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("control.edit"), "{}", refused.stderr);

    let listed = json_of(&fleet, &["control", "list"]);
    let kiosks = control(&listed, "SK-7");
    assert!(has_clause(&fleet, "kiosk-auken-1", "SK-7") && !has_clause(&fleet, "depot-print-1", "SK-7"));
    assert_eq!((&kiosks["in_scope"], &kiosks["gaps"]), (&1.into(), &0.into()), "{listed}");
    assert_eq!(kiosks["nodes"]["without_deviation"], 1, "{listed}");
    let depot = control(&listed, "SK-11");
    assert_eq!(
        (&depot["in_scope"], &depot["gaps"], &depot["rate_basis_points"]),
        (&1.into(), &1.into(), &Value::Null)
    );
    let gaps = fleet.client(&["control", "gaps"]);
    let nobody =
        "SK-11 (for nodes where labels.role == 'depot'): 1 node without a clause for it\n  depot-print-1\n";
    assert!(well(&gaps).contains(nobody), "{}", gaps.stdout);
    let table = fleet.client(&["control", "list"]);
    assert!(
        well(&table).contains("SK-11 applies to nodes where labels.role == 'depot': not applicable to 1")
            && table.stdout.contains("SK-7 Kiosk shows tickets only"),
        "{}",
        table.stdout
    );
    let figures = fleet.client(&["compliance", "--by", "control"]);
    assert!(well(&figures).contains("SK-7 Kiosk shows tickets only"), "{}", figures.stdout);
    let then = listed["as_of"].as_str().expect("as asked").to_owned();

    // Two who set it at once do not overwrite each other.
    let narrower = CATALOGUE.replace("labels.role == 'depot'", "labels.role == 'bridge'");
    well(&set(&fleet, &file, &narrower, &["--unless-changed-after", "1"]));
    let late = set(&fleet, &file, CATALOGUE, &["--unless-changed-after", "1"]);
    assert!(
        late.stderr.contains("set by ilse.maren since version 1: version 2 is valid"),
        "{}{}",
        late.stdout,
        late.stderr
    );
    let unaltered = set(&fleet, &file, &narrower, &[]);
    assert!(well(&unaltered).contains("the catalogue is as it was"), "{}", unaltered.stdout);
    let now = json_of(&fleet, &["control", "list"]);
    assert_eq!(control(&now, "SK-11")["in_scope"], 0, "{now}");
    assert!(well(&fleet.client(&["control", "gaps", "SK-11"])).contains("no gaps"));
    let of_all = fleet.client(&["control", "gaps"]);
    assert!(well(&of_all).contains("SK-3 (for all nodes): 1 node"), "{}", of_all.stdout);
    let of_then = json_of(&fleet, &["control", "list", "--as-of", &then]);
    assert_eq!(of_then["controls"], listed["controls"], "the catalogue and scopes of then");
    let gaps_of_then = fleet.client(&["control", "gaps", "SK-11", "--as-of", &then]);
    assert!(well(&gaps_of_then).contains(nobody), "{}", gaps_of_then.stdout);
    let versions = fleet.client(&["control", "versions"]);
    assert!(
        well(&versions).contains("version 2  valid since")
            && versions.stdout.contains("\"the controls of this year\""),
        "{}",
        versions.stdout
    );
    assert_eq!(
        fleet.query("select string_agg(did || ' ' || subject, ', ' order by id) from event where did = 'set the controls'"),
        "set the controls version 1, set the controls version 2"
    );
}

#[test]
fn a_catalogue_with_mistakes_is_refused_whole_and_an_imported_one_keeps_the_scopes() {
    let fleet = Fleet::start();
    let folder = tempfile::tempdir().expect("a folder");
    let (file, imported) = (folder.path().join("controls.toml"), folder.path().join("catalog.json"));
    let wrong = "[[controls]]\nid = \"SK-1\"\ntitle = \"\"\n\n[[controls]]\nid = \"SK-2\"\ntitle = \"Two\"\nparent = \"SK\"\nscope = \"node.status == 'failed'\"\n";
    let refused = set(&fleet, &file, wrong, &[]);
    assert!(
        refused.stderr.contains("3 problems")
            && refused.stderr.contains("line 2, SK-1: its title")
            && refused.stderr.contains("line 6, SK-2: its parent `SK`")
            && refused.stderr.contains("line 6, SK-2: its scope cannot be used"),
        "{}",
        refused.stderr
    );
    // Whoever does not use the client is refused the same.
    let body = json!({ "catalogue": { "controls": [{ "id": "SK-2", "title": "Two", "parent": "SK" }, { "id": "SK-2", "title": "Two" }] } });
    let (status, answer) =
        fleet.curl().with_token(fleet.administrator()).put("/api/controls", &body.to_string());
    assert!(
        status == 422 && answer.contains("its parent `SK`") && answer.contains("before it"),
        "{status} {answer}"
    );
    assert_eq!(fleet.query("select count(*) from control_catalogue"), "0");

    well(&set(&fleet, &file, CATALOGUE, &[]));
    let oscal = json!({ "catalog": {
        "uuid": "0f3c7e9a-51e8-4f0b-9f57-2a3c5f6a7b8c",
        "metadata": { "title": "Skerry Line controls", "last-modified": "2026-10-01T00:00:00Z", "version": "2026", "oscal-version": "1.1.3" },
        "groups": [{ "id": "SK", "title": "On the quay", "controls": [
            { "id": "SK-7", "title": "Kiosk shows tickets only", "parts": [{ "name": "statement", "prose": "A kiosk shows nothing else." }] },
            { "id": "SK-8", "title": "Old", "props": [{ "name": "status", "value": "withdrawn" }] }] }],
    }});
    let done = set(&fleet, &imported, &oscal.to_string(), &[]);
    assert!(
        well(&done).contains("1 control is left out: withdrawn")
            && done.stdout.contains("new      SK\n")
            && done.stdout.contains("altered  SK-7")
            && done.stdout.contains("removed  SK-11 SK-3"),
        "{}",
        done.stdout
    );
    let listed = json_of(&fleet, &["control", "list"]);
    let kept = control(&listed, "SK-7");
    assert_eq!(
        (&kept["scope"], &kept["parent"]),
        (&"labels.role == 'kiosk'".into(), &"SK".into()),
        "{listed}"
    );
    assert_eq!(kept["text"], "A kiosk shows nothing else.");
}

#[test]
fn an_inventory_names_machines_that_never_joined() {
    let fleet = Fleet::start();
    let _kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let _spare = joined(&fleet, "spare-1", &["role=spare"]);
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("machines.csv");
    std::fs::write(&file, "place,name\r\n\"Auken, north quay\",kiosk-auken-1\r\ndepot,depot-print-9\r\n")
        .expect("it is written");
    let path = file.to_str().expect("UTF-8");
    let done = fleet.client(&["asset", "set", path]);
    assert!(
        well(&done).contains("the inventory names 2 machines: 1 never enrolled; 1 node is not in it"),
        "{}",
        done.stdout
    );
    let missing = fleet.client(&["asset", "list", "--never-enrolled"]);
    assert_eq!(well(&missing), "depot-print-9  never enrolled  place=depot\n");
    let all = fleet.client(&["asset", "list"]);
    assert!(well(&all).contains("kiosk-auken-1  of the fleet  place=Auken, north quay"), "{}", all.stdout);
    std::fs::write(&file, "name\nkiosk-auken-1\nkiosk-auken-1\n").expect("it is written");
    let twice = fleet.client(&["asset", "set", path]);
    assert!(twice.stderr.contains("kiosk-auken-1 is there twice"), "{}", twice.stderr);
    assert_eq!(json_of(&fleet, &["control", "list"])["assets"]["assets"], 2, "the one before stays");
}
