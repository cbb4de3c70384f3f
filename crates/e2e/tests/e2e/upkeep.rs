//! Daily upkeep: a stage advances, nodes are labelled by filter and by table, and where a baseline is used is told.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use serde_json::{Value, json};
use std::fs;

#[test]
fn a_stage_serves_what_an_earlier_one_serves_previewed_and_gone_back() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    well(&fleet.client(&["stage", "make", "far-isles"]));
    let serves = || {
        fleet.query("select coalesce(string_agg(kit || '@' || version, ' ' order by kit), '') from served where stage = 'far-isles' and until_at is null")
    };
    refused(
        &fleet.client(&["stage", "advance", "far-isles", "open-water"]),
        "far-isles is no earlier stage than open-water: the stages are",
    );
    refused(&fleet.client(&["stage", "advance", "open-watr", "far-isles"]), "there is no stage `open-watr`");
    refused(
        &fleet.client(&["stage", "advance", "open-water", "far-isles", "--kit", "quay-bas"]),
        "there is no kit that the stage serves `quay-bas`",
    );
    // What it serves has to go together.
    refused(
        &fleet.client(&["stage", "advance", "open-water", "far-isles", "--kit", "kiosk-floor"]),
        "kiosk-floor@1.0.0 requires quay-base",
    );
    well(&fleet.client(&["stage", "advance", "open-water", "far-isles", "--preview"]));
    assert_eq!(serves(), "");
    let one = fleet.client(&[
        "stage",
        "advance",
        "open-water",
        "far-isles",
        "--kit",
        "quay-base",
        "--because",
        "first the base",
    ]);
    assert!(well(&one).contains("far-isles serves what open-water serves of quay-base"), "{}", one.stdout);
    assert_eq!(serves(), "quay-base@1.3.0");
    well(&fleet.client(&["stage", "advance", "open-water", "far-isles"]));
    assert_eq!(serves(), "gate-reader@2.1.0 kiosk-floor@1.0.0 quay-base@1.3.0");
    refused(
        &fleet.client(&["stage", "advance", "open-water", "far-isles"]),
        "far-isles serves what open-water serves already",
    );
    let change = format!("C{}", fleet.query("select max(no) from change where status = 'handed_out'"));
    well(&fleet.client(&["change", "go-back", &change]));
    assert_eq!(serves(), "quay-base@1.3.0");
    let mut reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    assert_eq!(reader.post("/api/stages/far-isles/advance", r#"{"from": "open-water"}"#).0, 403);
}

#[test]
fn nodes_are_labelled_by_filter_and_by_table_all_or_none_and_groups_follow() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "spare=yes"]);
    joined(&fleet, "kiosk-brisk-1", &["role=kiosk"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    well(&group(&fleet, &kiosk, "name = \"night-trial\"\npriority = 20\nnodes = [\"kiosk-auken-1\"]\n"));
    let all =
        || fleet.query("select string_agg(name || ' ' || labels::text, chr(10) order by name) from node");
    well(&fleet.client(&["node", "label", "--filter", "labels.role == \"kiosk\"", "--set", "tier=front"]));
    assert_eq!(
        fleet.query("select string_agg(name, ' ' order by name) from node where labels ->> 'tier' = 'front'"),
        "kiosk-auken-1 kiosk-brisk-1"
    );
    refused(
        &fleet.client(&["node", "label", "--filter", "labels.role == \"till\"", "--set", "tier=front"]),
        "no node matches",
    );
    let before = all();

    let table = |text: &str| {
        fleet.client(&[
            "node",
            "table",
            &kiosk.document("nodes.csv", text),
            "--because",
            "the quays were renumbered",
        ])
    };
    for (text, said) in [
        (
            "name,site\nkiosk-auken-9,auken\nkiosk-auken-8,auken\n",
            "there is no node kiosk-auken-9\nthere is no node kiosk-auken-8",
        ),
        ("name,rename_to\nkiosk-auken-1,gate-auken-1\n", "there is a node gate-auken-1 already"),
        ("name,rename_to\nkiosk-auken-1,till-1\nkiosk-brisk-1,till-1\n", "two nodes would be called till-1"),
        ("name,rename_to\nkiosk-auken-1,till 1\n", "line 2: \"till 1\": a node's name has"),
        ("node,site\nkiosk-auken-1,auken\n", "no column is called `name`"),
        ("name,site\nkiosk-auken-1\n", "line 2: it has 1 cells, and the first line names 2 columns"),
        ("name,role\nkiosk-auken-1,kiosk\n", "all nodes have the labels and names of the table already"),
    ] {
        refused(&table(text), said);
        assert_eq!(all(), before);
    }
    let whole = "name,rename_to,site,spare\nkiosk-auken-1,kiosk-auken-7,\"auken, west\",-\nkiosk-brisk-1,,brisk,\ngate-auken-1,,,\n";
    let changed = table(whole);
    well(&changed);
    assert_eq!(
        all(),
        "gate-auken-1 {\"role\": \"gate\", \"site\": \"auken\"}\n\
         kiosk-auken-7 {\"role\": \"kiosk\", \"site\": \"auken, west\", \"tier\": \"front\"}\n\
         kiosk-brisk-1 {\"role\": \"kiosk\", \"site\": \"brisk\", \"tier\": \"front\"}"
    );
    let group =
        fleet.query("select body -> 'nodes' from node_group where name = 'night-trial' and until_at is null");
    assert_eq!(group, "[\"kiosk-auken-7\"]");
    let change = format!("C{}", fleet.query("select max(no) from change where status = 'handed_out'"));
    well(&fleet.client(&["change", "go-back", &change]));
    assert_eq!(all(), before, "it is gone back whole");
}

#[test]
fn where_a_baseline_is_used_is_told_by_group_and_by_what_includes_it() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&group(
        &fleet,
        &kiosk,
        "name = \"gates\"\npriority = 5\n\n[[assignments]]\nkit = \"gate-reader\"\nbaseline = \"reader\"\n",
    ));
    well(&fleet.client(&["node", "assign", "gate-auken-1", "quay-base/login"]));
    let uses = |name: &str| -> Value {
        serde_json::from_str(well(&fleet.client(&["kit", "uses", name, "--output", "json"])))
            .expect("it is there")
    };
    let login = uses("quay-base/login");
    let given = login[0]["given_by"].as_array().expect("it is there");
    assert!(
        given.contains(&json!({ "group": "this node", "assigned": "quay-base/login", "nodes": 1 })),
        "{login}"
    );
    // Reckoned from the nodes' own sources.
    let nodes = fleet.query("select count(*) from node_wanted w join state_sources s on s.id = w.sources where s.body ->> 'baselines' like '%/kiosk-lockdown%'");
    let lockdown = uses("kiosk-floor/kiosk-lockdown");
    assert_eq!(lockdown[0]["given_by"][0]["nodes"].to_string(), nodes);
    let reader = fleet.client(&["kit", "uses", "gate-reader/reader"]);
    assert!(well(&reader).contains("assigned to no node by gates"), "{}", reader.stdout);
    refused(
        &fleet.client(&["kit", "uses", "kiosk-floor/kiosk-lockdwn"]),
        "did you mean `kiosk-floor/kiosk-lockdown`?",
    );
}

#[test]
fn the_desired_state_is_exported_and_imported_as_one_document_without_losing_anything() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let exported = well(&fleet.client(&["desired", "export"])).to_owned();
    let import = |text: &str, more: &[&str]| {
        fleet.client(&[&["desired", "import", &kiosk.document("desired.toml", text)], more].concat())
    };
    refused(&import(&exported, &[]), "the desired state is as the document says already");
    let state = || {
        fleet.query(
            "select string_agg(body::text, chr(10) order by name) from node_group where until_at is null",
        )
    };
    let before = state();

    for (text, said) in [
        (
            exported.replace("name = \"everyone\"", "name = \"everybody\""),
            "the group everyone is missing: it has all nodes and stays",
        ),
        (
            exported.replace("kiosk-floor@1.0.0", "kiosk-floor@1.0.9"),
            "there is no release `kiosk-floor@1.0.9`",
        ),
        (exported.replace("    \"quay-base@1.3.0\",\n", ""), "requires quay-base"),
        (
            exported.replace("baseline = \"kiosk-lockdown\"", "baseline = \"kiosk-lockdwn\""),
            "the kit kiosk-floor has no baseline `kiosk-lockdwn`",
        ),
        (exported.replace("priority = 10", "priority = \"high\""), "invalid type"),
        (exported.replace("filter = ", "filtr = "), "unknown field"),
    ] {
        assert_ne!(text, exported, "{said}");
        refused(&import(&text, &[]), said);
    }
    let mut reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    assert_eq!(reader.get("/api/desired").0, 200, "who may see it may export it");
    assert_eq!(reader.post("/api/desired", r#"{"document": {"stages": [], "groups": []}}"#).0, 403);
    assert_eq!(state(), before);

    // One document alters a group, makes another, and is gone back whole.
    let edited = exported.replace("priority = 10", "priority = 11")
        + "\n[[groups]]\nname = \"gates\"\npriority = 5\nfilter = \"labels.role == 'gate'\"\n\n[groups.settings]\nmode = \"observe\"\n";
    assert!(well(&import(&edited, &["--preview"])).contains("nothing is handed out yet"));
    assert_eq!(state(), before);
    well(&import(&edited, &["--because", "from the repository, 4c1f92"]));
    assert_eq!(fleet.query("select count(*) from node_group where until_at is null and (name = 'gates' or body ->> 'priority' = '11')"), "2");
    refused(&import(&edited, &[]), "already");
    let again = well(&fleet.client(&["desired", "export"])).to_owned();
    refused(&import(&again, &[]), "already");
    // A document that somebody commented is made to say what the server has, and keeps its comments.
    let noted = kiosk.document(
        "noted.toml",
        &exported
            .replace("priority = 10", "priority = 10 # asked for by the tenants")
            .replace("[[stages]]", "# Reviewed.\n[[stages]]"),
    );
    let update = || fleet.client(&["desired", "export", "--update", &noted]);
    assert!(well(&update()).contains("says what the server has now"));
    let text = fs::read_to_string(&noted).unwrap();
    assert!(
        text.contains("priority = 11 # asked for by the tenants")
            && text.contains("# Reviewed.")
            && text.contains("gates"),
        "{text}"
    );
    refused(&import(&text, &[]), "already");
    assert!(well(&update()).contains("it stays as it is"));
    assert_eq!(fs::read_to_string(&noted).unwrap(), text);
    let broken = kiosk.document("broken.toml", "[[groups\n");
    refused(&fleet.client(&["desired", "export", "--update", &broken]), "TOML parse error");
    assert_eq!(fs::read_to_string(&broken).unwrap(), "[[groups\n");
    let change = format!("C{}", fleet.query("select max(no) from change where status = 'handed_out'"));
    well(&fleet.client(&["change", "go-back", &change]));
    assert_eq!(well(&fleet.client(&["desired", "export"])), exported);
}

#[test]
fn the_catalogue_of_controls_is_part_of_the_document() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let import = |text: &str, more: &[&str]| {
        fleet.client(&[&["desired", "import", &kiosk.document("desired.toml", text)], more].concat())
    };
    let versions = || fleet.query("select count(*) from control_catalogue");
    let without = well(&fleet.client(&["desired", "export"])).to_owned();
    assert!(!without.contains("[controls]"), "there is none: {without}");
    let controls = "\n[controls]\ntitle = \"Skerry Line\"\n\n[[controls.controls]]\nid = \"SK-7\"\ntitle = \"Kiosk shows tickets only\"\n";
    let with = format!("{without}{controls}");

    // What is wrong with it is told before anything is handed out.
    let before = fleet.query("select max(no) from change");
    let twice = with.replace("priority = 10", "priority = 11")
        + "\n[[controls.controls]]\nid = \"SK-7\"\ntitle = \"Again\"\n";
    refused(&import(&twice, &[]), "SK-7");
    assert_eq!((fleet.query("select max(no) from change"), versions()), (before, "0".to_owned()));
    let preview = import(&with, &["--preview"]);
    assert!(well(&preview).is_empty() && preview.stderr.contains("new      SK-7"), "{}", preview.stderr);
    assert_eq!(versions(), "0");
    let set = import(&with, &["--because", "from the repository, 4c1f92"]);
    assert!(well(&set).contains("version 1 is valid from now on"), "{}", set.stdout);
    refused(&import(&with, &[]), "already");
    let exported = well(&fleet.client(&["desired", "export"])).to_owned();
    assert!(exported.contains("[controls]") && exported.contains("SK-7"), "{exported}");
    refused(&import(&exported, &[]), "already");
    // Both at once; and a document that does not have it leaves it alone.
    let both =
        exported.replace("priority = 10", "priority = 11").replace("tickets only", "tickets and times");
    let done = import(&both, &[]);
    assert!(
        well(&done).contains("altered  SK-7") && done.stdout.contains("version 2 is valid"),
        "{}",
        done.stdout
    );
    assert_eq!(
        fleet.query("select body ->> 'priority' from node_group where name = 'kiosks' and until_at is null"),
        "11"
    );
    well(&import(&without, &[]));
    assert_eq!(versions(), "2");
    let reader = fleet.token("pia.lund", "operator");
    let file = kiosk.document("desired.toml", &with);
    refused(&fleet.client_by(&reader, &["desired", "import", &file, "--request"]), "control.edit");
}
