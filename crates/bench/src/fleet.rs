//! A large fleet with its past: how fast the pages answer, how much its past takes, and how long a change for all takes.

use crate::check_ins::{check_in, speaker};
use crate::{Bound, Figure, kit_of};
use constans_core::digest::of_contents;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use constans_link::client;
use std::fs;
use std::process::Command;
use std::time::{Duration, Instant};

const NODES: u64 = 100_000;
const DAYS: u64 = 30;
/// After this many days something ends a spell of equal runs.
const SPELL_DAYS: u64 = 5;
/// How often each page is asked for, after it was asked for some times without being counted.
const ASKED: usize = 100;
const ASKED_BEFORE: usize = 20;

/// What the pages ask for: the fleet and the nodes, whole and narrowed.
const PAGES: [(&str, &str); 10] = [
    ("overview", ""),
    ("overview", "labels.site == \"auken\""),
    ("nodes", ""),
    ("nodes?size=100&count=true", ""),
    ("nodes", "labels.site == \"auken\" && node.mode == \"enforce\""),
    ("nodes", "node.status == \"drift_found\""),
    ("nodes", "about.os.name == \"debian\" && !(labels.site in [\"tern\", \"brisk\"])"),
    ("nodes?size=100&count=true&sort=status", ""),
    ("nodes?size=100&count=true&sort=-last_run", "labels.site == \"auken\""),
    ("nodes", "node.name.startsWith(\"kiosk-eldrey-2\") && node.last_contact != \"on_time\""),
];

/// Makes the fleet and asks.
pub fn at_scale() -> Vec<Figure> {
    if std::env::current_exe().is_ok_and(|own| !own.with_file_name("constans-server").exists()) {
        println!(
            "NOT MEASURED: a large fleet, since no constans-server lies beside this program; make bench builds it"
        );
        return Vec::new();
    }
    let fleet = Fleet::start();
    let machine = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &machine, &KIOSKS.replace("MODE", "enforce")));
    for _ in 0..2 {
        well(&machine.run(&["daemon", "--once"]));
    }
    let began = Instant::now();
    make(&fleet);
    println!(
        "a fleet of {NODES} nodes with {DAYS} days behind it, made from one real node's rows, in {:.0?}",
        began.elapsed()
    );
    let mut figures = storage(&fleet);
    let reader = fleet.token("pia.lund", "reader");
    figures.push(pages(&fleet, &reader));
    figures.extend(evidence(&fleet));
    figures.push(change_for_all(&fleet, &machine));
    figures.extend(hand_out(&fleet, &machine));
    figures
}

fn make(fleet: &Fleet) {
    let output = Command::new("psql")
        .args([
            "-q",
            "-v",
            &format!("nodes={NODES}"),
            "-v",
            &format!("days={DAYS}"),
            "-v",
            &format!("spell={SPELL_DAYS}"),
        ])
        .args(["-f", concat!(env!("CARGO_MANIFEST_DIR"), "/src/fleet.sql"), fleet.database()])
        .output()
        .expect("psql starts");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
}

fn storage(fleet: &Fleet) -> Vec<Figure> {
    let number = |sql: &str| fleet.query(sql).parse::<f64>().expect("a number");
    let of_spans = number("select pg_total_relation_size('run_span') + pg_total_relation_size('heard')");
    let eventful = number(
        "select sum(pg_total_relation_size(relid)) + pg_total_relation_size('report_text') + pg_total_relation_size('episode') from pg_partition_tree('run')",
    );
    let now = number("select pg_total_relation_size('node_now') + pg_total_relation_size('node_exception')");
    let uneventful = number("select sum(count) from run_span");
    let gib = |bytes: f64| bytes / 1_000_000_000.0;
    println!(
        "{uneventful:.0} uneventful runs and their check-ins: {:.2} GB; {} eventful ones: {:.2} GB; what is so now: {:.2} GB",
        gib(of_spans),
        fleet.query("select count(*) from run"),
        gib(eventful),
        gib(now)
    );
    vec![
        Figure {
            work: "storage of an uneventful run with its check-in",
            against: "-",
            measured: of_spans / uneventful,
            budget: 20.0,
            unit: "B",
            bound: Bound::AtMost,
        },
        Figure {
            work: "100,000 nodes, 30 days, all runs and check-ins",
            against: "-",
            measured: gib(of_spans + eventful + now),
            budget: 5.0,
            unit: "GB",
            bound: Bound::AtMost,
        },
    ]
}

fn pages(fleet: &Fleet, reader: &str) -> Figure {
    Figure {
        work: "Overview and Nodes at 100,000 nodes, the slowest's p95",
        against: "-",
        measured: slowest(fleet, reader, &PAGES, ASKED),
        budget: 100.0,
        unit: "ms",
        bound: Bound::AtMost,
    }
}

/// Evidence of every clause on every node, from the question to the verified file: how long it takes, and how much memory.
fn evidence(fleet: &Fleet) -> [Figure; 2] {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("evidence.zip").display().to_string();
    let process = format!("/proc/{}", fleet.process());
    let resident = |field: &str| {
        let status = fs::read_to_string(format!("{process}/status")).expect("the server runs");
        let line = status.lines().find(|line| line.starts_with(field)).expect("it is there").to_owned();
        line.split_whitespace().nth(1).and_then(|kib| kib.parse::<f64>().ok()).expect("a number") / 1_024.0
    };
    // From here on the kernel notes the most that is used.
    fs::write(format!("{process}/clear_refs"), "5").expect("one's own process");
    let (before, began) = (resident("VmRSS"), Instant::now());
    let output = fleet.client(&["evidence", "make", "--format", "csv", "--save-as", &file]);
    let took = began.elapsed();
    println!("{}{before:.0} MiB before, {:.0} MiB at the most", well(&output), resident("VmHWM"));
    let figure = |work, measured, budget, unit| Figure {
        work,
        against: "-",
        measured,
        budget,
        unit,
        bound: Bound::AtMost,
    };
    [
        figure("evidence of 100,000 nodes as CSV, made and verified", took.as_secs_f64(), 60.0, "s"),
        figure("the same, memory of the server on top", resident("VmHWM") - before, 256.0, "MiB"),
    ]
}

/// The slowest of these requests at its 95th percentile, in milliseconds. They are sent in turn, and first without being counted:
/// what the database does after so much was written would be laid to the one that comes first.
///
/// Neighbours on the same hardware can halve the speed of a virtual machine for seconds. So a fixed work is timed before and after each
/// request, and what is returned is the time as it would have been at the fastest that this work took: the time times the fastest, by
/// the mean of the two. What the clock said is printed beside it.
pub fn slowest(fleet: &Fleet, reader: &str, asked: &[(&str, &str)], times: usize) -> f64 {
    let client = client(&fleet.ca, None).expect("a link");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let ask = |(page, filter): &(&str, &str)| {
        let fixed = fixed_work();
        let (took, bytes) = runtime.block_on(async {
            let began = Instant::now();
            let query: &[(&str, &str)] = if filter.is_empty() { &[] } else { &[("filter", filter)] };
            let url = reqwest::Url::parse_with_params(&format!("{}/api/{page}", fleet.people_url()), query)
                .expect("a URL");
            let answer = client.get(url).bearer_auth(reader).send().await.expect("it is heard");
            let (status, body) = (answer.status(), answer.bytes().await.expect("it ends"));
            assert!(status.is_success(), "{page} {filter}: {}", String::from_utf8_lossy(&body));
            (began.elapsed(), body.len())
        });
        Asked { took, bytes, fixed: (fixed + fixed_work()) / 2 }
    };
    let before = times * ASKED_BEFORE / ASKED;
    let mut rounds: Vec<Vec<Asked>> = (0..before + times).map(|_| asked.iter().map(ask).collect()).collect();
    rounds.drain(..before);
    let fixed = || rounds.iter().flatten().map(|asked| asked.fixed);
    let (fastest, longest) = (fixed().min().expect("some"), fixed().max().expect("some"));
    println!("a fixed work beside them took from {fastest:.1?} to {longest:.1?}");
    let mut slowest = Duration::ZERO;
    for (at, (page, filter)) in asked.iter().enumerate() {
        let sorted = |time: &dyn Fn(&Asked) -> Duration| {
            let mut all: Vec<Duration> = rounds.iter().map(|round| time(&round[at])).collect();
            all.sort_unstable();
            all
        };
        let by_clock = sorted(&|asked| asked.took);
        let at_fastest =
            sorted(&|asked| asked.took.mul_f64(fastest.as_secs_f64() / asked.fixed.as_secs_f64()));
        println!(
            "{page:<6} {filter:<75} by the clock median {:>8.1?} p95 {:>8.1?}, at the fastest median {:>8.1?} p95 {:>8.1?}  {:>6} KB",
            by_clock[times / 2],
            p95(by_clock.clone()),
            at_fastest[times / 2],
            p95(at_fastest.clone()),
            rounds[times / 2][at].bytes / 1_000
        );
        slowest = slowest.max(p95(at_fastest));
    }
    slowest.as_secs_f64() * 1_000.0
}

/// A request that was answered.
struct Asked {
    took: Duration,
    bytes: usize,
    /// How long the fixed work took beside it.
    fixed: Duration,
}

/// Times a fixed work, some 10 ms long: SHA-256 over zeros.
fn fixed_work() -> Duration {
    let block = vec![0; 1 << 20];
    let began = Instant::now();
    for _ in 0..16 {
        std::hint::black_box(of_contents(std::hint::black_box(&block)));
    }
    began.elapsed()
}

/// Assigns 300 clauses to every node, as an operator does.
fn change_for_all(fleet: &Fleet, machine: &Machine) -> Figure {
    let folder = tempfile::tempdir().expect("a folder");
    for (path, text) in kit_of(6, 50) {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().expect("it has a folder")).expect("a folder");
        let text = String::from_utf8_lossy(&text).replace("quay-base", "quay-parts");
        fs::write(path, text).expect("it is written");
    }
    well(&fleet.client(&["kit", "publish", &folder.path().display().to_string()]));
    well(&fleet.client(&["stage", "serve", "open-water", "quay-parts@1.0.0"]));
    let assignments: String = (0..6)
        .map(|part| format!("[[assignments]]\nkit = \"quay-parts\"\nbaseline = \"part-{part}\"\n"))
        .collect();
    let text = format!("name = \"quays\"\npriority = 20\nfilter = \"labels.role == 'kiosk'\"\n{assignments}");
    let began = Instant::now();
    let output = well(&group(fleet, machine, &text)).to_owned();
    let took = began.elapsed();
    println!(
        "a change for all: {} in {took:.1?}; {} states",
        output.trim(),
        fleet.query("select count(distinct state) from node_wanted")
    );
    let clauses = fleet.query(
        "select min((s.body ->> 'clauses')::int) from node_wanted w join state_sources s on s.id = w.sources",
    );
    assert!(clauses.parse::<u32>().is_ok_and(|clauses| clauses >= 300), "{clauses} clauses");
    Figure {
        work: "100,000 nodes of 300 clauses resolved after a change",
        against: "-",
        measured: took.as_secs_f64() / 60.0,
        budget: 2.0,
        unit: "min",
        bound: Bound::AtMost,
    }
}

/// How often a check-in with its report, and a revocation, is waited for at rest.
const WAITED_FOR: usize = 60;

/// A change of all nodes that is prepared first: what its hand-out takes, and how long check-ins and revocations take meanwhile.
fn hand_out(fleet: &Fleet, machine: &Machine) -> [Figure; 3] {
    let text = |idle: u64| KIOSKS.replace("MODE", "enforce").replace("= 45", &format!("= {idle}"));
    let prepare = |idle| {
        let output =
            fleet.client(&["group", "set", &machine.document("kiosks.toml", &text(idle)), "--preview"]);
        let output = well(&output);
        output
            .split("change confirm ")
            .nth(1)
            .and_then(|rest| rest.split_whitespace().next())
            .expect("its number")
            .to_owned()
    };
    let number = |sql: &str| fleet.query(sql).parse::<f64>().expect("a number");
    let mut caller = Caller::new(fleet, machine);
    caller.call(0);
    let rest = p95((1..=WAITED_FOR).map(|at| caller.call(at)).collect());
    let done = std::sync::atomic::AtomicBool::new(false);
    let (change, busy) = std::thread::scope(|scope| {
        let caller = scope.spawn(|| {
            let mut all = Vec::new();
            while !done.load(std::sync::atomic::Ordering::Relaxed) {
                all.push(caller.call(WAITED_FOR + 1 + all.len()));
            }
            all
        });
        let change = prepare(60);
        well(&fleet.client(&["change", "confirm", &change, "--confirm", "0"]));
        done.store(true, std::sync::atomic::Ordering::Relaxed);
        (change, p95(caller.join().expect("it goes on")))
    });
    println!(
        "check-ins with reports and revocations: p95 {rest:.1?} at rest, {busy:.1?} while {change} was prepared and handed out to all"
    );
    let change = prepare(61);
    fleet.query("checkpoint");
    let (wal, locked) = (number("select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')"), handing_out(fleet));
    well(&fleet.client(&["change", "confirm", &change, "--confirm", "0"]));
    let (wal, locked) =
        (number("select pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')") - wal, handing_out(fleet) - locked);
    let figure = |work, against, measured, budget, unit| Figure {
        work,
        against,
        measured,
        budget,
        unit,
        bound: Bound::AtMost,
    };
    [
        figure("a prepared hand-out to 100,000 nodes, under the lock", "-", locked, 2.0, "s"),
        figure("the same, write-ahead log", "-", wal / 1_000_000.0, 32.0, "MB"),
        figure(
            "check-ins and revocations meanwhile, p95",
            "the same at rest",
            busy.as_secs_f64() / rest.as_secs_f64(),
            3.0,
            "×",
        ),
    ]
}

/// How long hand-outs held the lock so far, in seconds.
fn handing_out(fleet: &Fleet) -> f64 {
    let output = Command::new("curl").args(["-s", &fleet.metrics_url()]).output().expect("curl starts");
    let output = String::from_utf8_lossy(&output.stdout).into_owned();
    let line = output
        .lines()
        .find(|line| line.starts_with("constans_handing_out_seconds_sum"))
        .expect("it is measured");
    line.rsplit(' ').next().and_then(|seconds| seconds.parse().ok()).expect("a number")
}

fn p95(mut all: Vec<Duration>) -> Duration {
    all.sort_unstable();
    all[all.len() * 95 / 100]
}

/// Who checks in as a node and revokes others as an administrator, and waits for both.
struct Caller<'f> {
    fleet: &'f Fleet,
    node: crate::check_ins::CheckInClient,
    client: reqwest::Client,
    runtime: tokio::runtime::Runtime,
    others: Vec<String>,
}

impl<'f> Caller<'f> {
    fn new(fleet: &'f Fleet, machine: &Machine) -> Self {
        let others = fleet
            .query("select name from node where name <> 'kiosk-auken-1' order by name desc limit 20000")
            .lines()
            .map(str::to_owned)
            .collect();
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
        Self {
            fleet,
            node: speaker(fleet, machine),
            client: client(&fleet.ca, None).expect("a link"),
            runtime,
            others,
        }
    }

    /// Calls, a hundredth of a second after the last time, and returns how long that took.
    fn call(&mut self, at: usize) -> Duration {
        std::thread::sleep(Duration::from_millis(10));
        let began = Instant::now();
        let revoke = self.client.post(format!(
            "{}/api/nodes/{}/revoke",
            self.fleet.people_url(),
            self.others[at % self.others.len()]
        ));
        self.runtime.block_on(async {
            check_in(&mut self.node, &self.fleet.agents_url()).await;
            revoke
                .bearer_auth(self.fleet.administrator())
                .send()
                .await
                .expect("it is heard")
                .bytes()
                .await
                .expect("it ends");
        });
        began.elapsed()
    }
}
