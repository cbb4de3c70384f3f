//! How much a held request takes, and how soon nodes that are woken check in: real mutual TLS, each node with its own key.

use crate::{Bound, Figure};
use constans_core::filter::About;
use constans_e2e::Fleet;
use constans_e2e::story::well;
use constans_link::{Identity, client};
use constans_server::trust::{Authority, ProtectedFolder, ReadRequest};
use reqwest::Client;
use serde_json::{Value, json};
use std::fmt::Write as _;
use std::path::Path;
use std::sync::atomic::{AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;
use uuid::Uuid;

/// As many as a process here can hold: it may have 20,000 descriptors, and so may this one.
const NODES: usize = 9_000;
/// This many are woken within two seconds.
const WOKEN: usize = 1_000;
/// The budget is for this many.
const BUDGET_NODES: f64 = 20_000.0;

/// A node that only waits, and checks in when it is woken.
struct Waiter {
    client: Client,
    wake: AtomicI64,
    mark: Mutex<Value>,
}

/// Holds a request of each of many nodes, and wakes some of them and then all.
pub fn waking() -> Vec<Figure> {
    let fleet = Fleet::start();
    let (authority, began) = (authority(&fleet.protected()), Instant::now());
    let waiters: Arc<Vec<Waiter>> = Arc::new(made(&fleet, &authority));
    println!("{NODES} nodes with a key and a certificate each, in {:.0} s", began.elapsed().as_secs_f64());
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime");
    let url = fleet.agents_url();
    let began = Instant::now();
    for_all(&runtime, &waiters, 16, &url);
    println!("all checked in for the first time, in {:.0} s", began.elapsed().as_secs_f64());
    let before = resident(fleet.process());
    let woken = Arc::new(AtomicUsize::new(0));
    for at in 0..NODES {
        runtime.spawn(wait(waiters.clone(), at, url.clone(), woken.clone()));
        // A handshake is work at both ends.
        if at % 50 == 0 {
            std::thread::sleep(Duration::from_millis(100));
        }
    }
    until_held(&fleet, NODES);
    let held = resident(fleet.process());
    let each = (held - before) / NODES as f64;
    println!(
        "{before:.0} MiB before, {held:.0} MiB with {NODES} held requests: {:.1} KiB each",
        each * 1_024.0
    );
    let one = |more: &[&str]| {
        let waked = fleet.client(&[&["node", "reach", "--within", "300", "--output", "json"], more].concat());
        let shown: Value = serde_json::from_str(well(&waked)).expect("JSON");
        println!("{}", shown["wake"]);
        shown["wake"]["slowest_ms"].as_f64().expect("they came") / 1_000.0
    };
    let thousand = one(&[&format!("node.name < \"bench-{WOKEN:05}\"")]);
    until_held(&fleet, NODES);
    let all = one(&[]);
    println!("all {NODES} within {all:.1} s: {:.0} a second", NODES as f64 / all);
    assert!(woken.load(Ordering::Relaxed) >= NODES + WOKEN, "each was told");
    vec![
        Figure {
            work: "waking 1,000 waiting nodes, the last checked in",
            against: "-",
            measured: thousand,
            budget: 2.0,
            unit: "s",
            bound: Bound::AtMost,
        },
        Figure {
            work: "20,000 held requests (9,000 measured)",
            against: "-",
            measured: each * BUDGET_NODES / 1_024.0,
            budget: 1.2,
            unit: "GiB",
            bound: Bound::AtMost,
        },
    ]
}

fn authority(protected: &Path) -> Arc<Authority> {
    let opened = ProtectedFolder::open(protected, true);
    Arc::new(opened.unwrap_or_else(|error| panic!("{error}")).authority)
}

/// Makes the nodes in the database, as approving them would have.
fn made(fleet: &Fleet, authority: &Authority) -> Vec<Waiter> {
    let mut waiters = Vec::new();
    for first in (0..NODES).step_by(100) {
        let (mut nodes, mut keys) = (String::new(), String::new());
        for at in first..(first + 100).min(NODES) {
            let (id, pair) = (Uuid::now_v7(), rcgen::KeyPair::generate().expect("a key"));
            let request = rcgen::CertificateParams::new(Vec::new()).expect("it is plain");
            let request =
                request.serialize_request(&pair).and_then(|request| request.pem()).expect("a request");
            let read = ReadRequest::read(&request).expect("it is right");
            let spki: String = read.spki.iter().map(|byte| format!("{byte:02x}")).collect();
            let certificate = authority.issue_node(id, read).expect("a certificate").certificate;
            let _ = write!(nodes, ",('{id}','bench-{at:05}',now())");
            let _ = write!(keys, ",('\\x{spki}','{id}','{certificate}',now() + interval '180 days',now())");
            let key = pair.serialize_pem();
            let identity = Identity { certificate: &certificate, key: &key };
            let client = client(&fleet.ca, Some(&identity)).expect("a link");
            waiters.push(Waiter { client, wake: AtomicI64::new(0), mark: Mutex::default() });
        }
        let (nodes, keys) = (&nodes[1..], &keys[1..]);
        fleet.query(&format!("with new as (insert into node (id, name, joined_at) values {nodes} returning id) insert into node_now (node) select id from new"));
        fleet.query(&format!(
            "insert into node_key (spki_digest, node, certificate, ends_at, issued_at) values {keys}"
        ));
    }
    waiters
}

fn for_all(runtime: &Runtime, waiters: &Arc<Vec<Waiter>>, at_once: usize, url: &str) {
    let next = Arc::new(AtomicUsize::new(0));
    let tasks: Vec<_> = (0..at_once)
        .map(|_| {
            let (next, waiters, url) = (next.clone(), waiters.clone(), url.to_owned());
            runtime.spawn(async move {
                while let Some(waiter) = waiters.get(next.fetch_add(1, Ordering::Relaxed)) {
                    check_in(waiter, &url).await;
                }
            })
        })
        .collect();
    for task in tasks {
        runtime.block_on(task).expect("it ends");
    }
}

async fn check_in(waiter: &Waiter, url: &str) {
    let about = About::sample();
    let now = jiff::Timestamp::now();
    // What it was given last is shown by none: the first check-in of each is its only one but for wakes.
    let body =
        json!({ "agent": env!("CARGO_PKG_VERSION"), "now": now, "next_in_secs": 3_600, "about": about });
    let answer = waiter.client.post(format!("{url}/check-in")).json(&body).send().await.expect("it is heard");
    let status = answer.status();
    let answer: Value = answer.json().await.expect("JSON");
    assert!(status.is_success(), "{status} {answer}");
    *waiter.mark.lock().expect("nobody panicked") = answer["mark"].clone();
    waiter.wake.store(answer["wake"].as_i64().expect("the newest wake"), Ordering::Relaxed);
}

async fn wait(waiters: Arc<Vec<Waiter>>, at: usize, url: String, woken: Arc<AtomicUsize>) {
    let waiter = &waiters[at];
    loop {
        let after = waiter.wake.load(Ordering::Relaxed);
        let asked = waiter.client.get(format!("{url}/wait?after={after}")).timeout(Duration::from_secs(300));
        // A connection of before may have been closed for its idleness just now.
        let Ok(answer) = asked.send().await else { continue };
        let answer: Value = answer.json().await.expect("JSON");
        if answer["wake"].is_i64() {
            woken.fetch_add(1, Ordering::Relaxed);
            check_in(waiter, &url).await;
        }
    }
}

fn until_held(fleet: &Fleet, nodes: usize) {
    let end = Instant::now() + Duration::from_secs(300);
    loop {
        let held = fleet.metric("constans_held_requests");
        if held >= nodes as f64 {
            return;
        }
        assert!(Instant::now() < end, "{held} of {nodes} requests are held");
        std::thread::sleep(Duration::from_millis(200));
    }
}

/// The memory of a process, in MiB.
fn resident(process: u32) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).expect("it runs");
    let kib = status
        .lines()
        .find_map(|line| line.strip_prefix("VmRSS:")?.split_whitespace().next()?.parse::<f64>().ok());
    kib.expect("its memory") / 1_024.0
}
