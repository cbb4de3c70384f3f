//! Machines that are approved together and placed in one form, and those that admission rules let in.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Ended, Fleet, Machine};
use serde_json::{Value, json};
use std::path::Path;

/// A machine that asks with an invitation.
fn asks(invitation: &str, name: &str) -> (Machine, Ended) {
    let machine = Machine::fresh();
    let ended = ask(&machine, invitation, name);
    (machine, ended)
}

fn ask(machine: &Machine, invitation: &str, name: &str) -> Ended {
    machine.run(&["join", "--invitation-file", invitation, "--name", name, "--wait", "0"])
}

fn listed(fleet: &Fleet, arguments: &[&str]) -> Value {
    serde_json::from_str(well(&fleet.client(&[arguments, &["--output", "json"]].concat()))).unwrap()
}

fn refused(ended: &Ended, said: &[&str]) {
    assert_ne!(ended.exit, Some(0), "{}", ended.stdout);
    said.iter().for_each(|part| assert!(ended.stderr.contains(part), "{part} in {}", ended.stderr));
}

/// The id of an invitation, of its one line.
fn id_of(fleet: &Fleet) -> String {
    listed(fleet, &["invitation", "list"])[0]["id"].as_str().unwrap().to_owned()
}

#[test]
fn several_machines_are_approved_together_and_placed_from_their_first_moment() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&group(&fleet, &kiosk, "name = \"night-trial\"\npriority = 20\n\n[settings]\ninterval_secs = 60\n"));
    let invitation = fleet.invite(&kiosk, &["--uses", "10", "--label", "role=kiosk"]);
    let lab: Vec<Machine> = (1..=3).map(|at| asks(&invitation, &format!("kiosk-lab-{at}")).0).collect();
    let (double, _) = asks(&invitation, "kiosk-lab-1");
    let (claims, _) = asks(&invitation, "kiosk-auken-1");
    let nodes = || fleet.query("select count(*) from node");

    // Everything that stands against it is told at once, and nobody is approved.
    let all = fleet.client(&["join", "approve", "--invitation", &id_of(&fleet), "--yes"]);
    refused(
        &all,
        &["two requests have the name kiosk-lab-1; the name kiosk-auken-1 is in use", "none was approved"],
    );
    assert_eq!(nodes(), "1");
    let waiting = listed(&fleet, &["join", "list"]);
    let used = waiting.as_array().unwrap().iter().find(|one| one["name"] == "kiosk-auken-1").unwrap();
    assert!(
        used["name_used_by"]["fingerprint"].is_string() && used["name_used_by"]["last_contact"].is_string()
    );
    let second = waiting.as_array().unwrap().iter().rfind(|one| one["name"] == "kiosk-lab-1").unwrap();
    well(&fleet.client(&[
        "join",
        "deny",
        second["id"].as_str().unwrap(),
        "--because",
        "another one has the name",
    ]));
    refused(&ask(&double, &invitation, "kiosk-lab-1"), &["another one has the name"]);

    // What is mistyped in the form is told, and nobody is approved.
    for (more, said) in [
        (&["--group", "nigt-trial"][..], "did you mean `night-trial`?"),
        (&["--baseline", "gate-reader/reeder"], "the kit gate-reader has no baseline `reeder`"),
        (&["--baseline", "gate-reader"], "a baseline is written with its kit"),
        (&["--label", "si te=auken"], "is no key of a label"),
        (&["--name", "kiosk-lab-9"], "cannot all be kiosk-lab-9"),
        (&["--mode", "enforced"], "invalid value 'enforced'"),
    ] {
        refused(&fleet.client(&[&["join", "approve", "kiosk-lab-*", "--yes"], more].concat()), &[said]);
    }
    refused(
        &fleet.client(&["join", "approve", "kiosk-lap-*", "--yes"]),
        &["no waiting request fits kiosk-lap-*"],
    );
    let unasked = fleet.client(&["join", "approve", "kiosk-lab-*"]);
    refused(&unasked, &["3 machines would be approved", "--yes", "desired 19 clauses"]);
    assert_eq!(nodes(), "1");

    // What would become of them is shown, and is what becomes of them.
    let form = [
        "kiosk-lab-*",
        "--label",
        "site=brisk",
        "--group",
        "night-trial",
        "--mode",
        "observe",
        "--baseline",
        "gate-reader/reader",
    ];
    let preview = listed(&fleet, &[&["join", "approve", "--preview"], &form[..]].concat());
    assert_eq!(
        (
            nodes().as_str(),
            fleet.query("select count(*) from node_group where name = 'night-trial'").as_str()
        ),
        ("1", "1")
    );
    let approved = listed(&fleet, &[&["join", "approve", "--yes"], &form[..]].concat());
    assert_eq!(approved["nodes"], preview["nodes"]);
    let first = &approved["nodes"][0];
    assert_eq!(
        first["labels"],
        json!({ "role": "kiosk", "site": "brisk" }),
        "the form is over the invitation"
    );
    assert_eq!(first["groups"], json!(["everyone", "kiosks", "night-trial"]));
    assert_eq!((&first["mode"], &first["stage"]), (&json!("observe"), &json!("open-water")));
    assert!(approved["change"].is_i64(), "the group names them by a change");
    // Reckoned by itself: the clauses of the kiosk that is there, and those of the baseline of its own.
    let clauses = |name: &str| {
        fleet.query(&format!(
            "select string_agg(a.address, chr(10) order by a.address) from node n join node_wanted w on w.node = n.id join effective_state s on s.id = w.state,
                unnest(s.clauses) c join clause on clause.id = c join desired_clause d on d.id = clause.desired join clause_address a on a.id = d.address
             where n.name = '{name}'"
        ))
    };
    let (of_lab, of_kiosk) = (clauses("kiosk-lab-1"), clauses("kiosk-auken-1"));
    assert_eq!(first["clauses"], of_lab.lines().count());
    assert!(
        of_kiosk.lines().all(|address| of_lab.contains(address)) && of_lab.contains("package:gate-reader"),
        "{of_lab}"
    );
    assert!(!of_kiosk.contains("package:gate-reader"), "it is their own");
    let handed_out = fleet.query("select count(*) from change_node c join node n on n.id = c.node where n.name = 'kiosk-lab-2' and c.is_new");
    assert_eq!(handed_out, "1", "it was placed whole from its first moment");

    let connected = ask(&lab[0], &invitation, "kiosk-lab-1");
    assert!(well(&connected).contains("as kiosk-lab-1"), "{}", connected.stdout);
    let why = fleet.client(&["node", "why", "kiosk-lab-1"]);
    assert!(well(&why).contains("mode             observe                  this node"), "{}", why.stdout);

    // The one that claims a name is let in under another, and a group of two people takes nobody this way.
    well(&fleet.client(&["group", "second-person", "night-trial", "yes"]));
    let asked = format!("C{}", fleet.query("select max(no) from change"));
    well(&fleet.client_by(&fleet.token("tor.havik", "approver"), &["change", "approve", &asked]));
    let two = fleet.client(&[
        "join",
        "approve",
        "kiosk-auken-1",
        "--name",
        "kiosk-lab-4",
        "--group",
        "night-trial",
    ]);
    refused(&two, &["changes of the group night-trial need a second person"]);
    well(&fleet.client(&["join", "approve", "kiosk-auken-1", "--name", "kiosk-lab-4"]));
    assert!(well(&ask(&claims, &invitation, "kiosk-auken-1")).contains("as kiosk-lab-4"));
    let decided = fleet.client(&["join", "list", "--approved"]);
    assert!(
        well(&decided).contains("kiosk-auken-1   approved by ilse.maren")
            && decided.stdout.contains("it is kiosk-lab-4 now")
    );
    assert!(well(&fleet.client(&["join", "list", "--denied"])).contains("another one has the name"));

    let mut reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let body = json!({ "requests": [{ "id": second["id"] }] }).to_string();
    for path in ["/api/joining-requests/approve", "/api/joining-requests/deny", "/api/admission-rules"] {
        let (status, answer) = reader.post(path, &body);
        assert_eq!(status, 403, "{path} {answer}");
    }
    let mut approver = fleet.curl().with_token(&fleet.token("sven.dahl", "approver"));
    let many = json!({ "requests": vec![json!({ "id": second["id"] }); 201] }).to_string();
    let (status, answer) = approver.post("/api/joining-requests/approve", &many);
    assert!(status == 422 && answer.contains("from 1 to 200"), "{status} {answer}");
}

#[test]
fn a_rule_lets_in_what_fits_at_once_and_never_who_was_refused() {
    let fleet = Fleet::start();
    let here = Machine::fresh();
    let invitation = fleet.invite(&here, &["--uses", "20", "--label", "role=kiosk"]);
    let (waits, _) = asks(&invitation, "kiosk-lab-1");
    let (bad, _) = asks(&invitation, "kiosk-lab-2");
    well(&fleet.client(&["join", "deny", "kiosk-lab-2", "--because", "not of ours"]));
    let tor = fleet.token("tor.havik", "approver");
    let rule = [
        "admission",
        "add",
        "--name",
        "kiosk-lab-*",
        "--at-most",
        "3",
        "--label",
        "site=brisk",
        "--mode",
        "enforce",
        "--because",
        "the lab of the depot",
    ];

    // Who is let in is told before, and a wide rule is warned about.
    let preview = listed(&fleet, &[&rule[..], &["--preview"]].concat());
    assert_eq!(
        (&preview["no"], &preview["waiting"][0]["name"], &preview["waiting"][0]["waits_because"]),
        (&Value::Null, &json!("kiosk-lab-1"), &Value::Null)
    );
    refused(&fleet.client_by(&tor, &rule), &["whoever has any open invitation", "make it with --yes"]);
    assert_eq!(fleet.query("select count(*) from admission_rule"), "0");
    let made = fleet.client_by(&tor, &[&rule[..], &["--yes"]].concat());
    assert!(
        well(&made).starts_with("A1 is in force") && made.stdout.contains("kiosk-lab-1 was let in"),
        "{}",
        made.stdout
    );
    assert!(
        well(&ask(&waits, &invitation, "kiosk-lab-1")).contains("as kiosk-lab-1"),
        "at once, though it waited"
    );
    let next = asks(&invitation, "kiosk-lab-3").1;
    assert!(well(&next).contains("as kiosk-lab-3"), "let in with its first request: {}", next.stdout);
    let shown = fleet.query(
        "select labels->>'site' || ' ' || (own->'settings'->>'mode') from node where name = 'kiosk-lab-3'",
    );
    assert_eq!(shown, "brisk enforce");

    // Who was refused waits, under its name and with its key; so does who claims a name in use, and who comes too late.
    let again = asks(&invitation, "kiosk-lab-2").1;
    assert!(again.stdout.contains("waiting for approval"), "{}{}", again.stdout, again.stderr);
    refused(&ask(&bad, &invitation, "kiosk-lab-2"), &["not of ours"]);
    assert!(asks(&invitation, "kiosk-lab-1").1.stdout.contains("waiting for approval"));
    assert!(asks(&invitation, "gate-lab-1").1.stdout.contains("waiting for approval"), "it does not fit");
    assert!(well(&asks(&invitation, "kiosk-lab-4").1).contains("as kiosk-lab-4"));
    assert!(asks(&invitation, "kiosk-lab-5").1.stdout.contains("waiting for approval"), "three were let in");
    let waiting = fleet.client(&["join", "list"]);
    for said in [
        "it fits the rule A1, but was refused before under this name or key",
        "it fits the rule A1, but claims a name that another node has",
        "it fits the rule A1, but comes after as many as the rule lets in",
    ] {
        assert!(well(&waiting).contains(said), "{said} in {}", waiting.stdout);
    }
    let whole = listed(&fleet, &["admission", "show", "A1"]);
    assert_eq!(
        (&whole["rule"]["status"], &whole["rule"]["let_in"], &whole["rule"]["made_by"]),
        (&json!("used_up"), &json!(3), &json!("tor.havik"))
    );
    let let_in: Vec<&str> =
        whole["let_in"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(let_in, ["kiosk-lab-4", "kiosk-lab-3", "kiosk-lab-1"]);
    let one = ["admission", "show", "A1", "--filter", "machine.name.endsWith(\"-3\")"];
    let one = &listed(&fleet, &one)["let_in"];
    assert_eq!((one[0]["name"].as_str(), &one[1]), (Some("kiosk-lab-3"), &json!(null)));
    assert_eq!(
        fleet.query("select string_agg(who || ' ' || subject, ', ' order by id) from event where did = 'let in by a rule'"),
        "tor.havik kiosk-lab-1, tor.havik kiosk-lab-3, tor.havik kiosk-lab-4"
    );

    // A rule is only as good as who made it, and ends when it is ended.
    well(
        &fleet.client_by(
            &tor,
            &["admission", "add", "--name", "gate-lab-*", "--because", "gates too", "--yes"],
        ),
    );
    assert_eq!(fleet.query("select count(*) from node where name = 'gate-lab-1'"), "1", "it waited");
    well(&fleet.client(&["person", "take", "tor.havik", "approver"]));
    assert!(asks(&invitation, "gate-lab-2").1.stdout.contains("waiting for approval"));
    assert!(
        well(&fleet.client(&["admission", "list"]))
            .contains("A2   lets nobody in: tor.havik may no longer approve requests")
    );
    well(&fleet.client(&["admission", "end", "A2"]));
    refused(&fleet.client(&["admission", "end", "A2"]), &["there is no admission rule in force `A2`"]);
    well(&fleet.client(&["person", "grant", "tor.havik", "approver"]));
    assert!(asks(&invitation, "gate-lab-3").1.stdout.contains("waiting for approval"), "it was ended");
}

#[test]
fn a_table_names_the_machines_that_are_expected_with_their_keys_and_labels() {
    let fleet = Fleet::start();
    let here = Machine::fresh();
    let invitation = fleet.invite(&here, &["--uses", "20"]);
    let (first, waiting) = asks(&invitation, "kiosk-lab-1");
    let key = waiting.stdout.lines().next().unwrap().rsplit(' ').next().unwrap().to_owned();
    let other = "0".repeat(64);
    let table = |text: &str| here.document("expected.csv", text);
    let add = |table: &str| {
        fleet.client(&["admission", "add", "--table", table, "--because", "bought in November"])
    };
    for (text, said) in [
        ("name,site\nkiosk lab,auken\n", "line 2: \"kiosk lab\": a node's name has"),
        ("host,site\nkiosk-lab-1,auken\n", "no column is called `name`"),
        ("name,fingerprint\nkiosk-lab-1,4c1f\n", "line 2: a fingerprint has 64 hexadecimal digits"),
        ("name\nkiosk-lab-1\nkiosk-lab-1\n", "line 3: kiosk-lab-1 is named in line 2 already"),
    ] {
        refused(&add(&table(text)), &[said]);
    }
    let missing = Path::new(&table("")).with_file_name("none.csv");
    refused(&add(missing.to_str().unwrap()), &["none.csv", "name a CSV file"]);
    assert_eq!(fleet.query("select count(*) from admission_rule"), "0");

    let spaced: String = key
        .to_uppercase()
        .as_bytes()
        .chunks(2)
        .map(|pair| String::from_utf8_lossy(pair).into_owned() + ":")
        .collect();
    let rows = format!(
        "name,fingerprint,site\nkiosk-lab-1,{},brisk\nkiosk-lab-2,{other},brisk\nkiosk-lab-3,,corran\n",
        spaced.trim_end_matches(':')
    );
    let made = fleet.client(&[
        "admission",
        "add",
        "--table",
        &table(&rows),
        "--because",
        "bought in November",
        "--yes",
    ]);
    assert!(well(&made).contains("kiosk-lab-1 was let in"), "{}", made.stdout);
    assert!(well(&ask(&first, &invitation, "kiosk-lab-1")).contains("as kiosk-lab-1"));
    assert!(asks(&invitation, "kiosk-lab-2").1.stdout.contains("waiting for approval"), "it has another key");
    assert!(well(&asks(&invitation, "kiosk-lab-3").1).contains("as kiosk-lab-3"));
    let labels =
        fleet.query("select string_agg(name || ' ' || (labels->>'site'), ', ' order by name) from node");
    assert_eq!(labels, "kiosk-lab-1 brisk, kiosk-lab-3 corran");
    let shown = fleet.client(&["admission", "show", "A1"]);
    assert!(
        well(&shown).contains(&format!("expects  kiosk-lab-2   {other}   site=brisk")),
        "{}",
        shown.stdout
    );
}

#[test]
fn a_node_is_given_by_itself_what_groups_give_over_all_of_them_and_is_gone_back() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "kiosk-brisk-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let states = || {
        fleet.query("select string_agg(n.name || ' ' || w.state, ', ' order by n.name) from node n join node_wanted w on w.node = n.id")
    };
    let before = states();
    let parameter = "kiosk-floor/kiosk-lockdown.idle_seconds";
    for (arguments, said) in [
        (
            &["param", "kiosk-auken-1", "kiosk-floor/kiosk-lockdown.idle_second", "30"][..],
            "did you mean `idle_seconds`?",
        ),
        (&["param", "kiosk-auken-1", parameter, "soon"], "takes an integer"),
        (&["setting", "kiosk-auken-1", "interval_secs", "1 s"], "an interval lasts from 5 s to 7 days"),
        (
            &["assign", "kiosk-auken-1", "kiosk-floor/lockdown"],
            "what the node kiosk-auken-1 is given was refused",
        ),
        (&["assign", "kiosk-auken-9", "gate-reader/reader"], "there is no node `kiosk-auken-9`"),
        (
            &["unassign", "kiosk-auken-1", "gate-reader/reader"],
            "this node does not assign gate-reader/reader; it assigns none",
        ),
    ] {
        refused(&fleet.client(&[&["node"], arguments].concat()), &[said]);
    }
    let preview = fleet.client(&["node", "param", "kiosk-auken-1", parameter, "30", "--preview"]);
    assert!(well(&preview).contains("nothing is handed out yet"));
    assert_eq!(states(), before);

    well(&fleet.client(&[
        "node",
        "param",
        "kiosk-auken-1",
        parameter,
        "30",
        "--because",
        "the screen is by the door",
    ]));
    well(&fleet.client(&["node", "setting", "kiosk-auken-1", "mode", "observe"]));
    let assigned =
        fleet.client(&["node", "assign", "kiosk-auken-1", "gate-reader/reader", "--on-drift", "report"]);
    assert!(well(&assigned).contains("desired state changed on 1 node"), "{}", assigned.stdout);
    let why = fleet.client(&["node", "why", "kiosk-auken-1"]);
    for said in ["idle_seconds = 30   from the node", "mode             observe", "gate-reader@2.1.0/reader"]
    {
        assert!(well(&why).contains(said), "{said} in {}", why.stdout);
    }
    let brisk =
        |text: String| text.split(", ").find(|one| one.starts_with("kiosk-brisk-1")).unwrap().to_owned();
    assert_eq!(brisk(states()), brisk(before.clone()), "only the one node has it");
    let mut reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let (status, own) = reader.get("/api/nodes/kiosk-auken-1/own");
    let own: Value = serde_json::from_str(&own).unwrap();
    assert_eq!(
        (status, &own["settings"], &own["parameters"]),
        (200, &json!({ "mode": "observe" }), &json!({ parameter: 30 }))
    );
    let edits = json!({ "edits": [{ "edit": "priority", "priority": 3 }] }).to_string();
    assert_eq!(reader.post("/api/nodes/kiosk-auken-1/edits", &edits).0, 403);
    let (status, answer) = fleet
        .curl()
        .with_token(&fleet.token("tor.havik", "approver"))
        .post("/api/nodes/kiosk-auken-1/edits", &edits);
    assert!(status == 422 && answer.contains("only groups have"), "{status} {answer}");
    let asked = fleet.client_by(
        &fleet.token("sven.dahl", "operator"),
        &["node", "setting", "kiosk-auken-1", "mode", "enforce"],
    );
    assert!(
        well(&asked).contains("nothing is handed out until another person approves it"),
        "{}",
        asked.stdout
    );

    // It keeps its own when it is renamed, and each change of it is gone back by itself.
    well(&fleet.client(&["node", "rename", "kiosk-auken-1", "kiosk-auken-2"]));
    assert!(
        well(&fleet.client(&["node", "why", "kiosk-auken-2"])).contains("idle_seconds = 30   from the node")
    );
    well(&fleet.client(&["node", "unassign", "kiosk-auken-2", "gate-reader/reader", "--confirm", "1"]));
    well(&fleet.client(&["node", "setting", "kiosk-auken-2", "mode", "--unset"]));
    well(&fleet.client(&["node", "param", "kiosk-auken-2", parameter, "--unset"]));
    assert_eq!(fleet.query("select own::text from node where name = 'kiosk-auken-2'"), "{}");
    assert_eq!(states().replace("kiosk-auken-2", "kiosk-auken-1"), before, "as if nothing had been");
}
