//! Sweeps: runs at once over chosen nodes, observed first, followed, stopped, and never done twice.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, signed_in, well};
use constans_e2e::{Fleet, Machine, Running};
use serde_json::{Value, json};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::time::{Duration, Instant};

const SHELL_CONF: &str = "/etc/kiosk/shell.conf";
const WHY: &str = "the winter timetable";

/// A group of gates without a kit of their own, MODE to be replaced.
const GATES: &str = r#"
name = "gates"
priority = 20
filter = "labels.role == 'gate'"

[[assignments]]
kit = "slow"
baseline = "slow"

[settings]
mode = "enforce"
interval_secs = 900
"#;

fn parsed(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|error| panic!("{error}: {text}"))
}

fn kiosks(mode: &str) -> String {
    KIOSKS.replace("MODE", mode).replace("interval_secs = 60", "interval_secs = 900")
}

/// Kiosks that have applied what is desired of them.
fn settled_kiosks(fleet: &Fleet, count: usize) -> Vec<Machine> {
    publish_and_serve(fleet);
    let machines: Vec<Machine> =
        (1..=count).map(|number| joined(fleet, &format!("kiosk-auken-{number}"), &["role=kiosk"])).collect();
    well(&group(fleet, &machines[0], &kiosks("enforce")));
    for machine in &machines {
        well(&machine.run(&["daemon", "--once"]));
        assert!(machine.root.read(SHELL_CONF).is_ok(), "it is applied");
    }
    machines
}

fn sweep(fleet: &Fleet, no: i64) -> Value {
    parsed(&fleet.curl().with_token(fleet.administrator()).get(&format!("/api/sweeps/{no}")).1)
}

/// Waits at most half a minute until something is so.
pub fn wait_for(what: &str, mut is_there: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_secs(30);
    while !is_there() {
        assert!(Instant::now() < end, "{what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn several_nodes_are_observed_first_and_exactly_what_was_found_is_corrected() {
    let fleet = Fleet::start();
    let kiosks = settled_kiosks(&fleet, 3);
    let wanted = kiosks[0].root.read(SHELL_CONF).unwrap();
    for kiosk in &kiosks[..2] {
        kiosk.root.write(SHELL_CONF, "by hand\n").unwrap();
    }
    let daemons: Vec<Running> = kiosks.iter().map(Machine::daemon).collect();
    wait_for("all can be woken", || fleet.metric("constans_held_requests") as usize == 3);
    // The daemons have run as they began: the drift is corrected. It comes again.
    for kiosk in &kiosks[..2] {
        assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), wanted);
        kiosk.root.write(SHELL_CONF, "by hand\n").unwrap();
    }
    let asked = Instant::now();
    let observed = fleet.client(&["sweep", "observe", "labels.role == \"kiosk\"", "--because", WHY]);
    assert!(asked.elapsed() < Duration::from_secs(10), "nobody waits for a check-in");
    assert_eq!(observed.exit, Some(4), "{}{}", observed.stdout, observed.stderr);
    let said = &observed.stdout;
    assert!(said.contains("done: 3 of 3 done"), "{said}");
    assert!(said.contains("in line, examined by it: 1 of 3; 3 were before"), "{said}");
    assert!(said.contains("2 clauses would be corrected"), "{said}");
    assert!(said.contains("Next: constans sweep enforce --after S1"), "{said}");
    assert_eq!(kiosks[0].root.read(SHELL_CONF).unwrap(), "by hand\n", "it only looked");

    // Meanwhile somebody changes one of them again, and what was in line.
    kiosks[1].root.write(SHELL_CONF, "by another hand\n").unwrap();
    kiosks[2].root.write(SHELL_CONF, "by hand\n").unwrap();
    let not_confirmed = fleet.client(&["sweep", "enforce", "--after", "S1", "--because", WHY]);
    assert_eq!(not_confirmed.exit, Some(3));
    refused(&not_confirmed, "not confirmed: nothing was changed");
    assert!(
        not_confirmed.stdout.contains("Enforce all clauses on 2 nodes, at once"),
        "{}",
        not_confirmed.stdout
    );
    let enforced = fleet.client(&["sweep", "enforce", "--after", "S1", "--because", WHY, "--yes"]);
    assert_eq!(enforced.exit, Some(4), "{}{}", enforced.stdout, enforced.stderr);
    let said = &enforced.stdout;
    assert!(said.contains("corrects exactly what S1 found"), "{said}");
    assert!(said.contains("corrected: 1 clause of 2 that were observed"), "{said}");
    assert!(said.contains("left, changed since observed: 1 clause"), "{said}");
    assert!(said.contains("in line, examined by it: 1 of 2"), "{said}");
    assert_eq!(kiosks[0].root.read(SHELL_CONF).unwrap(), wanted);
    assert_eq!(kiosks[1].root.read(SHELL_CONF).unwrap(), "by another hand\n");
    assert_eq!(kiosks[2].root.read(SHELL_CONF).unwrap(), "by hand\n", "it is not part of it");

    // All in one: observed, then corrected without a question.
    let whole = fleet.client(&["sweep", "enforce", "--because", WHY, "--yes"]);
    assert_eq!(whole.exit, Some(0), "{}{}", whole.stdout, whole.stderr);
    assert!(whole.stdout.contains("corrected: 2 clauses of 2 that were observed"), "{}", whole.stdout);
    for kiosk in &kiosks {
        assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), wanted);
    }
    let compared = fleet.client(&["sweep", "compare", "S4", "--with", "S1"]);
    assert!(well(&compared).contains("in line now: kiosk-auken-2"), "{}", compared.stdout);
    // Who asked for a run, and why, is on record with it, also on the node.
    let runs: Vec<Value> = serde_json::from_str(well(&fleet.client(&[
        "run",
        "list",
        "kiosk-auken-1",
        "--filter",
        "run.status == \"drift_corrected\"",
        "--output",
        "json",
    ])))
    .unwrap();
    let run = runs[0]["run"].as_str().unwrap();
    let run = parsed(well(&fleet.client(&["run", "show", "kiosk-auken-1", run, "--output", "json"])));
    assert_eq!(
        (&run["started_by"], &run["reason"], &run["by"], &run["sweep"]["no"]),
        (&json!("sweep"), &json!(WHY), &json!("ilse.maren"), &json!(2))
    );
    assert_eq!(
        fleet
            .query("select string_agg(distinct who || ' ' || did, ', ') from event where did like '%sweep%'"),
        "ilse.maren began a sweep"
    );
    // What the server says of the nodes adds up, and is what its rows say.
    for no in 1..=4 {
        let counts = &sweep(&fleet, no)["counts"];
        let number = |name: &str| counts[name].as_u64().unwrap();
        let states = ["pending", "offered", "begun", "done", "refused", "not_reached"];
        assert_eq!(states.into_iter().map(number).sum::<u64>(), number("nodes"), "S{no}");
        let corrected = format!(
            "select coalesce(sum((c ->> 'corrected')::int), 0) from (select came_of -> 'counts' as c from sweep_node where sweep = {no}) x"
        );
        assert_eq!(fleet.query(&corrected), number("corrected_clauses").to_string(), "S{no}");
    }
    drop(daemons);
}

#[test]
fn what_keeps_a_node_from_it_is_said_before_and_no_freeze_is_passed() {
    let fleet = Fleet::start();
    let kiosks = settled_kiosks(&fleet, 2);
    for kiosk in &kiosks {
        kiosk.root.write(SHELL_CONF, "by hand\n").unwrap();
    }
    let program = fleet.curl().with_token(fleet.administrator());
    let two = json!({ "order": { "mode": "enforce" }, "filter": "", "because": WHY });
    let mut post = program;
    let (status, body) = post.post("/api/sweeps", &two.to_string());
    assert_eq!(status, 409);
    assert!(body.contains("2 nodes would be enforced without being observed first"), "{body}");
    for (wrong, field) in [
        (
            json!({ "order": { "mode": "observe", "although_observing": true }, "filter": "", "because": WHY }),
            "although_observing",
        ),
        (
            json!({ "order": { "mode": "enforce", "correct_once": true }, "nodes": ["kiosk-auken-1"], "because": WHY }),
            "correct_once",
        ),
        (json!({ "order": { "mode": "observe" }, "because": WHY }), "nodes"),
        (json!({ "order": { "mode": "observe" }, "filter": "", "because": "" }), "because"),
        (json!({ "order": { "mode": "observe" }, "filter": "", "because": WHY, "for_secs": 1 }), "for_secs"),
        (json!({ "order": { "mode": "observe" }, "after": 1, "because": WHY }), "sweep"),
    ] {
        let (status, body) = post.post("/api/sweeps", &wrong.to_string());
        assert!([404, 422].contains(&status) && body.contains(field), "{status} {body}");
    }
    well(&fleet.client(&[
        "freeze",
        "set",
        "--node",
        "kiosk-auken-1",
        "--for",
        "2h",
        "--because",
        "stocktaking",
    ]));
    let looked = fleet.client(&["sweep", "enforce", "--because", WHY, "--preview"]);
    assert!(
        well(&looked).contains("kiosk-auken-1  left out: frozen by F1 until ")
            && looked.stdout.contains("on 1 node of 2"),
        "{}",
        looked.stdout
    );
    let only = ["sweep", "enforce", "--node", "kiosk-auken-1", "--now", "--because", WHY, "--yes"];
    refused(&fleet.client(&only), "no node would do anything of it; kiosk-auken-1: frozen by F1");
    // One is asked, the other refused; it runs when the node checks in.
    let begun = fleet.client(&["sweep", "enforce", "--directly", "--because", WHY, "--yes", "--no-wait"]);
    assert!(begun.stdout.contains("refused: frozen by F1"), "{}", begun.stdout);
    for kiosk in &kiosks {
        well(&kiosk.run(&["daemon", "--once"]));
    }
    assert_eq!(kiosks[0].root.read(SHELL_CONF).unwrap(), "by hand\n");
    let shown = fleet.client(&["sweep", "show", "S1"]);
    assert!(shown.stdout.contains("done: 1 of 2 done, 1 refused"), "{}", shown.stdout);
    refused(&shown, "1 of 2 nodes did not take part");

    // A node whose mode is observe says who set that.
    well(&fleet.client(&["freeze", "end", "F1", "--because", "all is counted"]));
    well(&group(&fleet, &kiosks[0], &self::kiosks("observe")));
    for kiosk in &kiosks {
        kiosk.run(&["daemon", "--once"]);
    }
    let one = |more: &[&str]| {
        let base = ["sweep", "enforce", "--node", "kiosk-auken-1", "--because", WHY, "--yes"];
        fleet.client(&base.into_iter().chain(more.iter().copied()).collect::<Vec<_>>())
    };
    refused(&one(&[]), "kiosk-auken-1: mode is observe");
    let looked = one(&["--preview"]);
    assert!(looked.stdout.contains("left out: mode is observe (the group kiosks"), "{}", looked.stdout);
    one(&["--although-observing", "--no-wait"]);
    // Nothing is done on its own run, which comes after: that observes.
    kiosks[0].run(&["daemon", "--once"]);
    assert_ne!(kiosks[0].root.read(SHELL_CONF).unwrap(), "by hand\n");
}

#[test]
fn a_sweep_can_begin_when_the_change_window_opens() {
    let fleet = Fleet::start();
    let kiosk = settled_kiosks(&fleet, 1).remove(0);
    let wanted = kiosk.root.read(SHELL_CONF).unwrap();
    kiosk.root.write(SHELL_CONF, "by hand\n").unwrap();
    // Open one minute a week, which is not now.
    let day = fleet.query("select lower(to_char(now() + interval '3 days', 'dy'))");
    let window = format!("change_window = [{{ days = [\"{day}\"], from = \"03:00\", until = \"03:01\" }}]\n");
    well(&group(&fleet, &kiosk, &(kiosks("enforce") + &window)));
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), "by hand\n");
    let enforce = |more: &[&str]| {
        let base = ["sweep", "enforce", "--node", "kiosk-auken-1", "--because", WHY, "--yes"];
        fleet.client(&base.into_iter().chain(more.iter().copied()).collect::<Vec<_>>())
    };
    let looked = enforce(&["--preview"]);
    assert!(well(&looked).contains("its change window opens at "), "{}", looked.stdout);
    let begun = enforce(&["--when-open"]);
    assert!(well(&begun).contains("begins at 20"), "{}", begun.stdout);
    let later = sweep(&fleet, 1);
    assert!(later["begins_at"].as_str() > later["asked_at"].as_str(), "{later}");
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(sweep(&fleet, 1)["counts"]["pending"], 1, "it is not offered yet");
    assert_eq!(fleet.query("select count(*) from wake"), "0");
    // The hour of the sweep is set forward, not the window: the node waits for that itself.
    fleet.query("update sweep set begins_at = now()");
    wait_for("it is woken for it", || fleet.query("select count(*) from wake") == "1");
    kiosk.run(&["daemon", "--once"]);
    let left = fleet.client(&["sweep", "show", "S1"]);
    assert!(left.stdout.contains("1 left: outside the change window, which opens at "), "{}", left.stdout);
    assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), "by hand\n");
    enforce(&["--now", "--no-wait"]);
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), wanted);
    let far = json!({
        "order": { "mode": "enforce" }, "nodes": ["kiosk-auken-1"], "because": WHY, "begins_at": "2099-01-01T00:00:00Z",
    });
    let (status, body) = fleet.curl().with_token(fleet.administrator()).post("/api/sweeps", &far.to_string());
    assert!(status == 422 && body.contains("begins_at"), "{status} {body}");
}

#[test]
fn named_clauses_are_corrected_once_although_their_switch_says_report_and_only_by_who_may() {
    let fleet = Fleet::start();
    let kiosk = settled_kiosks(&fleet, 1).remove(0);
    let reporting = kiosks("enforce").replace("[settings]\n", "[settings]\non_drift = \"report\"\n");
    well(&group(&fleet, &kiosk, &reporting));
    let wanted = kiosk.root.read(SHELL_CONF).unwrap();
    kiosk.root.write(SHELL_CONF, "by hand\n").unwrap();
    kiosk.run(&["daemon", "--once"]);
    let enforce = |more: &[&str]| -> Vec<String> {
        let base = ["sweep", "enforce", "--node", "kiosk-auken-1", "--because", WHY, "--yes", "--no-wait"];
        base.into_iter().chain(more.iter().copied()).map(str::to_owned).collect()
    };
    let begin = |token: &str, more: &[&str]| {
        let arguments = enforce(more);
        let arguments: Vec<&str> = arguments.iter().map(String::as_str).collect();
        fleet.client_by(token, &arguments)
    };
    let administrator = fleet.administrator().to_owned();
    begin(&administrator, &[]);
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), "by hand\n", "the switch says report");
    let clause = ["--clause", "file:/etc/kiosk/shell.conf"];
    let looked = begin(&administrator, &[&clause[..], &["--preview"]].concat());
    assert!(looked.stdout.contains("on_drift says report; --correct-once"), "{}", looked.stdout);

    let once = [&clause[..], &["--correct-once"]].concat();
    let gates = "name = \"gates\"\npriority = 20\nfilter = \"labels.role == 'gate'\"\n";
    well(&group(&fleet, &kiosk, gates));
    let reader = fleet.token("pia.lund", "reader");
    refused(&begin(&reader, &once), "run.now");
    let elsewhere = fleet.token("tor.havik", "operator@gates");
    assert_eq!(begin(&elsewhere, &once).exit, Some(3));
    let operator = fleet.token("brisa.falk", "operator");
    refused(&begin(&operator, &["--now"]), "run.outside_window");
    begin(&operator, &once);
    kiosk.run(&["daemon", "--once"]);
    assert_eq!(kiosk.root.read(SHELL_CONF).unwrap(), wanted);
    let shown = fleet.client(&["sweep", "show", "S2"]);
    assert!(well(&shown).contains("Correct once file:/etc/kiosk/shell.conf on 1 node"), "{}", shown.stdout);
    assert!(shown.stdout.contains("asked by brisa.falk"), "{}", shown.stdout);
}

/// A gate on which each of four commands takes a while.
pub fn slow_gate(fleet: &Fleet) -> Machine {
    let gate = joined(fleet, "gate-tern-1", &["role=gate"]);
    gate.root.write("/usr/bin/slow", "#!/bin/sh\nsleep 2\necho done >> \"$1\"\n").expect("it is written");
    fs::set_permissions(gate.root.at("/usr/bin/slow"), PermissionsExt::from_mode(0o755))
        .expect("it is written");
    let clause = |number: usize| {
        let done = format!("/srv/slow-{number}");
        format!(
            "[[clause]]\nwhat = \"command:slow-{number}\"\nargv = [\"/usr/bin/slow\", \"{}\"]\nin_line_when = \"{done}\"\n\n",
            gate.root.at(&done).display()
        )
    };
    gate.root.write("/srv/here", "").expect("it is written");
    gate.root
        .write("/kits/slow/kit.toml", "[kit]\nname = \"slow\"\nversion = \"1.0.0\"\n")
        .expect("it is written");
    let clauses: String = (1..=4).map(clause).collect();
    gate.root
        .write("/kits/slow/baselines/slow.toml", &format!("[baseline]\nname = \"slow\"\n\n{clauses}"))
        .expect("it is written");
    well(&fleet.client(&["kit", "publish", &gate.root.at("/kits/slow").display().to_string()]));
    well(&fleet.client(&["stage", "serve", "open-water", "slow@1.0.0"]));
    well(&group(fleet, &gate, &GATES.replace("mode = \"enforce\"", "mode = \"observe\"")));
    gate.run(&["daemon", "--once"]);
    gate
}

/// Returns how many of its commands have ended.
pub fn lines_done(gate: &Machine) -> usize {
    (1..=4)
        .filter_map(|number| gate.root.read(&format!("/srv/slow-{number}")).ok())
        .map(|text| text.lines().count())
        .sum()
}

/// Has its commands run.
pub const SLOW: [&str; 8] =
    ["sweep", "enforce", "--node", "gate-tern-1", "--although-observing", "--yes", "--because", WHY];

#[test]
fn a_sweep_that_goes_on_is_seen_and_once_it_is_stopped_no_further_clause_is_begun() {
    let fleet = Fleet::start();
    let gate = slow_gate(&fleet);
    let daemon = gate.daemon();
    wait_for("it can be woken", || fleet.metric("constans_held_requests") as usize == 1);
    let begun = fleet.client(&[&SLOW[..], &["--no-wait"]].concat());
    assert_eq!(begun.exit, Some(0), "{}{}", begun.stdout, begun.stderr);
    wait_for("its second clause is seen", || {
        fleet.client(&["sweep", "show", "S1"]).stdout.contains("running: correcting command:slow-2")
    });
    let running = sweep(&fleet, 1);
    assert_eq!((&running["status"], &running["counts"]["begun"]), (&json!("running"), &json!(1)));
    assert_eq!(running["expected_end"], Value::Null, "no run in this mode has ended yet");
    let stranger = fleet.token("pia.lund", "reader");
    refused(&fleet.client_by(&stranger, &["sweep", "stop", "S1"]), "run.now");
    well(&fleet.client(&["sweep", "stop", "S1"]));
    wait_for("it has reported", || sweep(&fleet, 1)["counts"]["done"] == 1);
    let done = lines_done(&gate);
    assert!((2..4).contains(&done), "{done} of 4 were done");
    let shown = fleet.client(&["sweep", "show", "S1"]);
    assert!(shown.stdout.contains("stopped by ilse.maren at "), "{}", shown.stdout);
    assert!(shown.stdout.contains("  stopped, rolled out"), "{}", shown.stdout);
    assert!(shown.stdout.contains("in line, examined by it: 0 of 1"), "{}", shown.stdout);
    refused(&fleet.client(&["sweep", "stop", "S1"]), "S1 is over already");
    // A stopped sweep is not begun again.
    drop(daemon);
    gate.run(&["daemon", "--once"]);
    assert_eq!(lines_done(&gate), done);
}

#[test]
fn an_agent_that_is_killed_in_a_sweep_does_not_do_it_again_and_says_how_far_it_came() {
    let fleet = Fleet::start();
    let gate = slow_gate(&fleet);
    let daemon = gate.daemon();
    wait_for("it can be woken", || fleet.metric("constans_held_requests") as usize == 1);
    fleet.client(&[&SLOW[..], &["--no-wait"]].concat());
    wait_for("its first clause is done", || lines_done(&gate) >= 1);
    // `Running` kills the daemon.
    drop(daemon);
    std::thread::sleep(Duration::from_secs(3));
    let done = lines_done(&gate);
    gate.run(&["daemon", "--once"]);
    gate.run(&["check-in"]);
    assert_eq!(lines_done(&gate), done, "it is not done again");
    let shown = fleet.client(&["sweep", "show", "S1"]);
    assert!(shown.stdout.contains("interrupted after "), "{}", shown.stdout);
    refused(&shown, "on 1 of 1 nodes something failed");
}

#[test]
fn who_is_not_heard_until_the_end_is_listed_and_another_nodes_sweep_is_not_told() {
    let fleet = Fleet::start();
    let kiosks = settled_kiosks(&fleet, 2);
    let begun = fleet.client(&["sweep", "observe", "--node", "kiosk-auken-1", "--because", WHY, "--no-wait"]);
    assert!(well(&begun).contains("not received yet: next check-in"), "{}", begun.stdout);
    let id = fleet.query("select id from sweep where no = 1");
    let told = json!({ "reached": 1, "of": 3, "doing": "looking at", "for_ms": 5 }).to_string();
    let other = fleet.curl().as_node(&kiosks[1]);
    assert_eq!(other.deliver(&format!("/sweeps/{id}/progress"), &told).0, 404);
    let refusal = json!({ "reason": "observing" }).to_string();
    assert_eq!(
        other.deliver(&format!("/sweeps/{id}/refusal"), &refusal),
        (404, other.deliver(&format!("/sweeps/{id}/refusal"), &refusal).1)
    );
    assert_eq!(other.deliver("/sweeps/x/progress", &told).0, 404);
    assert_eq!(sweep(&fleet, 1)["counts"]["pending"], 1);
    fleet.query("update sweep set ends_at = asked_at");
    let over = sweep(&fleet, 1);
    assert_eq!((&over["status"], &over["counts"]["not_reached"]), (&json!("over"), &json!(1)));
    let shown = fleet.client(&["sweep", "show", "S1"]);
    refused(&shown, "1 of 1 nodes did not take part");
    assert!(shown.stdout.contains("not reached before the end"), "{}", shown.stdout);
    // It is not begun any more, whenever the node comes.
    well(&kiosks[0].run(&["daemon", "--once"]));
    assert_eq!(sweep(&fleet, 1)["counts"]["not_reached"], 1);
}

/// Forty kiosks, on three of which a folder is where a file should be.
#[test]
fn of_forty_kiosks_three_fail_are_fixed_and_swept_again() {
    const FAILING: [usize; 3] = [7, 19, 33];
    let fleet = Fleet::start();
    let machines = settled_kiosks(&fleet, 40);
    let wanted = machines[0].root.read(SHELL_CONF).unwrap();
    for (at, machine) in machines.iter().enumerate() {
        if FAILING.contains(&at) {
            fs::remove_file(machine.root.at(SHELL_CONF)).unwrap();
            machine.root.write(&format!("{SHELL_CONF}/left-here"), "by hand\n").unwrap();
        } else {
            machine.root.write(SHELL_CONF, "by hand\n").unwrap();
        }
    }
    // Each looks whether a sweep waits, two at a time, as often as is needed.
    let all_check_in = || {
        let (some, others) = machines.split_at(machines.len() / 2);
        std::thread::scope(|scope| {
            for half in [some, others] {
                scope.spawn(move || half.iter().for_each(|machine| drop(machine.run(&["daemon", "--once"]))));
            }
        });
    };
    let begin = |args: &[&str]| {
        let all = [
            &[
                "sweep",
                "enforce",
                "labels.role == 'kiosk'",
                "--clause",
                "file:/etc/kiosk/shell.conf",
                "--because",
                WHY,
                "--directly",
                "--yes",
                "--no-wait",
            ],
            args,
        ]
        .concat();
        let begun = fleet.client(&all);
        assert_eq!(begun.exit, Some(0), "{}{}", begun.stdout, begun.stderr);
    };
    begin(&[]);
    all_check_in();
    let counts = sweep(&fleet, 1)["counts"].clone();
    assert_eq!((&counts["nodes"], &counts["done"], &counts["failed"]), (&json!(40), &json!(40), &json!(3)));
    assert_eq!((&counts["in_line"], &counts["corrected"]), (&json!(37), &json!(37)));
    let shown = fleet.client(&["sweep", "show", "S1", "--follow"]);
    refused(&shown, "on 3 of 40 nodes something failed");
    let failed = FAILING.map(|at| format!("kiosk-auken-{}", at + 1));
    assert!(shown.stdout.contains("file:/etc/kiosk/shell.conf  3 nodes: "), "{}", shown.stdout);
    // They are named together under the clause, and stand before the others.
    let mut named = failed.to_vec();
    named.sort();
    assert!(shown.stdout.contains(&format!("      {}\n", named.join(", "))), "{}", shown.stdout);
    let nodes = shown.stdout.split_once("\n  kiosk-auken-").unwrap().1;
    let lines: Vec<&str> = nodes.lines().take(4).collect();
    assert!(lines[..3].iter().all(|line| line.contains("failed: file:/etc/kiosk/shell.conf")), "{lines:?}");
    assert!(!lines[3].contains("failed"), "{lines:?}");

    for at in FAILING {
        fs::remove_dir_all(machines[at].root.at(SHELL_CONF)).unwrap();
    }
    begin(&[]);
    all_check_in();
    let again = fleet.client(&["sweep", "show", "S2", "--follow"]);
    assert!(well(&again).contains("in line, examined by it: 40 of 40"), "{}", again.stdout);
    assert!(machines.iter().all(|machine| machine.root.read(SHELL_CONF).unwrap() == wanted));
    let compared = fleet.client(&["sweep", "compare", "S2", "--with", "S1"]);
    let said = well(&compared);
    assert!(named.iter().all(|name| said.contains(name)), "{said}");
}

#[test]
fn three_gates_are_put_right_once_from_the_drift_page_and_the_sweep_is_followed_in_the_console() {
    let fleet = Fleet::start();
    publish_and_serve(&fleet);
    let gates: Vec<Machine> =
        (1..=3).map(|number| joined(&fleet, &format!("gate-auken-{number}"), &["role=gate"])).collect();
    let reporting = "name = \"gates\"\npriority = 20\nfilter = \"labels.role == 'gate'\"\n\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\n\n\
         [settings]\nmode = \"enforce\"\non_drift = \"report\"\ninterval_secs = 900\n";
    well(&group(&fleet, &gates[0], reporting));
    for gate in &gates {
        well(&gate.run(&["daemon", "--once"]));
    }
    let wanted = gates[0].root.read("/etc/issue").unwrap();
    for gate in &gates {
        gate.root.write("/etc/issue", "by hand\n").unwrap();
    }
    let _daemons: Vec<Running> = gates.iter().map(Machine::daemon).collect();
    wait_for("all can be woken", || fleet.metric("constans_held_requests") as usize == 3);
    let drifted = || fleet.query("select count(*) from episode where closed_at is null");
    wait_for("the drift is known", || drifted() == "3");
    let mut browser = signed_in(&fleet);
    browser.see("Needs attention");
    browser.open("/drift?clause=file:/etc/issue");
    browser.see("Episodes of one clause across all nodes");
    browser.click("button", "Correct once… file:/etc/issue");
    browser.see("3 of 3 nodes begin it, at once. By what is known, 3 clauses would be corrected on 3 nodes.");
    browser.fill("Reason", "the sign was painted over");
    browser.click("button", "Observe first");
    // Several nodes are observed first.
    browser.see("Observe file:/etc/issue, for correcting them once on 3 nodes");
    browser.see("3 clauses would be corrected.");
    assert_eq!(gates[2].root.read("/etc/issue").unwrap(), "by hand\n", "it only looked");
    browser.click("button", "Enforce exactly this…");
    browser.fill("Reason", "the sign was painted over");
    browser.click("button", "Enforce");
    browser.see("Correct once file:/etc/issue on 3 nodes");
    browser.see("3 of 3 done");
    browser.see("3 clauses corrected, of 3 that were observed.");
    for gate in &gates {
        assert_eq!(gate.root.read("/etc/issue").unwrap(), wanted);
    }
    wait_for("the episodes are over", || drifted() == "0");
    browser.click("link", "Compare with S1");
    browser.see("In line now: gate-auken-1, gate-auken-2, gate-auken-3");
    assert!(browser.complaints().is_empty(), "{:?}", browser.complaints());
    assert!(browser.violations().is_empty(), "{:?}", browser.violations());
}
