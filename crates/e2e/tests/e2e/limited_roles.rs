//! A role for the nodes of one group: what it permits is done there and nowhere else, however it is asked for.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};

#[test]
fn an_approver_of_the_kiosks_decides_about_kiosks_and_about_nothing_else() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));

    let grant = |role: &str, of: &str| fleet.client(&["person", "grant", "sven.dahl", role, "--group", of]);
    refused(&grant("approver", "kiosk"), "there is no group `kiosk`");
    refused(&grant("publisher", "kiosks"), "publisher is held for the whole fleet");
    refused(&grant("administrator", "kiosks"), "administrator is held for the whole fleet");
    well(&grant("approver", "kiosks"));
    assert!(well(&fleet.client(&["person", "list"])).contains("approver of the group kiosks"));
    let sven = fleet.token("sven.dahl", "approver@kiosks");
    let by = |words: &[&str]| fleet.client_by(&sven, words);

    // He sees all of it, and acts on the kiosks.
    assert!(well(&by(&["node", "list"])).contains("gate-auken-1"));
    well(&by(&[
        "freeze",
        "set",
        "--node",
        "kiosk-auken-1",
        "--for",
        "1h",
        "--because",
        "the pier is rebuilt",
    ]));
    well(&by(&["freeze", "end", "F1"]));
    well(&by(&["node", "label", "kiosk-auken-1", "--set", "tier=front"]));
    well(&by(&["node", "setting", "kiosk-auken-1", "grace_secs", "5 min"]));
    well(&by(&["node", "set", "kiosk-auken-1", "file:/etc/issue", "permissions=0640", "--without-end"]));
    let parameter = "kiosk-floor/kiosk-lockdown.idle_seconds";
    well(&by(&["group", "param", "kiosks", parameter, "60"]));
    let preview = by(&["group", "param", "kiosks", parameter, "75", "--preview"]);
    let change = format!("C{}", fleet.query("select max(no) from change"));
    well(&preview);
    well(&by(&["change", "confirm", &change]));
    well(&by(&["node", "rename", "kiosk-auken-1", "kiosk-auken-2"]));
    well(&by(&["node", "rename", "kiosk-auken-2", "kiosk-auken-1"]));

    // Concessions of kiosks that are named: asked for, and decided if another person asked.
    let concession = |of: &[&'static str]| {
        let ask = [
            "concession",
            "ask",
            "--clause",
            "file:/etc/issue",
            "--for",
            "30d",
            "--because",
            "the pier is rebuilt",
        ];
        [&ask, of].concat()
    };
    well(&by(&concession(&["--node", "kiosk-auken-1"])));
    well(&by(&["concession", "end", "D1", "--because", "not needed"]));
    let of = |nodes: &[&'static str]| drop(well(&fleet.client(&concession(nodes))).to_owned());
    of(&["--node", "kiosk-auken-1"]);
    well(&by(&["concession", "approve", "D2", "--without-freeze"]));
    well(&by(&["concession", "end", "D2", "--because", "rebuilt"]));
    of(&["--node", "kiosk-auken-1", "--node", "gate-auken-1"]);
    of(&["--filter", "labels.role == 'kiosk'"]);

    // Everything else is refused, and nothing is done.
    let state = || {
        fleet.query("select string_agg(n.name || n.labels::text || n.own::text || coalesce(n.revoked_at::text, ''), ' ' order by n.name) || (select string_agg(body::text, ' ' order by name) from node_group where until_at is null) || (select count(*) from change_freeze)::text from node n")
    };
    let before = state();
    let only = "only on nodes of kiosks, and not on";
    for asked in [&["--node", "gate-auken-1"][..], &["--filter", "labels.role == 'kiosk'"]] {
        refused(&by(&concession(asked)), only);
    }
    for words in [
        &["concession", "approve", "D3"][..],
        &["concession", "refuse", "D3", "--because", "no"],
        &["concession", "approve", "D4"],
        &["concession", "end", "D4", "--because", "no"],
        &["freeze", "set", "--all", "--for", "1h", "--because", "all"],
        &["freeze", "set", "--node", "gate-auken-1", "--for", "1h", "--because", "gates"],
        &[
            "freeze",
            "set",
            "--node",
            "kiosk-auken-1",
            "--node",
            "gate-auken-1",
            "--for",
            "1h",
            "--because",
            "both",
        ],
        &["node", "label", "gate-auken-1", "--set", "role=kiosk"],
        &["node", "label", "kiosk-auken-1", "gate-auken-1", "--set", "tier=back"],
        &["node", "rename", "gate-auken-1", "kiosk-auken-9"],
        &["node", "retire", "gate-auken-1"],
        &["node", "revoke", "gate-auken-1"],
        &["node", "setting", "gate-auken-1", "mode", "enforce"],
        &["node", "set", "gate-auken-1", "file:/etc/issue", "permissions=0640", "--without-end"],
        &["group", "param", "everyone", parameter, "10"],
        &["group", "setting", "everyone", "mode", "enforce"],
    ] {
        refused(&by(words), only);
    }
    for (words, said) in [
        (&["group", "filter", "kiosks", "true"][..], "only edits what it gives"),
        (&["group", "members", "kiosks", "--add", "gate-auken-1"], "only edits what it gives"),
        (&["group", "priority", "kiosks", "1000000"], "only edits what it gives"),
        (&["group", "remove", "kiosks"], "group.edit"),
        (&["stage", "make", "pilot"], "stage.edit"),
        (&["stage", "serve", "open-water", "quay-base@1.3.0"], "stage.serve"),
        (&["invite"], "join.invite"),
        (&["person", "grant", "sven.dahl", "administrator"], "people.manage"),
        (&["change", "go-back", &change], "change.decide"),
    ] {
        refused(&by(words), said);
    }
    let table = kiosk.document("nodes.csv", "name,role\ngate-auken-1,kiosk\n");
    refused(&by(&["node", "table", &table]), only);
    let whole = kiosk
        .document("group.toml", &KIOSKS.replace("MODE", "enforce").replace("role == 'kiosk'", "role != ''"));
    refused(&by(&["group", "set", &whole]), "group.edit");
    let desired = kiosk.document("desired.toml", well(&fleet.client(&["desired", "export"])));
    refused(&by(&["desired", "import", &desired]), "desired.import");
    assert_eq!(state(), before);
    // A change of somebody else is not his to hand out, also of kiosks.
    well(&fleet.client(&["group", "param", "kiosks", parameter, "90", "--preview"]));
    let change = format!("C{}", fleet.query("select max(no) from change"));
    refused(&by(&["change", "confirm", &change]), only);
    refused(&by(&["change", "approve", &change]), "change.decide");

    // Who leaves the group is out of reach at once; who loses the role too.
    well(&fleet.client(&["node", "label", "kiosk-auken-1", "--set", "role=till", "--confirm", "1"]));
    refused(&by(&["freeze", "set", "--node", "kiosk-auken-1", "--for", "1h", "--because", "late"]), only);
    well(&fleet.client(&["person", "take", "sven.dahl", "approver", "--group", "kiosks"]));
    refused(&by(&["node", "list"]), "node.read");
}

#[test]
fn an_operator_of_the_kiosks_requests_for_kiosks_only() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    joined(&fleet, "gate-auken-1", &["role=gate"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let pia = fleet.token("pia.lund", "operator@kiosks");
    let by = |words: &[&str]| fleet.client_by(&pia, words);
    let asked = by(&["node", "label", "kiosk-auken-1", "--set", "tier=front"]);
    assert!(
        well(&asked).contains("nothing is handed out until another person approves it"),
        "{}",
        asked.stdout
    );
    let change = format!("C{}", fleet.query("select max(no) from change"));
    well(&fleet.client(&["change", "approve", &change]));
    let asked = by(&["group", "param", "kiosks", "kiosk-floor/kiosk-lockdown.idle_seconds", "60"]);
    assert!(well(&asked).starts_with("requested"), "{}", asked.stdout);
    let change = format!("C{}", fleet.query("select max(no) from change"));
    well(&by(&["change", "stop", &change]));
    for words in [
        &["node", "label", "gate-auken-1", "--set", "tier=front", "--request"][..],
        &["group", "setting", "everyone", "mode", "enforce", "--request"],
        &["freeze", "set", "--all", "--for", "1h", "--because", "all"],
    ] {
        refused(&by(words), "only on nodes of kiosks");
    }
    refused(&by(&["stage", "serve", "open-water", "quay-base@1.3.0", "--request"]), "stage.serve");
    // The page is told what is limited, and to what.
    let (status, session) = fleet.curl().with_token(&pia).get("/api/session");
    assert!(
        status == 200 && session.contains(r#"{"permission":"freeze.set","groups":["kiosks"]}"#),
        "{session}"
    );
}
