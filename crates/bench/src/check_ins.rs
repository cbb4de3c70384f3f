//! How many uneventful check-ins with their reports a server takes in a second over TLS, beside pgbench writing the same rows.

use crate::{Bound, Figure};
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use constans_link::{Identity, client};
use reqwest::Client;
use serde_json::{Value, json};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

const NODES: usize = 64;
/// This many clients of `pgbench` at once, each with nodes of its own: more of them make it slower.
const CLIENTS: usize = 16;
const MEASURED: Duration = Duration::from_secs(5);

/// A node as its agent speaks, without the agent.
pub struct CheckInClient {
    client: Client,
    check_in: Value,
    report: Value,
}

/// Lets nodes check in and report as fast as they are answered.
pub fn check_ins() -> Vec<Figure> {
    let is_built = std::env::current_exe().is_ok_and(|own| own.with_file_name("constans-server").exists());
    if !is_built {
        println!(
            "NOT MEASURED: check-ins, since no constans-server lies beside this program; make bench builds it"
        );
        return Vec::new();
    }
    let fleet = Fleet::start();
    let machines: Vec<Machine> =
        (1..=NODES).map(|number| joined(&fleet, &format!("kiosk-auken-{number}"), &["role=kiosk"])).collect();
    publish_and_serve(&fleet);
    well(&group(&fleet, &machines[0], &KIOSKS.replace("MODE", "enforce")));
    for machine in &machines {
        well(&machine.run(&["daemon", "--once"]));
    }
    let speakers: Vec<CheckInClient> = machines.iter().map(|machine| speaker(&fleet, machine)).collect();
    fleet.query(
        "create table client_node as select row_number() over (order by node) as n, node from node_now",
    );
    fleet.query("alter table client_node add primary key (n)");
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let agents = fleet.agents_url();
    let (bare, mut speakers) = runtime.block_on(measure(speakers, agents.clone(), false));
    let (mut check_ins, mut rows) = (0.0_f64, 0.0_f64);
    // In turn, the best of each: what else the machine does only makes them slower.
    for _ in 0..3 {
        let (rate, spoken) = runtime.block_on(measure(speakers, agents.clone(), true));
        speakers = spoken;
        check_ins = check_ins.max(rate);
        rows = rows.max(pgbench(&fleet));
    }
    println!(
        "check-ins with their reports: {check_ins:.0} a second, pgbench: {rows:.0} transactions a second, a bare handler: {bare:.0} requests a second"
    );
    vec![Figure {
        work: "check-ins without news, with reports, a second",
        against: "`pgbench` writing the same rows",
        measured: check_ins / rows,
        budget: 0.5,
        unit: "×",
        bound: Bound::AtLeast,
    }]
}

/// Returns a machine that joined as who speaks for it.
pub fn speaker(fleet: &Fleet, machine: &Machine) -> CheckInClient {
    let run = machine.run(&["enforce", "--yes", "--output", "json"]);
    let report: Value = serde_json::from_str(&run.stdout).expect("a report");
    assert_eq!(report["status"], "in_line", "{}", run.stdout);
    let read = |name: &str| machine.root.read(&format!("/var/lib/constans/{name}")).expect("it joined");
    let membership: Value = serde_json::from_str(&read("joined.json")).expect("JSON");
    let key = read("node.key");
    let identity =
        Identity { certificate: membership["certificate"].as_str().expect("a certificate"), key: &key };
    let about: Value = serde_json::from_str(
        &fleet.query("select value from node_attribute where name = 'about' and until_at is null limit 1"),
    )
    .expect("JSON");
    CheckInClient {
        client: client(&fleet.ca, Some(&identity)).expect("a link"),
        check_in: json!({ "agent": env!("CARGO_PKG_VERSION"), "now": null, "next_in_secs": 60, "about": about, "mark": membership["mark"] }),
        report,
    }
}

/// Lets all nodes speak at once, each waiting for its answers; returns how often a second they were answered.
async fn measure(speakers: Vec<CheckInClient>, url: String, checks_in: bool) -> (f64, Vec<CheckInClient>) {
    let done = Arc::new(AtomicU64::new(0));
    let began = Instant::now();
    let tasks: Vec<_> = speakers
        .into_iter()
        .map(|mut speaker| {
            let (done, url) = (done.clone(), url.clone());
            tokio::spawn(async move {
                while began.elapsed() < MEASURED {
                    if checks_in {
                        check_in(&mut speaker, &url).await;
                    } else {
                        let answer =
                            speaker.client.get(format!("{url}/greeting")).send().await.expect("it is heard");
                        assert!(answer.status().is_success());
                        answer.bytes().await.expect("it ends");
                    }
                    done.fetch_add(1, Ordering::Relaxed);
                }
                speaker
            })
        })
        .collect();
    let mut speakers = Vec::new();
    for task in tasks {
        speakers.push(task.await.expect("it ends"));
    }
    #[expect(clippy::cast_precision_loss, reason = "it is rounded for people")]
    let rate = done.load(Ordering::Relaxed) as f64 / began.elapsed().as_secs_f64();
    (rate, speakers)
}

/// Checks in and reports an uneventful run.
pub async fn check_in(speaker: &mut CheckInClient, url: &str) {
    let now = jiff::Timestamp::now().to_string();
    speaker.check_in["now"] = now.clone().into();
    let answer: Value = post(&speaker.client, &format!("{url}/check-in"), &speaker.check_in).await;
    speaker.check_in["mark"] = answer["mark"].clone();
    speaker.report["run"] = uuid::Uuid::now_v7().to_string().into();
    speaker.report["sequence"] = (speaker.report["sequence"].as_u64().expect("a sequence") + 1).into();
    speaker.report["began"] = now.into();
    assert_eq!(post(&speaker.client, &format!("{url}/runs"), &speaker.report).await, "stored");
}

async fn post(client: &Client, url: &str, body: &Value) -> Value {
    let answer = client.post(url).json(body).send().await.expect("it is heard");
    assert!(answer.status().is_success(), "{}", answer.text().await.unwrap_or_default());
    answer.json().await.expect("JSON")
}

/// Updates the same rows as a check-in and a report do, two transactions for one; each client those of nodes of its own.
/// What the nodes' next check-ins and reports go on from stays as it is.
fn pgbench(fleet: &Fleet) -> f64 {
    let script = std::env::temp_dir().join("constans-pgbench.sql");
    let each = NODES / CLIENTS;
    let sql = format!(
        "\\set n :client_id * {each} + random(1, {each})\n\
         select node as id from client_node where n = :n \\gset\n\
         begin;\n\
         update heard set last_at = now(), count = count + 1 where node = ':id';\n\
         update node_now set heard_at = now(), promised_at = now() + interval '1 min' where node = ':id';\n\
         commit;\n\
         begin;\n\
         update run_span set last_at = now(), count = count + 1, last_learned_at = now() where node = ':id';\n\
         update node_now set full_began = now(), full_learned = now() where node = ':id';\n\
         commit;\n"
    );
    std::fs::write(&script, sql).expect("the script is written");
    let programs = std::fs::read_dir("/usr/lib/postgresql")
        .expect("PostgreSQL")
        .flatten()
        .next()
        .expect("a version")
        .path()
        .join("bin/pgbench");
    let seconds = MEASURED.as_secs().to_string();
    let clients = CLIENTS.to_string();
    let output = Command::new(programs)
        .args(["-n", "-c", &clients, "-j", "2", "-T", &seconds, "-f"])
        .arg(&script)
        .arg(fleet.database())
        .output()
        .expect("pgbench");
    std::fs::remove_file(&script).expect("the script is removed");
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let tps =
        text.lines().find_map(|line| line.strip_prefix("tps = ")).and_then(|rest| rest.split(' ').next());
    tps.and_then(|tps| tps.parse().ok())
        .unwrap_or_else(|| panic!("{text}{}", String::from_utf8_lossy(&output.stderr)))
}
