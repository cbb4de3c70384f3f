//! Nodes and callers that send what they should not: it is bounded, cleaned or refused with a reason, reaches no log, and harms
//! nobody else.

use constans_core::compare::{Difference, Side};
use constans_core::digest::of_value;
use constans_core::run::{NativeStep, Status};
use constans_e2e::story::joined;
use constans_e2e::{Curl, Fleet, Machine};
use constans_wire::report::RunReport;
use serde_json::{Value, json};

const MARK: &str = "sent-by-a-hostile-caller";

/// Returns a report of a run that really was, to be changed.
fn report(kiosk: &Machine) -> RunReport {
    let document = kiosk.document(
        "issue.toml",
        "[baseline]\nname = \"login\"\n\n[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line\\n\"\n",
    );
    let report = kiosk.run(&["observe", "--file", &document, "--output", "json"]).report();
    assert_eq!(report.status, Status::RolloutWaiting);
    report
}

fn next(report: &RunReport, change: impl FnOnce(&mut RunReport)) -> RunReport {
    let mut next = RunReport { run: uuid::Uuid::now_v7(), sequence: report.sequence + 1, ..report.clone() };
    // Something else each time: what is found again is not kept whole again.
    next.clauses[0].found = Some(of_value("f1", &next.run));
    change(&mut next);
    next
}

fn stored(operator: &Curl, report: &RunReport) -> RunReport {
    let (status, body) = operator.get(&format!("/api/nodes/kiosk-auken-1/runs/{}", report.run));
    assert_eq!(status, 200, "{body}");
    serde_json::from_str(&body).expect("an answer as JSON")
}

#[test]
fn what_postgres_cannot_hold_never_reaches_it_and_what_is_too_much_is_left_out() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let (node, mut operator) = (fleet.curl().as_node(&kiosk), fleet.curl().with_token(fleet.administrator()));
    let first = report(&kiosk);
    let accepted = |report: &RunReport| {
        assert_eq!(node.deliver("/runs", &json!(report).to_string()), (200, "\"stored\"".to_owned()));
    };

    let nul = next(&first, |report| {
        report.machine = "kiosk\0auken".to_owned();
        report.clauses[0].native = vec![NativeStep {
            what: "cat".to_owned(),
            exit: Some(0),
            output: format!("{MARK}\0 {}", "x".repeat(200)),
        }];
    });
    accepted(&nul);
    let kept = stored(&operator, &nul);
    assert_eq!((kept.machine.as_str(), kept.left_out), ("kiosk\u{2400}auken", None));
    assert!(
        kept.clauses[0].native[0].output.starts_with(&format!("{MARK}\u{2400} x")),
        "{}",
        kept.clauses[0].native[0].output
    );

    // What a newer agent says beside what this server knows is kept as it came.
    let newer = next(&nul, |report| report.sequence += 1);
    let mut sent = json!(newer);
    (sent["weather"], sent["clauses"][0]["mood"]) = (json!({ "sea": ["calm", null] }), json!("well\0"));
    assert_eq!(node.deliver("/runs", &sent.to_string()).0, 200);
    let kept: Value =
        serde_json::from_str(&operator.get(&format!("/api/nodes/kiosk-auken-1/runs/{}", newer.run)).1)
            .unwrap();
    assert_eq!(
        (&kept["weather"], &kept["clauses"][0]["mood"]),
        (&json!({ "sea": ["calm", null] }), &json!("well\u{2400}"))
    );

    let large = next(&newer, |report| {
        let side = || Side::value("y".repeat(100_000));
        report.clauses[0].differences = (0..70)
            .map(|at| Difference { property: format!("{at}"), wanted: Side::Absent, found: side() })
            .collect();
    });
    assert!(json!(large).to_string().len() > 7_000_000);
    accepted(&large);
    let kept = stored(&operator, &large);
    let left_out = kept.left_out.unwrap();
    assert_eq!((kept.clauses[0].differences.len(), left_out.entries, left_out.cut), (50, 20, 50));

    // It has sent as much today as it may, and more than that.
    for (bytes, clauses) in [(40_000_000, 1), (80_000_000, 0)] {
        fleet.query(&format!(
            "update node_now set kept_day = (now() at time zone 'UTC')::date, kept_bytes = {bytes}"
        ));
        let more = next(&large, |report| report.sequence += bytes);
        accepted(&more);
        let kept = stored(&operator, &more);
        assert!(
            kept.left_out.unwrap().details
                && kept.clauses.len() == clauses
                && kept.status == Status::RolloutWaiting
        );
    }

    let check_in = |agent: &str| {
        json!({ "agent": agent, "now": first.began, "next_in_secs": 60, "about": { "os.name": "deb\0ian" } })
            .to_string()
    };
    assert_eq!(node.deliver("/check-in", &check_in("0.1\0")).0, 200);
    assert_eq!(fleet.query("select about ->> 'os.name' from node"), "deb\u{2400}ian");

    let mut wrong = json!(next(&large, |_| ()));
    wrong["wanted"]["digest"] = Value::from("nonsense");
    for (body, why) in [
        (wrong.to_string(), "this is no digest"),
        ("{\"machine\": \"\\ud800\"}".to_owned(), "hex escape"),
        ("x".repeat(9_000_000), "at most 8 MiB"),
    ] {
        let (status, answer) = node.deliver("/runs", &body);
        let problem: Value =
            serde_json::from_str(&answer).unwrap_or_else(|error| panic!("{error}: {answer}"));
        assert!(
            (400..500).contains(&status) && problem["title"].as_str().unwrap().contains(why),
            "{why}: {answer}"
        );
    }

    for path in ["/api/nodes/%00", "/api/nodes?filter=%00", "/api/nodes/kiosk-auken-1/runs/a%00", "/%00"] {
        let (status, answer) = operator.get(path);
        assert!(status == 400 && answer.contains("NUL"), "{path}: {status} {answer}");
    }
    let (status, answer) = operator.post(
        "/api/invitations",
        &format!("{{\"for_secs\": 60, \"uses\": 1, \"{MARK}\\u0000\": 1, \"labels\": 5}}"),
    );
    assert!(
        status == 422 && answer.contains("invalid type: integer `5`, expected a map at line 1 column"),
        "{status} {answer}"
    );
    let log = fleet.log();
    assert!(!log.contains("ERROR") && !log.contains(MARK), "{log}");
}

#[test]
fn a_clock_that_is_wrong_by_centuries_makes_nothing_the_newest_and_stops_nothing() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let (node, operator) = (fleet.curl().as_node(&kiosk), fleet.curl().with_token(fleet.administrator()));
    let mut last = report(&kiosk);
    let real = last.began;
    for began in ["0303-03-03T03:03:03Z", "9999-12-30T00:00:00Z", "-009999-01-03T00:00:00Z"] {
        let wrong = next(&last, |report| {
            report.began = began.parse().unwrap();
            report.clauses[0].cause = Some(constans_core::run::Cause::Drift);
            report.clauses[0].drift_window =
                Some(constans_core::run::DriftWindow { from: report.began, to: report.began });
        });
        assert_eq!(
            node.deliver("/runs", &json!(wrong).to_string()),
            (200, "\"stored\"".to_owned()),
            "{began}"
        );
        assert_eq!(stored(&operator, &wrong).began, wrong.began, "what the node said is kept");
        last = wrong;
    }
    last = next(&last, |report| report.began = real);
    assert_eq!(node.deliver("/runs", &json!(last).to_string()).0, 200);
    let runs: Vec<Value> = serde_json::from_str(&operator.get("/api/nodes/kiosk-auken-1/runs").1).unwrap();
    let ids: Vec<&str> = runs.iter().filter_map(|run| run["run"].as_str()).collect();
    assert_eq!(ids[0], last.run.to_string(), "the newest is what was learned last: {runs:?}");
    let years: Vec<i64> =
        runs.iter().map(|run| run["last"].as_str().unwrap()[..4].parse().unwrap()).collect();
    assert!(years.iter().all(|year| (2026..9999).contains(year)), "{years:?}");
    for table in [
        "select min(began)::text || max(began)::text from run",
        "select min(detected_at)::text || max(detected_at)::text from episode",
    ] {
        let stored = fleet.query(table);
        assert!(!stored.contains("0303") && !stored.contains("9999"), "{table}: {stored}");
    }
    let shown = operator.get("/api/nodes/kiosk-auken-1").1;
    assert!(!shown.contains("0303-") && !shown.contains("9999-"), "{shown}");
}

#[test]
fn a_node_that_calls_its_drift_a_drill_of_which_nobody_knows_is_not_believed() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let (node, operator) = (fleet.curl().as_node(&kiosk), fleet.curl().with_token(fleet.administrator()));
    let drifted = next(&report(&kiosk), |report| {
        let clause = &mut report.clauses[0];
        (clause.drill, clause.cause) = (Some(7), Some(constans_core::run::Cause::Drift));
        clause.drift_window = Some(constans_core::run::DriftWindow { from: report.began, to: report.began });
        clause.verdict = Some(constans_core::run::Verdict::Different);
        clause.outcome = constans_core::run::Outcome::OutOfLine;
    });
    assert_eq!(node.deliver("/runs", &json!(drifted).to_string()).0, 200);
    assert_eq!(stored(&operator, &drifted).clauses[0].drill, None);
    assert_eq!(fleet.query("select count(*) from episode where drill is null"), "1");
    assert_eq!(fleet.query("select count(*) from deviation where cause = 'drill'"), "0");
}

#[test]
fn runs_numbered_to_the_end_of_all_numbers_harm_neither_their_node_nor_others() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let other = joined(&fleet, "kiosk-tern-1", &["role=kiosk"]);
    let (node, operator) = (fleet.curl().as_node(&kiosk), fleet.curl().with_token(fleet.administrator()));
    let first = report(&kiosk);
    let second = report(&other);
    let deliver = |report: &RunReport| node.deliver("/runs", &json!(report).to_string());
    assert_eq!(deliver(&first).0, 200);
    let last = i64::MAX.unsigned_abs();
    let runs = || -> Vec<Value> {
        let (status, body) = operator.get("/api/nodes/kiosk-auken-1/runs");
        assert_eq!(status, 200, "{body}");
        serde_json::from_str(&body).unwrap()
    };
    for sequence in [last - 1, last] {
        let numbered = next(&first, |report| report.sequence = sequence);
        assert_eq!(deliver(&numbered).0, 200, "{sequence}");
        assert!(runs()[0]["missing"].as_u64().unwrap() <= 1_000_000);
        // The same again is compared with it in one statement for all nodes.
        let again = RunReport { run: uuid::Uuid::now_v7(), ..numbered };
        assert_eq!(deliver(&again), (200, "\"known\"".to_owned()), "{sequence}");
    }
    // After the last one only another memory can go on; and so again, whatever it is numbered.
    for sequence in [last, 3] {
        let anew = next(&first, |report| {
            report.memory_epoch = uuid::Uuid::now_v7();
            report.sequence = sequence;
        });
        assert_eq!(deliver(&anew).0, 200, "{sequence}");
    }
    assert_eq!(runs()[0]["missing"], 2, "{:?}", runs()[0]);
    // Uneventful runs of all nodes are counted by one statement: that of the other one is.
    let of_other = fleet.curl().as_node(&other);
    for sequence in second.sequence..second.sequence + 3 {
        let again = RunReport { run: uuid::Uuid::now_v7(), sequence, ..second.clone() };
        assert_eq!(of_other.deliver("/runs", &json!(again).to_string()).0, 200);
        let at_the_end = next(&first, |report| {
            report.memory_epoch = uuid::Uuid::now_v7();
            report.sequence = last;
        });
        assert_eq!(deliver(&at_the_end).0, 200);
    }
    assert_eq!(fleet.query("select coalesce(sum(count), 0) from run_span s join node n on n.id = s.node where n.name = 'kiosk-tern-1'"), "3");
    let log = fleet.log();
    assert!(!log.contains("ERROR"), "{log}");
}
