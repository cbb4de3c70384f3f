//! The runs of a node are followed, clause by clause, while they go on; nobody is told anything while nobody looks.

use crate::sweeps::{SLOW, lines_done, slow_gate, wait_for};
use crate::waking::wait_until_held;
use constans_e2e::story::{refused, well};
use constans_e2e::{Ended, Fleet};
use serde_json::{Value, json};
use std::thread;

const FOLLOW: [&str; 3] = ["run", "follow", "gate-tern-1"];

/// Follows while something happens, and returns what the follower saw.
fn followed_while(fleet: &Fleet, more: &[&str], happens: impl FnOnce()) -> Ended {
    let arguments = [&FOLLOW[..], more].concat();
    thread::scope(|scope| {
        let follower = scope.spawn(|| fleet.client(&arguments));
        happens();
        follower.join().expect("it ends by itself")
    })
}

fn is_followed(fleet: &Fleet) -> bool {
    fleet.query("select count(*) from followed where until_at > now()") == "1"
}

fn clauses_told(fleet: &Fleet) -> usize {
    fleet.query("select count(*) from followed_clause").parse().expect("it is a number")
}

fn begin_slow(fleet: &Fleet) {
    let begun = fleet.client(&[&SLOW[..], &["--no-wait"]].concat());
    assert_eq!(begun.exit, Some(0), "{}{}", begun.stdout, begun.stderr);
}

#[test]
fn who_follows_sees_each_clause_as_it_comes_out_and_the_end() {
    let fleet = Fleet::start();
    let gate = slow_gate(&fleet);
    let _daemon = gate.daemon();
    wait_until_held(&fleet, 1);
    let (mut on_the_way, mut done) = (0, 0);
    let seen = followed_while(&fleet, &[], || {
        wait_for("it is followed", || is_followed(&fleet));
        wait_until_held(&fleet, 1);
        begin_slow(&fleet);
        wait_for("something is told", || clauses_told(&fleet) > 0);
        (on_the_way, done) = (clauses_told(&fleet), lines_done(&gate));
    });
    assert!(on_the_way < 4 && done < 4, "it is told while the run goes on: {on_the_way} of {done}");
    let text = well(&seen);
    let place = |part: &str| text.find(part).unwrap_or_else(|| panic!("{part} is not in\n{text}"));
    assert!(seen.stderr.contains("no run of gate-tern-1 is under way; next check-in 20"), "{}", seen.stderr);
    assert!(
        place("gate-tern-1  began ") < place("mode enforce, started by a sweep S1, 4 clauses\n"),
        "{text}"
    );
    for number in 1..=4 {
        assert_eq!(text.matches(&format!("{number} of 4  command:slow-{number}")).count(), 1, "{text}");
        assert!(number == 1 || place(&format!("slow-{number}")) > place(&format!("slow-{}", number - 1)));
    }
    assert!(place("command:slow-4") < place("rolled out after "), "{text}");
    assert!(text.contains("4 corrected"), "{text}");
    // What it says is what the report says.
    let run = text.rsplit_once("constans run show gate-tern-1 ").expect("it is named").1.trim();
    let report = fleet.client(&["run", "show", "gate-tern-1", run]);
    for number in 1..=4 {
        assert!(well(&report).contains(&format!("command:slow-{number}")), "{}", report.stdout);
    }

    // Once nobody looks, the next run tells nothing.
    fleet.query("update followed set until_at = now() - interval '1 second' returning 1");
    for number in 1..=2 {
        std::fs::remove_file(gate.root.at(&format!("/srv/slow-{number}"))).expect("it is there");
    }
    begin_slow(&fleet);
    // The last run in this mode took more than eight seconds, for four commands.
    wait_for("how long it may take is told", || {
        let shown = fleet.client(&["sweep", "show", "S2"]).stdout;
        shown.contains("correcting command:slow-1; its last run took 8.")
    });
    let ends = fleet.query("select extract(epoch from max(begun_at) + interval '8 seconds')::bigint from sweep_node where sweep = 2");
    let sweep = fleet.curl().with_token(fleet.administrator()).get("/api/sweeps/2").1;
    let sweep: Value = serde_json::from_str(&sweep).expect("it is JSON");
    let expected: jiff::Timestamp =
        sweep["expected_end"].as_str().expect("it is known").parse().expect("it is a time");
    assert!(
        (-1..=2).contains(&(expected.as_second() - ends.parse::<i64>().expect("it is a number"))),
        "{expected} {ends}"
    );
    wait_for("it is done", || {
        fleet.client(&["sweep", "show", "S2"]).stdout.contains("examined by it: 1 of 1")
    });
    assert_eq!(fleet.query(&format!("select count(*) from followed_clause where run <> '{run}'")), "0");
}

#[test]
fn who_comes_in_the_middle_of_a_run_sees_the_rest_of_it_and_what_needs_attention_before() {
    let fleet = Fleet::start();
    let gate = slow_gate(&fleet);
    let _daemon = gate.daemon();
    wait_until_held(&fleet, 1);
    begin_slow(&fleet);
    wait_for("its first clause is done", || lines_done(&gate) >= 1);
    let seen = followed_while(&fleet, &["--output", "json"], || ());
    let lines: Vec<Value> =
        well(&seen).lines().map(|line| serde_json::from_str(line).expect("each line is JSON")).collect();
    let (end, clauses) = lines.split_last().expect("it says something");
    let places: Vec<&Value> = clauses.iter().map(|line| &line["place"]).collect();
    assert_eq!(places, [1, 2, 3, 4], "what came before was corrected, and needs attention");
    assert_eq!(end["end"]["counts"]["corrected"], 4);
    assert_eq!(end["before"], 0);
    // Whoever follows now waits for the next run, and is not shown this one as if it went on.
    let follow = |query: &str| {
        let answer = fleet
            .curl()
            .with_token(fleet.administrator())
            .post(&format!("/api/nodes/gate-tern-1/follow{query}"), "");
        serde_json::from_str::<Value>(&answer.1).expect("it is JSON")
    };
    let run = end["id"].as_str().expect("it is an id");
    assert_eq!(follow(&format!("?run={run}&after=4"))["clauses"], json!([]));
    assert_eq!(follow("")["clauses"].as_array().map(Vec::len), Some(4));
    assert_eq!(follow("?run=none")["type"], "invalid");
}

#[test]
fn only_who_may_wake_a_node_follows_it_and_a_node_tells_only_of_itself() {
    let fleet = Fleet::start();
    let gate = slow_gate(&fleet);
    let stranger = fleet.token("pia.lund", "reader");
    refused(&fleet.client_by(&stranger, &FOLLOW), "node.wake");
    refused(&fleet.client(&["run", "follow", "gate-tern-9"]), "there is no node `gate-tern-9`");
    // What nobody asked for is not stored, and what is too much is not either.
    let clause = json!({"place": 1, "result": {"address": "file:/etc/issue", "severity": "low", "origins": [],
        "wanted": "sha256:".to_owned() + &"0".repeat(64), "verdict": "alike", "decision": {"due": "nothing"},
        "outcome": "in_line", "took_us": 1}});
    let told = |first: u64, clauses: Vec<Value>| {
        let run = json!({"id": "0198c0de-0000-7000-8000-000000000001", "began": "2026-03-02T08:00:00Z",
            "mode": "observe", "started_by": "interval", "reached": 1, "of": 1, "for_ms": 3, "before": 0, "doing": "x".repeat(5_000)});
        let body = json!({"run": run, "first": first, "clauses": clauses}).to_string();
        fleet.curl().as_node(&gate).deliver("/followed-run", &body)
    };
    assert_eq!(told(1, vec![clause.clone()]).1, r#"{"is_followed":false}"#);
    assert_eq!(clauses_told(&fleet), 0);
    fleet.curl().with_token(fleet.administrator()).post("/api/nodes/gate-tern-1/follow", "");
    assert_eq!(told(1, vec![clause.clone(); 300]).1, r#"{"is_followed":true}"#);
    told(1_999, vec![clause.clone(); 200]);
    // One that is too long is stored without its details.
    let mut long = clause.clone();
    long["result"]["topics"] = (0..100_000).map(|number| format!("topic-{number}")).collect();
    assert_eq!(told(201, vec![long]).0, 200);
    assert_eq!(fleet.query("select max(length(told::text)) < 10000 from followed_clause"), "t");
    // Told twice, it is stored once.
    told(1, vec![clause; 2]);
    assert_eq!(clauses_told(&fleet), 203);
    assert_eq!(fleet.query("select length(run_told ->> 'doing') from followed"), "300");
}
