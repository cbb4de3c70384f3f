//! Drift over the fleet: what nodes report is listed and counted, and narrowed by nodes, clause and period.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use serde_json::Value;

const SHELL: &str = "/etc/kiosk/shell.conf";

fn json(fleet: &Fleet, arguments: &[&str]) -> Value {
    let arguments = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&arguments))).expect("as asked")
}

#[test]
fn drift_of_several_nodes_is_counted_and_one_clause_is_seen_across_all() {
    let fleet = Fleet::start();
    let first = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let second = joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    assert!(well(&fleet.client(&["drift", "list"])).contains("no drift"));
    publish_and_serve(&fleet);
    well(&group(&fleet, &first, &KIOSKS.replace("MODE", "enforce")));
    for kiosk in [&first, &second] {
        well(&kiosk.run(&["daemon", "--once"]));
    }
    first.root.write(SHELL, "{}").expect("as asked");
    well(&first.run(&["daemon", "--once"]));
    well(&group(&fleet, &first, &KIOSKS.replace("MODE", "observe")));
    well(&second.run(&["check-in"]));
    second.root.write(SHELL, "{}").expect("as asked");
    second.root.write("/etc/issue", "hello").expect("as asked");
    well(&second.run(&["daemon", "--once"]));

    let figures = json(&fleet, &["drift", "figures", "--by", "clause"]);
    let all = &figures["all"];
    assert_eq!(
        ["episodes", "nodes", "open", "only_reported", "detected", "corrected"]
            .map(|part| all[part].as_u64()),
        [3, 2, 2, 2, 3, 1].map(Some),
        "{figures}"
    );
    assert!(all["corrected_after"]["median_secs"].as_i64().is_some(), "{figures}");
    let row = figures["rows"]
        .as_array()
        .expect("as asked")
        .iter()
        .find(|row| row["key"] == format!("file:{SHELL}"));
    assert_eq!(row.expect("the clause")["figures"]["nodes"], 2, "{figures}");
    let by_site = json(&fleet, &["drift", "figures", "--by", "label:site"]);
    assert_eq!(
        (&by_site["rows"][0]["key"], &by_site["rows"][0]["figures"]["open"]),
        (&"tern".into(), &2.into())
    );
    let by_baseline = json(&fleet, &["drift", "figures", "--by", "baseline"]);
    let keys: Vec<&str> = by_baseline["rows"]
        .as_array()
        .expect("as asked")
        .iter()
        .filter_map(|row| row["key"].as_str())
        .collect();
    assert!(keys.contains(&"kiosk-floor/kiosk-lockdown"), "{by_baseline}");

    // Side by side: what is found now, and where.
    let found = fleet.client(&["drift", "found", &format!("file:{SHELL}")]);
    assert!(
        well(&found).contains("is not in line on 1 node")
            && found.stdout.contains("content")
            && found.stdout.contains("kiosk-tern-1  since 20"),
        "{}",
        found.stdout
    );
    let in_line =
        fleet.client(&["drift", "found", &format!("file:{SHELL}"), "--filter", "labels.site == \"auken\""]);
    assert!(well(&in_line).contains("is in line wherever"), "{}", in_line.stdout);
    let (status, body) = fleet.curl().with_token(fleet.administrator()).get("/api/drift/found");
    assert!(status == 422 && body.contains("name the clause"), "{status} {body}");

    // One clause across all nodes; then only what is open, and only some nodes.
    let listed = json(&fleet, &["drift", "list", "--clause", &format!("file:{SHELL}")]);
    let nodes: Vec<&str> =
        listed.as_array().expect("as asked").iter().filter_map(|one| one["node"].as_str()).collect();
    assert_eq!(nodes, ["kiosk-tern-1", "kiosk-auken-1"], "open ones first: {listed}");
    let of_auken = fleet.client(&["drift", "list", "--filter", "labels.site == \"auken\""]);
    assert!(
        well(&of_auken).contains("kiosk-auken-1  file:/etc/kiosk/shell.conf")
            && of_auken.stdout.contains("; corrected 20"),
        "{}",
        of_auken.stdout
    );
    assert_eq!(json(&fleet, &["drift", "list", "--open"]).as_array().expect("as asked").len(), 2);
    assert_eq!(json(&fleet, &["drift", "list", "--ended"]).as_array().expect("as asked").len(), 1);
    let before = json(&fleet, &["drift", "figures", "--until", "2026-01-02T00:00:00Z"]);
    assert_eq!(before["all"]["episodes"], 0, "{before}");

    // The group's switch counts where a clause has none of its own, for what is only reported and for what would be corrected.
    let coverage = || {
        let ask =
            ["concession", "ask", "--preview", "--node", "kiosk-tern-1", "--clause", "file:/etc/kiosk/*"];
        json(&fleet, &[&ask[..], &["--for", "5d", "--because", "the old screens"]].concat())["coverage"]
            .clone()
    };
    for (switch, only_reported, to_correct) in [("report", 2, 0), ("correct", 0, 1)] {
        let text = format!("{}\non_drift = \"{switch}\"\n", KIOSKS.replace("MODE", "enforce").trim_end());
        well(&group(&fleet, &first, &text));
        let all = json(&fleet, &["drift", "figures"])["all"].clone();
        assert_eq!(
            (&all["open"], &all["only_reported"]),
            (&2.into(), &only_reported.into()),
            "{switch}: {all}"
        );
        let covered = coverage();
        assert_eq!(
            (&covered["noncompliant"], &covered["to_correct"]),
            (&1.into(), &to_correct.into()),
            "{switch}: {covered}"
        );
    }

    // What cannot be asked is said.
    let turned = fleet.client(&[
        "drift",
        "list",
        "--since",
        "2026-01-03T00:00:00Z",
        "--until",
        "2026-01-02T00:00:00Z",
    ]);
    assert!(turned.stderr.contains("is not after"), "{}", turned.stderr);
    let unknown = fleet.client(&["drift", "figures", "--by", "weather"]);
    assert!(unknown.stderr.contains("`weather` cannot be counted by"), "{}", unknown.stderr);
    let (status, body) =
        fleet.curl().with_token(fleet.administrator()).get("/api/drift/episodes?open=perhaps");
    assert!(status == 422 && body.contains("true or false"), "{status} {body}");
}

#[test]
fn what_a_node_has_on_record_of_a_drift_is_shown_with_it_and_kept_apart_from_the_report() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    let now = jiff::Timestamp::now();
    let sign_in =
        "sshd[812]: Accepted publickey for dock-service from 192.0.2.40 port 50022 ssh2: ED25519 SHA256:abc";
    let sudo = "sudo: dock-service : TTY=pts/0 ; PWD=/ ; USER=root ; COMMAND=/usr/bin/tee /etc/kiosk/shell.conf --key=herring";
    let log = format!("{now} kiosk-auken-1 {sign_in}\n{now} kiosk-auken-1 {sudo}\n");
    kiosk.root.write("/var/log/auth.log", &log).expect("it is written");
    kiosk.root.write(SHELL, "{}").expect("it is written");
    well(&kiosk.run(&["daemon", "--once"]));

    let listed = fleet.client(&["drift", "list", "--related"]);
    for told in [
        "signed in dock-service: over SSH from 192.0.2.40, by publickey (/var/log/auth.log)",
        "sudo dock-service: as root: /usr/bin/tee /etc/kiosk/shell.conf … (/var/log/auth.log)",
        "its contents were last changed (mtime)",
    ] {
        assert!(well(&listed).contains(told), "{told}: {}", listed.stdout);
    }
    assert!(!listed.stdout.contains("herring"), "what may be a secret: {}", listed.stdout);
    let episode = &json(&fleet, &["drift", "list"])[0];
    let run = episode["detected_run"].as_str().expect("a run");
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", run]);
    assert!(well(&shown).contains("signed in dock-service"), "{}", shown.stdout);
    // It names people: reports, which are kept for longer, do not have it.
    assert_eq!(fleet.query("select count(*) from run where report::text like '%dock-service%'"), "0");
    assert_eq!(
        fleet.query("select count(*) from related_records where body::text like '%dock-service%'"),
        "1"
    );
    let seen = fleet.client_by(&fleet.token("pia.lund", "reader"), &["drift", "list", "--related"]);
    assert!(well(&seen).contains("dock-service"));

    // A group switches it off.
    let text = format!("{}\nrelated_records = false\n", KIOSKS.replace("MODE", "enforce").trim_end());
    well(&group(&fleet, &kiosk, &text));
    well(&kiosk.run(&["check-in"]));
    kiosk.root.write(SHELL, "{ }").expect("it is written");
    well(&kiosk.run(&["daemon", "--once"]));
    let again = &json(&fleet, &["drift", "list"])[0];
    assert_ne!(again["detected_run"], episode["detected_run"]);
    assert!(again["related"].is_null(), "{again}");
    let settings = fleet.client(&["node", "why", "kiosk-auken-1"]);
    assert!(well(&settings).contains("not gathered"), "{}", settings.stdout);
}

#[test]
fn what_was_found_is_accepted_as_the_value_of_a_group_and_is_compliant_from_the_next_run_on() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let clause = format!("file:{SHELL}");
    let accept = ["drift", "accept", "kiosk-auken-1", &clause];
    let nothing = fleet.client(&accept);
    assert!(nothing.exit == Some(1) && nothing.stderr.contains("not in line"), "{}", nothing.stderr);

    let drifted = |text: &dyn Fn(&str) -> String| {
        let before = kiosk.root.read(SHELL).expect("as desired");
        kiosk.root.write(SHELL, &text(&before)).expect("it is written");
        well(&kiosk.run(&["daemon", "--once"]));
    };
    drifted(&|before| before.replace("idle = 45", "idle = 5"));
    let refused = fleet.client(&accept);
    assert!(
        well(&refused).contains("would be needed: `idle_seconds` is at least 10, and this is 5"),
        "{}",
        refused.stdout
    );
    assert!(refused.stdout.contains("constans concession ask --node kiosk-auken-1"), "{}", refused.stdout);
    let seen = json(&fleet, &accept)["run"].as_str().expect("a run").to_owned();

    drifted(&|before| before.replace("idle = 5", "idle = 60"));
    let shown = fleet.client(&accept);
    for told in [
        "kiosk-floor/kiosk-lockdown.idle_seconds = 60 would make it desired; now 45, from the group `kiosks`",
        "kiosks  2 nodes",
        "everyone  cannot: the group `kiosks` has a higher priority",
        "--group kiosks",
    ] {
        assert!(well(&shown).contains(told), "{told}: {}", shown.stdout);
    }
    // What was seen before is not what would be accepted now.
    let body =
        serde_json::json!({ "node": "kiosk-auken-1", "clause": clause, "run": seen, "group": "kiosks" });
    let curl = || fleet.curl().with_token(fleet.administrator());
    let (status, late) = curl().post("/api/drift/accept", &body.to_string());
    assert!(status == 409 && late.contains("examined again by a later run"), "{status} {late}");
    let wrong = fleet.client(&[&accept[..], &["--group", "everyone"]].concat());
    assert!(wrong.stderr.contains("has a higher priority"), "{}", wrong.stderr);
    let reader = fleet.token("pia.lund", "reader");
    let not_allowed = fleet.client_by(&reader, &[&accept[..], &["--group", "kiosks"]].concat());
    assert!(not_allowed.stderr.contains("group.edit"), "{}", not_allowed.stderr);
    let preview = fleet.client(&[&accept[..], &["--group", "kiosks", "--preview"]].concat());
    assert!(well(&preview).contains("nothing is handed out yet"), "{}", preview.stdout);
    assert!(well(&fleet.client(&["group", "list"])).contains("idle_seconds = 45"));

    let because = ["--group", "kiosks", "--because", "passengers need longer"];
    let accepted = fleet.client(&[&accept[..], &because].concat());
    assert!(
        well(&accepted).contains("desired by the group kiosks as kiosk-auken-1 has it"),
        "{}",
        accepted.stdout
    );
    let groups = fleet.client(&["group", "list"]);
    for kept in ["idle_seconds = 60", "nodes where labels.role == 'kiosk'", "assigned quay-base/login"] {
        assert!(well(&groups).contains(kept), "{kept}: {}", groups.stdout);
    }
    well(&kiosk.run(&["daemon", "--once"]));
    let gone = fleet.client(&accept);
    assert!(gone.stderr.contains("not in line"), "{}{}", gone.stdout, gone.stderr);
    assert_eq!(json(&fleet, &["drift", "list"])[0]["closed_as"], "by_rollout");
    // The other node has it too.
    well(&other.run(&["check-in"]));
    assert!(well(&fleet.client(&["node", "why", "kiosk-tern-1"])).contains("idle_seconds = 60"));
}
