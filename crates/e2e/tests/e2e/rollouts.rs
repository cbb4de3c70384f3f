//! Rollouts: a change reaches its nodes in waves, halts by itself, goes on, is turned back, and ends where a change at once would.

use crate::changes::{ask, fleet_of, otherwise_from_scratch, refuse_falling_generations, until};
use constans_e2e::story::{KIOSKS, group, joined, refused, signed_in, well};
use constans_e2e::{Fleet, Machine};
use serde_json::{Value, json};
use std::fs;
use std::os::unix::fs::PermissionsExt;

const WHY: &str = "the winter timetable";

fn kiosks(idle: u32) -> String {
    KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}"))
}

fn post(fleet: &Fleet, token: &str, path: &str, body: &Value) -> (u16, Value) {
    let (status, text) = fleet.curl().with_token(token).post(path, &body.to_string());
    (status, serde_json::from_str(&text).unwrap_or(Value::Null))
}

/// Previews the kiosks with another value, and returns the number of the change.
fn previewed(fleet: &Fleet, kiosk: &Machine, idle: u32) -> i64 {
    let document = kiosk.document("group.toml", &kiosks(idle));
    let ended = fleet.client(&["group", "set", &document, "--preview", "--because", WHY, "--output", "json"]);
    let changed: Value = serde_json::from_str(well(&ended)).expect("it is JSON");
    changed["change"].as_i64().expect("it has a number")
}

fn begin(fleet: &Fleet, change: i64, plan: &Value) -> Value {
    let body = json!({ "change": change, "plan": plan });
    let (status, begun) = post(fleet, fleet.administrator(), "/api/rollouts", &body);
    assert_eq!((status, &begun["begun"]), (200, &json!(true)), "{begun}");
    begun
}

fn rollout(fleet: &Fleet, no: i64) -> Value {
    ask(fleet, &format!("/api/rollouts/{no}"))
}

fn reached(fleet: &Fleet, no: i64) -> String {
    fleet.query(&format!("select status || ' ' || reached from rollout where change = {no}"))
}

/// How many nodes are to have which content of the kiosks' shell, the most frequent first.
fn contents(fleet: &Fleet) -> Vec<u32> {
    let counts = fleet.query(
        "select coalesce(string_agg(n::text, ' ' order by n desc), '') from (select count(*) as n from node_wanted w join node on node.id = w.node
            join effective_state s on s.id = w.state join clause c on c.id = any(s.clauses)
            where c.body ->> 'address' = 'file:/etc/kiosk/shell.conf' and node.retired_at is null group by c.body -> 'properties' ->> 'content') v",
    );
    counts.split_whitespace().map(|count| count.parse().expect("a number")).collect()
}

/// Has the nodes of a wave that only the database knows check in and report a full run.
fn ran(fleet: &Fleet, no: i64, wave: u32, status: &str, most: u32) {
    fleet.query(&format!(
        "update node_now n set heard_at = now(), on_time_until = now() + interval '1 hour', silent_after = now() + interval '2 hours', full_learned = now(),
             full_status = '{status}', full_state = s.digest
         from node_wanted w join effective_state s on s.id = w.state where w.node = n.node and n.node in
             (select node from rollout_node where rollout = {no} and wave = {wave} order by node limit {most})"
    ));
}

#[test]
fn waves_reach_their_share_of_each_site_and_end_where_a_change_at_once_would() {
    let (mut fleet, kiosk) = fleet_of(600);
    fleet.query("update node set labels = labels || jsonb_build_object('quay', (array['auken', 'brisk', 'corran'])[1 + no % 3]) where name like 'quay-tern-%'");
    well(&group(&fleet, &kiosk, &kiosks(46)));
    refuse_falling_generations(&fleet);
    assert_eq!(contents(&fleet), [301], "300 kiosks, and the real one");
    let change = previewed(&fleet, &kiosk, 90);
    let plan = json!({ "waves": [5, 25, 100], "settle_secs": 0, "within": "quay" });
    let looked = json!({ "change": change, "plan": plan, "preview": true });
    let (_, planned) = post(&fleet, fleet.administrator(), "/api/rollouts", &looked);
    let of_site = |site: &str| {
        fleet.query(&format!("select count(*) from node where labels ->> 'role' = 'kiosk' and coalesce(labels ->> 'quay', '') = '{site}'")).parse::<u32>().unwrap()
    };
    let share_of = |percent: u32| {
        ["", "auken", "brisk", "corran"]
            .map(|site| (of_site(site) * percent).div_ceil(100))
            .iter()
            .sum::<u32>()
    };
    let (five, quarter) = (share_of(5), share_of(25));
    let nodes: Vec<u64> =
        planned["waves"].as_array().unwrap().iter().map(|wave| wave["nodes"].as_u64().unwrap()).collect();
    assert_eq!(nodes, [five, quarter - five, 301 - quarter].map(u64::from));
    assert_eq!(fleet.query("select count(*) from rollout"), "0", "it was only looked at");

    assert_eq!(begin(&fleet, change, &plan)["waves"], planned["waves"], "it has the nodes that were shown");
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    assert_eq!(contents(&fleet), [301 - five, five]);
    assert_eq!(ask(&fleet, &format!("/api/changes/{change}"))["change"]["status"], "in_waves");
    let first = rollout(&fleet, change);
    assert_eq!(first["waves"][0]["figures"]["nodes"], five);
    assert_eq!(first["waves"][0]["figures"]["received"], 0);
    assert_eq!(first["waves"][1]["figures"]["nodes"], quarter - five);

    // A wave is no change to be handed out in waves.
    let nested = json!({ "change": first["waves"][0]["change"], "plan": plan });
    let (status, problem) = post(&fleet, fleet.administrator(), "/api/rollouts", &nested);
    assert!(status == 409 && problem.to_string().contains("is a part of the rollout"), "{status} {problem}");

    // Everything else goes on meanwhile, and takes the wave from nobody: another group, a label, a node that reports otherwise.
    let wave = ask(&fleet, &format!("/api/rollouts/{change}/nodes?filter=in_rollout.wave%20%3D%3D%201"));
    let name = wave[0]["name"].as_str().unwrap().to_owned();
    well(&group(&fleet, &kiosk, "name = \"everyone\"\n[settings]\nspread_secs = 7\n"));
    assert_eq!(contents(&fleet), [301 - five, five]);
    well(&fleet.client(&["node", "label", &name, "--set", "trial=night"]));
    assert_eq!(contents(&fleet), [301 - five, five]);
    let why = fleet.client(&["node", "why", &name]);
    assert!(well(&why).contains("90"), "its sources are those that it has: {}", why.stdout);
    let asked = group(&fleet, &kiosk, &kiosks(50));
    refused(&asked, &format!("group kiosks is part of a rollout that is under way: C{change}"));
    let document = kiosk.document("group.toml", &kiosks(50));
    refused(&fleet.client(&["group", "set", &document, "--preview"]), "is part of a rollout");
    refused(&fleet.client(&["change", "go-back", &format!("C{change}")]), "rollout turn-back");
    refused(&fleet.client(&["change", "stop", &format!("C{change}")]), "rollout halt");
    // A node that joins has none of it until the last wave.
    let _late = joined(&fleet, "kiosk-brisk-9", &["role=kiosk"]);
    assert_eq!(contents(&fleet), [302 - five, five]);

    // Nine of ten suffice.
    fleet.query("update node_now set silent_after = now() + interval '1 hour'");
    ran(&fleet, change, 1, "in_line", (five * 9 - 1) / 10);
    std::thread::sleep(std::time::Duration::from_millis(2_500));
    assert_eq!(reached(&fleet, change), "going 1", "less than 90 % of the heard nodes");
    ran(&fleet, change, 1, "in_line", five);
    until("the second wave is handed out", || reached(&fleet, change) == "going 2");
    assert_eq!(contents(&fleet), [302 - quarter, quarter]);
    assert_eq!(
        otherwise_from_scratch(&mut fleet),
        (0, "0".to_owned()),
        "resolved from scratch it is the same"
    );
    assert_eq!(contents(&fleet), [302 - quarter, quarter]);
    ran(&fleet, change, 2, "in_line", 1_000);
    until("the last wave is handed out", || reached(&fleet, change) == "going 3");
    assert_eq!(contents(&fleet), [302], "also the node that joined");
    let changed = ask(&fleet, &format!("/api/changes/{change}"));
    assert_eq!(changed["change"]["status"], "handed_out");
    ran(&fleet, change, 3, "in_line", 1_000);
    until("it is done", || reached(&fleet, change) == "done 3");
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
    // Its figures are those of the rows.
    let shown = rollout(&fleet, change);
    for wave in shown["waves"].as_array().unwrap() {
        let given = format!(
            "select count(*) from change_node where change = {} and node in (select node from rollout_node where rollout = {change})",
            wave["change"]
        );
        assert_eq!(wave["figures"]["nodes"].to_string(), fleet.query(&given), "{wave}");
        assert_eq!(wave["figures"]["finished"], wave["figures"]["nodes"]);
    }
    // The document is that of the change, which can be gone back by.
    well(&fleet.client(&["change", "go-back", &format!("C{change}")]));
    assert_eq!(contents(&fleet), [302]);
    let idle = "select body -> 'parameters' ->> 'kiosk-floor/kiosk-lockdown.idle_seconds' from node_group where name = 'kiosks' and until_at is null";
    assert_eq!(fleet.query(idle), "46");
}

#[test]
fn it_halts_by_itself_goes_on_and_is_turned_back_to_what_was_before() {
    let (mut fleet, kiosk) = fleet_of(200);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    refuse_falling_generations(&fleet);
    let before = fleet.query("select string_agg(state::text, ' ' order by node) from node_wanted");
    let change = previewed(&fleet, &kiosk, 90);
    begin(&fleet, change, &json!({ "waves": [20, 60, 100], "settle_secs": 0 }));
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    let first = contents(&fleet)[1];
    assert_eq!(first, 21, "20 % of 101, rounded up");
    ran(&fleet, change, 1, "in_line", first);
    ran(&fleet, change, 1, "failed", 3);
    until("it is halted", || reached(&fleet, change) == "halted 1");
    let shown = fleet.client(&["rollout", "show", &format!("C{change}")]);
    let because = format!("wave 1: 3 of {first} nodes that received it are bad: 3 failed, above 2 %");
    refused(&shown, &because);
    assert_eq!(shown.exit, Some(5), "{}", shown.stderr);
    assert!(
        shown.stdout.contains(&format!("{first} of {first} nodes finished a full run")),
        "{}",
        shown.stdout
    );
    std::thread::sleep(std::time::Duration::from_millis(2_200));
    assert_eq!(reached(&fleet, change), "halted 1", "nobody goes on by themselves");

    // A person accepts that: the next wave begins.
    well(&fleet.client(&[
        "rollout",
        "go-on",
        &format!("C{change}"),
        "--because",
        "the three are being replaced",
    ]));
    until("the second wave is handed out", || reached(&fleet, change) == "going 2");
    assert_eq!(contents(&fleet), [61, 40]);
    well(&fleet.client(&["rollout", "halt", &format!("C{change}"), "--because", "after the holidays"]));
    ran(&fleet, change, 2, "in_line", 1_000);
    std::thread::sleep(std::time::Duration::from_millis(2_200));
    assert_eq!(reached(&fleet, change), "halted 2");
    refused(
        &fleet.client(&["rollout", "halt", &format!("C{change}"), "--because", "again"]),
        "is not going on: it is halted",
    );

    // Turned back, all nodes are as before, also one that had left the group and come back.
    let looked = fleet.client(&["rollout", "turn-back", &format!("C{change}"), "--preview"]);
    assert!(well(&looked).contains("61 nodes"), "{}", looked.stdout);
    assert_eq!(contents(&fleet), [61, 40]);
    let back = fleet.client(&["rollout", "turn-back", &format!("C{change}"), "--because", "kiosks flicker"]);
    assert!(well(&back).contains("desired state changed on 61 nodes"), "{}", back.stdout);
    assert_eq!(reached(&fleet, change), "turned_back 2");
    assert_eq!(fleet.query("select string_agg(state::text, ' ' order by node) from node_wanted"), before);
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
    refused(&fleet.client(&["rollout", "turn-back", &format!("C{change}")]), "there is nothing to turn back");
    refused(
        &fleet.client(&["rollout", "go-on", &format!("C{change}"), "--because", "x"]),
        "is not under way",
    );
    // Its documents are free again.
    well(&group(&fleet, &kiosk, &kiosks(90)));
    let did = fleet.query(
        "select string_agg(who || ' ' || did, ', ' order by id) from event where did like '%rollout%'",
    );
    assert_eq!(
        did,
        "ilse.maren began a rollout, the server halted a rollout, ilse.maren had a rollout go on, ilse.maren halted a rollout"
    );
}

#[test]
fn a_server_killed_in_any_step_of_a_rollout_goes_on_with_it() {
    let (mut fleet, kiosk) = fleet_of(300);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    refuse_falling_generations(&fleet);
    for (at, step) in
        ["rollout_begun", "preparing", "locked", "documents_stored", "handing_out", "handed_out"]
            .into_iter()
            .enumerate()
    {
        let idle = 50 + at as u32;
        let change = previewed(&fleet, &kiosk, idle);
        fleet.kill_server();
        fleet.start_server_until(step);
        fleet.client(&[
            "rollout",
            "begin",
            &format!("C{change}"),
            "--waves",
            "10%,100%",
            "--settle",
            "1s",
            "--yes",
        ]);
        fleet.wait_for_end();
        let counts = contents(&fleet);
        assert!(counts == [151] || counts == [135, 16], "{step}: one wave or none: {counts:?}");
        fleet.start_server();
        until(step, || reached(&fleet, change) == "going 1");
        assert_eq!(contents(&fleet), [135, 16], "{step}");
        ran(&fleet, change, 1, "in_line", 1_000);
        until(step, || reached(&fleet, change) == "going 2");
        assert_eq!(contents(&fleet), [151], "{step}");
        ran(&fleet, change, 2, "in_line", 1_000);
        until(step, || reached(&fleet, change) == "done 2");
    }
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));

    // Also while it is turned back.
    let change = previewed(&fleet, &kiosk, 90);
    begin(&fleet, change, &json!({ "waves": [10, 100], "settle_secs": 0 }));
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    fleet.kill_server();
    fleet.start_server_until("handing_out");
    assert_ne!(fleet.client(&["rollout", "turn-back", &format!("C{change}")]).exit, Some(0));
    fleet.wait_for_end();
    assert_eq!((reached(&fleet, change).as_str(), contents(&fleet)), ("halted 1", vec![135, 16]));
    fleet.start_server();
    until("it is turned back", || reached(&fleet, change) == "turned_back 1");
    assert_eq!(contents(&fleet), [151]);
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn a_database_that_is_put_back_halts_its_rollouts() {
    let (mut fleet, kiosk) = fleet_of(100);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    let change = previewed(&fleet, &kiosk, 90);
    begin(&fleet, change, &json!({ "waves": [10, 50, 100], "settle_secs": 0 }));
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    fleet.back_up();
    ran(&fleet, change, 1, "in_line", 1_000);
    until("the second wave is handed out", || reached(&fleet, change) == "going 2");
    well(&kiosk.run(&["daemon", "--once"]));
    fleet.put_back();
    until("it is halted", || reached(&fleet, change) == "halted 1");
    assert_eq!(
        rollout(&fleet, change)["rollout"]["halted"]["because"],
        "the database was put back to an earlier state"
    );
    well(&fleet.client(&["recovery", "end", "--although-not-heard"]));
    std::thread::sleep(std::time::Duration::from_millis(1_500));
    assert_eq!(reached(&fleet, change), "halted 1", "a person has it go on");
    well(&fleet.client(&["rollout", "go-on", &format!("C{change}"), "--because", "all are back"]));
    ran(&fleet, change, 1, "in_line", 1_000);
    until("the next wave is handed out", || reached(&fleet, change) == "going 2");
    assert_eq!(otherwise_from_scratch(&mut fleet), (0, "0".to_owned()));
}

#[test]
fn only_who_may_decide_begins_halts_and_turns_back_and_a_request_is_approved_as_a_rollout() {
    let (fleet, kiosk) = fleet_of(40);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    let change = previewed(&fleet, &kiosk, 90);
    let plan = json!({ "waves": [50, 100], "settle_secs": 3_600 });
    let body = json!({ "change": change, "plan": plan });
    for (role, status) in [("reader", 403), ("operator", 403), ("publisher", 403)] {
        let token = fleet.token(&format!("a.{role}"), role);
        assert_eq!(post(&fleet, &token, "/api/rollouts", &body).0, status, "{role}");
    }
    for (wrong, field) in [
        (json!({ "waves": [50] }), "waves"),
        (json!({ "waves": [50, 20, 100] }), "waves"),
        (json!({ "waves": [100], "settle_secs": 1_000_000 }), "settle_secs"),
        (json!({ "waves": [100], "bad_above_percent": 100 }), "bad_above_percent"),
        (json!({ "waves": [100], "within": "no key" }), "within"),
    ] {
        let (status, problem) =
            post(&fleet, fleet.administrator(), "/api/rollouts", &json!({ "change": change, "plan": wrong }));
        assert!(status == 422 && problem.to_string().contains(field), "{status} {problem}");
    }
    let missing = json!({ "change": 9_999, "plan": plan });
    assert_eq!(post(&fleet, fleet.administrator(), "/api/rollouts", &missing).0, 404);
    let labels = fleet.client(&[
        "node",
        "label",
        "kiosk-auken-1",
        "--set",
        "trial=night",
        "--preview",
        "--output",
        "json",
    ]);
    let of_node: Value = serde_json::from_str(well(&labels)).unwrap();
    let (status, problem) = post(
        &fleet,
        fleet.administrator(),
        "/api/rollouts",
        &json!({ "change": of_node["change"], "plan": plan }),
    );
    assert!(
        status == 409 && problem.to_string().contains("cannot be changed in waves"),
        "{status} {problem}"
    );

    // Who may only request has another person begin it, who says in which waves.
    let document = kiosk.document("group.toml", &kiosks(60));
    let requester = fleet.token("sanna.wik", "publisher");
    let asked = fleet.client_by(&requester, &["group", "set", &document, "--request", "--output", "json"]);
    let requested: Value = serde_json::from_str(well(&asked)).unwrap();
    let no = requested["change"].as_i64().unwrap();
    let approver = fleet.token("tor.havik", "approver");
    let begun = fleet.client_by(
        &approver,
        &["rollout", "begin", &format!("C{no}"), "--waves", "50%,100%", "--settle", "1h", "--yes"],
    );
    assert!(well(&begun).contains("has begun"), "{}", begun.stdout);
    until("the first wave is handed out", || reached(&fleet, no) == "going 1");
    let shown = rollout(&fleet, no);
    assert_eq!(
        (&shown["rollout"]["who"], &shown["rollout"]["approved_by"]),
        (&json!("sanna.wik"), &json!("tor.havik"))
    );
    // A group that asks for a second person: whoever approves sees in which waves it goes.
    post(&fleet, fleet.administrator(), &format!("/api/rollouts/{no}/turn-back"), &json!({}));
    until("it is turned back", || reached(&fleet, no) == "turned_back 1");
    fleet.query("update node_group set body = body || '{\"second_person\": true}' where name = 'kiosks' and until_at is null");
    let document =
        kiosk.document("group.toml", &(kiosks(70).replace("priority", "second_person = true\npriority")));
    well(&fleet.client(&["group", "set", &document, "--preview"]));
    let asked = format!("C{}", fleet.query("select max(no) from change"));
    let begun = fleet.client(&["rollout", "begin", &asked, "--waves", "50%,100%", "--settle", "1h", "--yes"]);
    assert!(well(&begun).contains(&format!("{asked} waits for another person")), "{}", begun.stdout);
    let shown = fleet.client(&["change", "show", &asked]);
    assert!(
        well(&shown).contains("in waves of 50 %, 100 %; each settles for 60 min; halts when bad > 2 %"),
        "{}",
        shown.stdout
    );
    refused(&fleet.client(&["rollout", "show", &asked]), "there is no rollout");
    well(&fleet.client_by(&approver, &["change", "approve", &asked]));
    until("its first wave is handed out", || reached(&fleet, asked[1..].parse().unwrap()) == "going 1");
    let no: i64 = asked[1..].parse().unwrap();
    let reader = fleet.token("b.reader", "reader");
    for act in ["halt", "go-on", "turn-back"] {
        let (status, _) =
            post(&fleet, &reader, &format!("/api/rollouts/{no}/{act}"), &json!({ "because": "x" }));
        assert_eq!(status, 403, "{act}");
    }
}

/// A gate whose release can be made to fail, or to cut it off.
fn gate(fleet: &Fleet, name: &str) -> Machine {
    let gate = joined(fleet, name, &["role=gate"]);
    for (path, text) in [
        ("/usr/bin/well", "#!/bin/sh\necho done >> \"$1\"\n"),
        ("/usr/bin/ill", "#!/bin/sh\necho the reader does not answer >&2\nexit 3\n"),
        ("/usr/bin/slow", "#!/bin/sh\nsleep 60\n"),
    ] {
        gate.root.write(path, text).expect("it is written");
        fs::set_permissions(gate.root.at(path), PermissionsExt::from_mode(0o755)).expect("it is written");
    }
    gate
}

fn publish(fleet: &Fleet, on: &Machine, version: &str, program: &str) {
    let folder = format!("/kits/reader-{version}");
    on.root
        .write(&format!("{folder}/kit.toml"), &format!("[kit]\nname = \"reader\"\nversion = \"{version}\"\n"))
        .expect("it is written");
    let clause = format!(
        "[baseline]\nname = \"reader\"\n\n[[clause]]\nwhat = \"command:restart-reader\"\nargv = [\"{program}\", \"/srv/{version}\"]\nin_line_when = \"/srv/{version}\"\n"
    );
    on.root.write(&format!("{folder}/baselines/reader.toml"), &clause).expect("it is written");
    well(&fleet.client(&["kit", "publish", &on.root.at(&folder).display().to_string()]));
}

#[test]
fn failing_gates_and_one_that_is_not_heard_again_halt_it() {
    let fleet = Fleet::start();
    let names: Vec<String> = (1..=4).map(|number| format!("gate-auken-{number}")).collect();
    let gates: Vec<Machine> = names.iter().map(|name| gate(&fleet, name)).collect();
    publish(&fleet, &gates[0], "1.0.0", "/usr/bin/well");
    publish(&fleet, &gates[0], "1.1.0", "/usr/bin/ill");
    publish(&fleet, &gates[0], "1.2.0", "/usr/bin/slow");
    well(&fleet.client(&["stage", "serve", "open-water", "reader@1.0.0"]));
    well(&group(
        &fleet,
        &gates[0],
        "name = \"gates\"\npriority = 20\nfilter = \"labels.role == 'gate'\"\n[[assignments]]\nkit = \"reader\"\nbaseline = \"reader\"\n[settings]\nmode = \"enforce\"\ninterval_secs = 60\n",
    ));
    gates.iter().for_each(|gate| {
        gate.run(&["daemon", "--once"]);
    });
    let serve = |version: &str| -> i64 {
        let ended = fleet.client(&[
            "stage",
            "serve",
            "open-water",
            &format!("reader@{version}"),
            "--preview",
            "--output",
            "json",
        ]);
        let changed: Value = serde_json::from_str(well(&ended)).unwrap();
        changed["change"].as_i64().unwrap()
    };
    let change = serve("1.1.0");
    let begun = fleet.client(&[
        "rollout",
        "begin",
        &format!("C{change}"),
        "--waves",
        "50%,100%",
        "--settle",
        "1m",
        "--confirm",
        "4",
    ]);
    assert!(well(&begun).contains(&format!("the rollout of C{change} has begun")), "{}", begun.stdout);
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    for gate in &gates {
        gate.run(&["daemon", "--once"]);
    }
    until("both gates of the first wave failed", || reached(&fleet, change) == "halted 1");
    let shown = rollout(&fleet, change);
    assert_eq!(
        shown["waves"][0]["figures"],
        json!({ "nodes": 2, "silent": 0, "received": 2, "finished": 2, "untried": 0, "failed": 2, "unusable": 0, "not_heard": 0 })
    );
    // Each machine of the test has a folder of its own as its root, which the message names.
    let bad = shown["bad_clauses"].as_array().unwrap();
    assert!(bad.iter().all(|one| one["address"] == "command:restart-reader"), "{bad:?}");
    assert_eq!(bad.iter().map(|one| one["nodes"].as_u64().unwrap()).sum::<u64>(), 2, "{bad:?}");
    let attention = ask(&fleet, "/api/overview")["attention"].to_string();
    assert!(attention.contains(&format!("C{change}")) && attention.contains("halted"), "{attention}");
    well(&fleet.client(&["rollout", "turn-back", &format!("C{change}"), "--confirm", "4"]));
    assert_eq!(reached(&fleet, change), "turned_back 1");

    // One of the next wave takes it and is not heard again.
    let change = serve("1.2.0");
    begin_confirmed(&fleet, change);
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    let nodes = ask(&fleet, &format!("/api/rollouts/{change}/nodes"));
    let first: Vec<&str> = nodes
        .as_array()
        .unwrap()
        .iter()
        .filter(|node| node["wave"] == 1)
        .map(|node| node["name"].as_str().unwrap())
        .collect();
    let mute: Vec<&Machine> = names
        .iter()
        .zip(&gates)
        .filter(|(name, _)| first.contains(&name.as_str()))
        .map(|(_, gate)| gate)
        .collect();
    assert_eq!(mute.len(), 2);
    let runs: Vec<_> = mute.iter().map(|gate| gate.daemon()).collect();
    let received = || rollout(&fleet, change)["waves"][0]["figures"]["received"] == 2;
    until("both received it", received);
    drop(runs);
    assert_eq!(reached(&fleet, change), "going 1");
    // Their promises pass.
    fleet.query("update node_now set on_time_until = now() - interval '1 second' where heard_at is not null");
    until("it is halted", || reached(&fleet, change) == "halted 1");
    let shown = rollout(&fleet, change);
    assert_eq!(shown["waves"][0]["figures"]["not_heard"], 2, "{shown}");
    assert!(shown["rollout"]["halted"]["because"].as_str().unwrap().contains("2 not heard since"), "{shown}");
}

#[test]
fn it_halts_when_the_nodes_of_one_site_fail_and_says_which_site() {
    let fleet = Fleet::start();
    // Below its own root each leaves a file for each version; those of one site cannot take the later one.
    let at = |site: &str, number: usize, takes: &str| {
        let gate = joined(&fleet, &format!("gate-{site}-{number}"), &["role=gate", &format!("site={site}")]);
        gate.root.write("/srv/here", "").expect("it is written");
        let program = format!(
            "#!/bin/sh\nversion=${{1##*/}}\ncase $version in {takes}) touch {}/$version ;; *) exit 3 ;; esac\n",
            gate.root.at("/srv").display()
        );
        gate.root.write("/usr/bin/restart-reader", &program).expect("it is written");
        fs::set_permissions(gate.root.at("/usr/bin/restart-reader"), PermissionsExt::from_mode(0o755))
            .expect("it is set");
        gate
    };
    let mut gates: Vec<Machine> = (1..=6).map(|number| at("auken", number, "1.0.0")).collect();
    gates.extend((1..=2).map(|number| at("brisk", number, "*")));
    for version in ["1.0.0", "1.1.0"] {
        publish(&fleet, &gates[0], version, "/usr/bin/restart-reader");
    }
    well(&fleet.client(&["stage", "serve", "open-water", "reader@1.0.0"]));
    well(&group(
        &fleet,
        &gates[0],
        "name = \"gates\"\npriority = 20\nfilter = \"labels.role == 'gate'\"\n[[assignments]]\nkit = \"reader\"\nbaseline = \"reader\"\n[settings]\nmode = \"enforce\"\ninterval_secs = 60\n",
    ));
    let all_run = || {
        for gate in &gates {
            well(&gate.run(&["daemon", "--once"]));
        }
    };
    all_run();
    let preview =
        fleet.client(&["stage", "serve", "open-water", "reader@1.1.0", "--preview", "--output", "json"]);
    let change = serde_json::from_str::<Value>(well(&preview)).unwrap()["change"].as_i64().unwrap();
    let begin = [
        "rollout",
        "begin",
        &format!("C{change}"),
        "--waves",
        "50%,100%",
        "--settle",
        "1m",
        "--within",
        "site",
        "--confirm",
        "8",
    ];
    well(&fleet.client(&begin));
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    all_run();
    until("it is halted", || reached(&fleet, change) == "halted 1");
    let shown = rollout(&fleet, change);
    assert_eq!(
        shown["within"],
        json!([{ "value": "auken", "nodes": 3, "bad": 3 }, { "value": "brisk", "nodes": 1, "bad": 0 }])
    );
    let said = fleet.client(&["rollout", "show", &format!("C{change}")]).stdout;
    assert!(said.contains("bad, by site\n  auken  3 of 3\n  none on 1 more\n"), "{said}");
    // The other half of the site was spared, and gets nothing of it once it is turned back.
    well(&fleet.client(&["rollout", "turn-back", &format!("C{change}"), "--confirm", "8"]));
    all_run();
    assert_eq!(reached(&fleet, change), "turned_back 1");
    assert_eq!(gates.iter().filter(|gate| gate.root.read("/srv/1.1.0").is_ok()).count(), 1);
}

fn begin_confirmed(fleet: &Fleet, change: i64) {
    let body = json!({ "change": change, "plan": { "waves": [50, 100], "settle_secs": 0 }, "confirmed": { "takes_from": 4 } });
    let (status, begun) = post(fleet, fleet.administrator(), "/api/rollouts", &body);
    assert_eq!((status, &begun["begun"]), (200, &json!(true)), "{begun}");
}

#[test]
fn silent_nodes_do_not_count_and_observing_ones_are_untried() {
    let (fleet, kiosk) = fleet_of(40);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    let change = previewed(&fleet, &kiosk, 90);
    begin(&fleet, change, &json!({ "waves": [100], "settle_secs": 3_600 }));
    until("the wave is handed out", || reached(&fleet, change) == "going 1");
    let figures = || rollout(&fleet, change)["waves"][0]["figures"].clone();
    assert_eq!(figures()["silent"], 20, "but for the real one nobody was ever heard: {}", figures());
    fleet.query("update node_now set silent_after = now() where heard_at is not null");
    assert_eq!(figures()["silent"], 21, "{}", figures());
    ran(&fleet, change, 1, "in_line", 5);
    assert_eq!((figures()["finished"].clone(), figures()["silent"].clone()), (json!(5), json!(16)));
    until("it settles, since all that are heard have finished", || {
        rollout(&fleet, change)["waves"][0]["settling_since"].is_string()
    });
    fleet.query("update placement set mode = 'observe'");
    assert_eq!(figures()["untried"], 5, "{}", figures());
    assert_eq!(figures()["finished"], 5);
}

#[test]
fn a_rollout_is_begun_watched_and_turned_back_in_the_console() {
    let (fleet, kiosk) = fleet_of(20);
    well(&group(&fleet, &kiosk, &kiosks(46)));
    let change = previewed(&fleet, &kiosk, 90);
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    browser.open(&format!("/changes/C{change}"));
    browser.click("button", "Hand out…");
    browser.click("button", "In waves…");
    browser.see("5 %: 1 node");
    browser.fill("Percent of the nodes after each wave", "5%, 50%, 100%");
    browser.see("50 %: 5 nodes");
    browser.click("button", "Begin the first wave");
    browser.see("Wave 1 of 3");
    browser.see("5 %, 1 node");
    until("the first wave is handed out", || reached(&fleet, change) == "going 1");
    ran(&fleet, change, 1, "failed", 1);
    browser.see("Halted ");
    browser.see("wave 1: 1 of 1 node that received it is bad: 1 failed, above 2 %");
    assert!(browser.violations().is_empty(), "{:?}", browser.violations());
    browser.open("/");
    browser.see(&format!("the rollout C{change} is halted"));
    browser.open("/activity");
    browser.see("halted at wave 1 of 3");
    browser.click("link", &format!("C{change}"));
    browser.click("button", "Turn back…");
    browser.click("button", "Show the impact");
    browser.click("button", "Hand out…");
    browser.click("button", "Hand out");
    browser.see(&format!("turn back C{change}"));
    until("it is turned back", || reached(&fleet, change) == "turned_back 1");
    browser.open(&format!("/changes/C{change}"));
    browser.see("Turned back, ");
    assert_eq!(contents(&fleet), [11]);
    assert!(browser.complaints().is_empty(), "{:?}", browser.complaints());
}
