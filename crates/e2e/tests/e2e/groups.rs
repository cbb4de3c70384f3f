//! Groups: shown with what they give, and edited one thing at a time.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use serde_json::{Value, json};

fn shown(fleet: &Fleet, name: &str) -> Value {
    let shown = fleet.client(&["group", "show", name, "--output", "json"]);
    serde_json::from_str(well(&shown)).expect("JSON")
}

#[test]
fn one_thing_of_a_group_is_edited_previewed_and_gone_back_and_nothing_else_changes() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let before = shown(&fleet, "kiosks");
    assert_eq!(
        (&before["view"]["nodes"], &before["members"]["names"]),
        (&json!(1), &json!(["kiosk-auken-1"]))
    );

    let parameter = "kiosk-floor/kiosk-lockdown.idle_seconds";
    let set =
        fleet.client(&["group", "param", "kiosks", parameter, "60", "--because", "screens lock too soon"]);
    assert!(well(&set).contains("kiosk-floor/kiosk-lockdown.idle_seconds = 60 for kiosks"), "{}", set.stdout);
    let assigned =
        ["group", "assign", "kiosks", "kiosk-floor/kiosk-lockdown", "--on-drift", "report", "--place", "1"];
    well(&fleet.client(&assigned));
    well(&fleet.client(&["group", "setting", "kiosks", "interval_secs", "15 min"]));
    let after = shown(&fleet, "kiosks");
    let mut wanted = before["group"].clone();
    wanted["parameters"][parameter] = json!(60);
    wanted["settings"]["interval_secs"] = json!(900);
    let assignments = wanted["assignments"].as_array_mut().expect("a list");
    let at = assignments.iter().position(|one| one["baseline"] == "kiosk-lockdown").expect("assigned");
    let mut lockdown = assignments.remove(at);
    lockdown["on_drift"] = json!("report");
    assignments.insert(0, lockdown);
    assert_eq!(after["group"], wanted);
    assert_eq!(after["changed"]["who"], "ilse.maren");

    let text = fleet.client(&["group", "show", "kiosks"]);
    for part in [
        "1 where labels.role == 'kiosk'",
        "1 kiosk-floor/kiosk-lockdown",
        "on_drift report",
        "1.0.0 in open-water for 1 node",
        "kiosk-floor/kiosk-lockdown.idle_seconds = 60",
        "takes an integer",
        "interval_secs      every 15 min",
    ] {
        assert!(well(&text).contains(part), "{part} in {}", text.stdout);
    }

    let preview = fleet.client(&["group", "param", "kiosks", parameter, "--unset", "--preview"]);
    assert!(well(&preview).contains("nothing is handed out yet"), "{}", preview.stdout);
    assert_eq!(shown(&fleet, "kiosks")["group"], wanted);
    let change = format!("C{}", after["changed"]["no"]);
    well(&fleet.client(&["change", "go-back", &change]));
    assert_eq!(
        shown(&fleet, "kiosks")["group"]["settings"]["interval_secs"],
        before["group"]["settings"]["interval_secs"]
    );
}

#[test]
fn a_typo_is_said_with_what_there_is_and_nothing_is_edited() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let before = shown(&fleet, "kiosks")["group"].clone();
    for (arguments, said) in [
        (&["show", "kiosk"][..], "there is no group `kiosk`"),
        (&["assign", "kiosks", "kiosk-floor/lockdown"], "the kit kiosk-floor has no baseline `lockdown`"),
        (&["assign", "kiosks", "kiosk-lockdown"], "a baseline is written with its kit"),
        (&["unassign", "kiosks", "quay-base/logins"], "does not assign quay-base/logins; it assigns"),
        (
            &["param", "kiosks", "kiosk-floor/kiosk-lockdown.idle_second", "60"],
            "did you mean `idle_seconds`?",
        ),
        (&["param", "kiosks", "kiosk-floor/kiosk-lockdown.idle_seconds", "soon"], "takes an integer"),
        (&["setting", "kiosks", "intervall_secs", "60"], "did you mean `interval_secs`?"),
        (&["setting", "kiosks", "interval_secs", "1 s"], "an interval lasts from 5 s to 7 days"),
        (&["setting", "kiosks", "mode", "watch"], "unknown variant `watch`"),
        (&["filter", "kiosks", "labels.rolle == \"kiosk\" &&"], "did not expect the end in the condition"),
        (&["members", "kiosks", "--remove", "kiosk-auken-9"], "kiosk-auken-9 is not a named member"),
        (&["stage", "kiosks", "harbor"], "did you mean `harbour`?"),
        (&["priority", "everyone", "3"], "`everyone` has all nodes and priority 0"),
    ] {
        let refused = fleet.client(&[&["group"], arguments].concat());
        assert!(
            refused.exit != Some(0) && refused.stderr.contains(said),
            "{arguments:?}: {}",
            refused.stderr
        );
    }
    assert_eq!(shown(&fleet, "kiosks")["group"], before);
    let mut reader = fleet.curl().with_token(&fleet.token("pia.lund", "reader"));
    let edits = json!({ "edits": [{ "edit": "priority", "priority": 3 }] }).to_string();
    let (status, answer) = reader.post("/api/groups/kiosks/edits", &edits);
    assert!(status == 403 && answer.contains("group.edit"), "{status} {answer}");
    let many = json!({ "edits": vec![json!({ "edit": "priority", "priority": 3 }); 201] }).to_string();
    let (status, answer) =
        fleet.curl().with_token(fleet.administrator()).post("/api/groups/kiosks/edits", &many);
    assert!(status == 422 && answer.contains("from 1 to 200 edits"), "{status} {answer}");
}

#[test]
fn two_people_edit_different_things_of_one_group_and_both_edits_stay() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let edits = [("grace_secs", json!(1800)), ("attic_mib", json!(64))];
    std::thread::scope(|scope| {
        for (word, value) in &edits {
            let edit = json!({ "edits": [{ "edit": "setting", "word": word, "value": value }] }).to_string();
            let fleet = &fleet;
            scope.spawn(move || {
                // Whoever meets the other's edit is told so, and tries again.
                for _ in 0..20 {
                    let mut curl = fleet.curl().with_token(fleet.administrator());
                    match curl.post("/api/groups/kiosks/edits", &edit) {
                        (200, _) => return,
                        (409, _) => {}
                        (status, answer) => panic!("{status} {answer}"),
                    }
                }
                panic!("never taken");
            });
        }
    });
    let settings = shown(&fleet, "kiosks")["group"]["settings"].clone();
    for (word, value) in edits {
        assert_eq!(settings[word], value, "{settings}");
    }
}

#[test]
fn a_filter_is_tried_before_it_is_set_with_who_comes_goes_and_cannot_be_told() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let mut curl = fleet.curl().with_token(fleet.administrator());
    let mut tried = |body: Value| -> (u16, Value) {
        let (status, answer) = curl.post("/api/group-members", &body.to_string());
        (status, serde_json::from_str(&answer).expect("JSON"))
    };
    let (_, members) = tried(
        json!({ "group": "kiosks", "filter": "labels.site == 'tern'", "nodes": ["gate-auken-1", "kiosk-lab-9"] }),
    );
    assert_eq!(members["names"], json!(["gate-auken-1", "kiosk-tern-1"]), "{members}");
    assert_eq!(
        (&members["coming_names"], &members["going_names"]),
        (&json!(["gate-auken-1"]), &json!(["kiosk-auken-1"]))
    );
    assert_eq!(members["no_nodes"], json!(["kiosk-lab-9"]));
    let (status, wrong) = tried(json!({ "filter": "labels.site = 'tern'" }));
    assert!(status == 422 && wrong["type"] == "filter", "{status} {wrong}");
    let before = shown(&fleet, "kiosks")["group"].clone();
    well(&fleet.client(&["group", "filter", "kiosks", "labels.site == 'tern'", "--confirm", "9"]));
    assert_ne!(shown(&fleet, "kiosks")["group"], before);
    assert_eq!(shown(&fleet, "kiosks")["members"]["names"], json!(["kiosk-tern-1"]));
}
