//! Compliance of a large fleet with 90 days of past: simulated nodes live through them with the real server, whose clock is moved;
//! their rows are then copied until the fleet is large.

use crate::fleet::slowest;
use crate::{Bound, Figure};
use constans_clock::MovedClock;
use constans_crowd::{Crowd, Operator, Pace, Plan, Rates};
use constans_e2e::Fleet;
use constans_e2e::story::well;
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;

/// How many live; fewer with `PAST_NODES`, for a trial.
const NODES: usize = 2_000;
/// So many times each node is there in the end.
const COPIES: u64 = 50;
const DAYS: i64 = 90;
/// On this day the second release comes.
const SECOND_RELEASE_DAY: i64 = 72;
/// The clauses of each node, and the controls that they satisfy, two each.
const CLAUSES: u64 = 20;
const CONTROLS: u64 = 12;
/// So often each question is asked.
const ASKED: usize = 20;
/// What happens to a node, on average, in a day.
const CHANCE: Rates =
    Rates { drift: 0.03, failure: 0.003, off: 0.003, cut: 0.003, leave: 0.0002, join: 0.0, slow: 0.0 };

const GROUP: &str = r#"
name = "quays"
priority = 10
filter = "labels.simulated == 'yes'"

[[assignments]]
kit = "quay-base"
baseline = "quay"

[settings]
mode = "enforce"
interval_secs = 86400
"#;

/// Depots that only observe from the second day on: what drifts there stays.
const OBSERVING: &str = r#"
name = "observing"
priority = 20
filter = "labels.role == 'depot'"

[settings]
mode = "observe"
"#;

fn nodes() -> usize {
    std::env::var("PAST_NODES").ok().and_then(|number| number.parse().ok()).unwrap_or(NODES)
}

/// Makes the fleet and asks.
pub fn compliance() -> Vec<Figure> {
    let folder = tempfile::tempdir().expect("a folder");
    let clock = folder.path().join("clock");
    let begin = Timestamp::now() - SignedDuration::from_hours(24 * DAYS);
    let moved = MovedClock::create(&clock, begin).expect("a clock");
    let fleet = Fleet::start_by(&clock);
    let began = Instant::now();
    let now = live(&fleet, moved, folder.path());
    println!("{} nodes lived {DAYS} days in {:.0?}", nodes(), began.elapsed());
    let reader = fleet.token("pia.lund", "reader");
    let questions = Questions::at(now);
    let few = questions.answers(&fleet, &reader);
    let began = Instant::now();
    copy(&fleet);
    println!(
        "each copied {COPIES} times in {:.0?}; of the history: {} deviations, {} gaps, {} spans of runs",
        began.elapsed(),
        fleet.query("select count(*) from deviation"),
        fleet.query("select count(*) from examination_gap"),
        fleet.query("select count(*) from run_span")
    );
    for ((question, few), many) in questions.all.iter().zip(&few).zip(questions.answers(&fleet, &reader)) {
        assert_copied(question, few, &many);
    }
    let began = Instant::now();
    while fleet.query("select count(*) from day_figure").parse::<i64>().is_ok_and(|days| days < DAYS - 1) {
        assert!(began.elapsed() < Duration::from_secs(1_200), "the figures of days are never there");
        std::thread::sleep(Duration::from_millis(500));
    }
    println!("the figures of {DAYS} days were there after {:.0?}", began.elapsed());
    questions.figures(&fleet, &reader)
}

/// Has the nodes live; returns the time in the end.
fn live(fleet: &Fleet, clock: MovedClock, folder: &Path) -> Timestamp {
    let set_group = |name: &str, text: &str| {
        fs::write(folder.join(name), text).expect("it is written");
        well(&fleet.client(&["group", "set", &folder.join(name).display().to_string()]));
    };
    publish(fleet, folder, "1.4.0");
    set_group("quays.toml", GROUP);
    let runtime = Runtime::new().expect("a runtime");
    let (url, ca, token) = (fleet.people_url(), &fleet.ca, fleet.administrator());
    let operator = Operator::new(&url, ca, token).expect("a way to the server");
    let step = SignedDuration::from_mins(15);
    let plan = Plan { rates: CHANCE, step, keeps_connections: true, ..Plan::of(nodes(), 7) };
    let mut quiet = |_: &str| ();
    let gathered = Crowd::gather(plan, operator, Pace::Moved(clock), None, &mut quiet);
    let mut crowd = runtime.block_on(gathered).expect("they join");
    let mut days = |days: i64| {
        runtime.block_on(crowd.live(SignedDuration::from_hours(24 * days), &mut quiet)).expect("they live");
        crowd.now()
    };
    days(2);
    set_group("observing.toml", OBSERVING);
    days(SECOND_RELEASE_DAY - 2);
    publish(fleet, folder, "1.5.0");
    days(DAYS - SECOND_RELEASE_DAY)
}

/// Publishes a release and serves it to all.
fn publish(fleet: &Fleet, folder: &Path, version: &str) {
    let kit = folder.join("quay-base");
    fs::create_dir_all(kit.join("baselines")).expect("a folder");
    let manifest =
        format!("[kit]\nname = \"quay-base\"\nversion = \"{version}\"\nsummary = \"What every node has\"\n");
    fs::write(kit.join("kit.toml"), manifest).expect("it is written");
    let mut baseline = "[baseline]\nname = \"quay\"\n".to_owned();
    for clause in 0..CLAUSES {
        let severity = ["low", "medium", "high", "critical"][usize::try_from(clause % 4).unwrap_or(0)];
        let text = if clause == 0 { version } else { "Skerry Line" };
        let controls =
            [clause % CONTROLS + 1, (clause + 5) % CONTROLS + 1].map(|control| format!("\"SK-{control}\""));
        let _ = write!(
            baseline,
            "\n[[clause]]\nwhat = \"file:/etc/quay/part-{clause}.conf\"\ntext = \"{text}\\n\"\nseverity = \"{severity}\"\nsatisfies = [{}]\n",
            controls.join(", ")
        );
    }
    fs::write(kit.join("baselines/quay.toml"), baseline).expect("it is written");
    well(&fleet.client(&["kit", "publish", &kit.display().to_string()]));
    well(&fleet.client(&["stage", "serve", "open-water", &format!("quay-base@{version}")]));
}

fn copy(fleet: &Fleet) {
    let output = Command::new("psql")
        .args(["-q", "-v", &format!("copies={COPIES}")])
        .args(["-f", concat!(env!("CARGO_MANIFEST_DIR"), "/src/past.sql"), fleet.database()])
        .output()
        .expect("psql starts");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

/// Asserts that every number of an answer is so many times that of the fleet that was copied; rates and times are the same.
fn assert_copied(question: &str, few: &Value, many: &Value) {
    match (few, many) {
        (Value::Object(few), Value::Object(many)) => {
            assert_eq!(few.len(), many.len(), "{question}");
            for (name, few) in few {
                let many = many.get(name).unwrap_or(&Value::Null);
                let is_share = name.ends_with("_basis_points") || name == "no" || name == "change";
                if is_share && !few.is_object() {
                    assert_eq!(few, many, "{question}: {name}");
                } else {
                    assert_copied(&format!("{question}: {name}"), few, many);
                }
            }
        }
        (Value::Array(few), Value::Array(many)) => {
            assert_eq!(few.len(), many.len(), "{question}");
            few.iter().zip(many).for_each(|(few, many)| assert_copied(question, few, many));
        }
        (Value::Number(few), Value::Number(many)) => {
            assert_eq!(few.as_u64().map(|few| few * COPIES), many.as_u64(), "{question}");
        }
        (few, many) => assert_eq!(few, many, "{question}"),
    }
}

/// What is asked.
struct Questions {
    all: Vec<String>,
}

impl Questions {
    fn at(now: Timestamp) -> Self {
        let ago = |days: i64| format!("{:.0}", now - SignedDuration::from_hours(24 * days));
        let now = format!("{now:.0}");
        let all = vec![
            "compliance?by=control".to_owned(),
            "compliance?by=severity".to_owned(),
            "compliance?by=label:site".to_owned(),
            "compliance?by=group".to_owned(),
            format!("compliance?by=control&as_of={}", ago(45)),
            format!("compliance?by=label:site&as_of={}", ago(10)),
            format!("compliance/moves?since={}&as_of={now}", ago(20)),
        ];
        Self { all }
    }

    fn answers(&self, fleet: &Fleet, reader: &str) -> Vec<Value> {
        let fetch = |question: &String| {
            let output = Command::new("curl")
                .args(["-sSfk", "-H", &format!("Authorization: Bearer {reader}")])
                .arg(format!("{}/api/{question}", fleet.people_url()))
                .output()
                .expect("curl starts");
            assert!(output.status.success(), "{question}: {}", String::from_utf8_lossy(&output.stderr));
            serde_json::from_slice(&output.stdout).expect("an answer")
        };
        self.all.iter().map(fetch).collect()
    }

    fn figures(&self, fleet: &Fleet, reader: &str) -> Vec<Figure> {
        let figure = |work, asked: &[String], budget| {
            let asked: Vec<(&str, &str)> = asked.iter().map(|question| (question.as_str(), "")).collect();
            Figure {
                work,
                against: "-",
                measured: slowest(fleet, reader, &asked, ASKED),
                budget,
                unit: "ms",
                bound: Bound::AtMost,
            }
        };
        let chart = ["compliance/days?days=90".to_owned()];
        vec![
            figure("compliance by a dimension, 100,000 nodes, the slowest's p95", &self.all[..4], 300.0),
            figure("the same of a past moment, p95", &self.all[4..6], 1_000.0),
            figure("chart of 90 days, p95", &chart, 2_000.0),
            figure("why the rate moved in 20 days, p95", &self.all[6..], 2_000.0),
        ]
    }
}
