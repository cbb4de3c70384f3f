//! `constans node reach`: nodes are asked to check in at once; who answers, and how fast.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_terminal::{count, duration, harmless, time};
use constans_wire::wake::{NewWake, Wake, WokenNode};
use jiff::Timestamp;
use serde::Serialize;
use std::fmt::Write as _;
use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

/// How often it is looked who has answered.
const EVERY: Duration = Duration::from_millis(200);
/// This many nodes are listed unless all are asked for.
const LISTED: usize = 40;

/// Arguments of `node reach`.
#[derive(Debug, Args)]
pub struct ReachArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Only matching nodes, in CEL, for example 'labels.site == "auken"' [default: all nodes]
    #[arg(value_name = "CEL", conflicts_with_all = ["node", "wake"])]
    filter: Option<String>,
    /// This node; can be given more than once
    #[arg(long, value_name = "NODE", conflicts_with = "wake")]
    node: Vec<String>,
    /// Ask nobody, and show what came of an earlier wake, for example W12
    #[arg(long, value_name = "WAKE", value_parser = number)]
    wake: Option<u32>,
    /// The reason, kept in the audit trail
    #[arg(long, value_name = "REASON", conflicts_with = "wake")]
    because: Option<String>,
    #[command(flatten)]
    patience: Patience,
}

/// How long is waited for answers, and how much of them is shown.
#[derive(Debug, Args)]
pub struct Patience {
    /// Seconds to wait for answers
    #[arg(long, value_name = "SECONDS", default_value_t = 10, value_parser = clap::value_parser!(u64).range(0..=3_600))]
    within: u64,
    /// List all nodes, not only the first 40
    #[arg(long)]
    all: bool,
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['W', 'w'])
        .parse()
        .map_err(|_| "a wake is called W and its number, for example W12".to_owned())
}

/// Asks nodes to check in, or shows what came of that earlier.
pub async fn reach(arguments: &ReachArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let wake = match arguments.wake {
        Some(no) => server.get(&format!("/api/wakes/{no}")).await?,
        None => {
            let nodes = arguments.node.iter().cloned().collect();
            let filter = arguments.node.is_empty().then(|| arguments.filter.clone().unwrap_or_default());
            ask(&server, &NewWake { nodes, filter, change: None, because: arguments.because.clone() }).await?
        }
    };
    follow(&server, wake, &arguments.patience).await
}

/// Asks the nodes that did not fetch a change yet to do so now.
pub async fn fetch_change(
    arguments: &ServerArguments,
    change: u32,
    because: Option<String>,
    patience: &Patience,
) -> Result<(), ClientError> {
    let server = Server::open(arguments)?;
    let wanted = NewWake { change: Some(i64::from(change)), because, ..NewWake::default() };
    let wake = ask(&server, &wanted).await?;
    follow(&server, wake, patience).await
}

async fn ask(server: &Server, wanted: &NewWake) -> Result<Wake, ClientError> {
    server.post("/api/wakes", wanted).await
}

/// What is printed as JSON.
#[derive(Serialize)]
struct Shown<'a> {
    wake: &'a Wake,
    nodes: &'a [WokenNode],
}

/// Waits until all nodes have answered or the time is over, and shows who did.
async fn follow(server: &Server, mut wake: Wake, patience: &Patience) -> Result<(), ClientError> {
    let (end, is_watched) =
        (Instant::now() + Duration::from_secs(patience.within), std::io::stderr().is_terminal());
    while wake.answered < wake.nodes && Instant::now() < end {
        if is_watched {
            anstream::eprint!(
                "\rW{}: {} of {} answered, {} s left; Ctrl-C leaves it: constans node reach --wake W{} shows it\x1b[K",
                wake.no,
                wake.answered,
                wake.nodes,
                end.duration_since(Instant::now()).as_secs() + 1,
                wake.no
            );
        }
        tokio::time::sleep(EVERY).await;
        wake = server.get(&format!("/api/wakes/{}", wake.no)).await?;
    }
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
    let mut nodes: Vec<WokenNode> = server.get_all(&format!("/api/wakes/{}/nodes", wake.no)).await?;
    // Those who did not answer first, then the slowest.
    nodes.sort_by_key(|node| {
        (node.answered_ms.is_some(), node.woken, node.answered_ms.map(std::cmp::Reverse))
    });
    if !server.says_json(&Shown { wake: &wake, nodes: &nodes }) {
        anstream::print!("{}", words(&wake, &nodes, patience.all));
    }
    let missing = wake.nodes - wake.answered;
    if missing == 0 {
        return Ok(());
    }
    Err(ClientError::new(
        format!("{missing} of {} did not answer", count(number_of(wake.nodes), "node", "nodes")),
        format!("constans node reach --wake W{} shows who came since", wake.no),
    ))
}

fn number_of(nodes: u64) -> usize {
    usize::try_from(nodes).unwrap_or(usize::MAX)
}

fn words(wake: &Wake, nodes: &[WokenNode], lists_all: bool) -> String {
    let because =
        wake.because.as_ref().map(|because| format!(": \"{}\"", harmless(because))).unwrap_or_default();
    let mut text = format!(
        "W{}   {} asked to check in at {} by {}{because}\n",
        wake.no,
        count(number_of(wake.nodes), "node", "nodes"),
        time(wake.at),
        harmless(&wake.who),
    );
    let fast = match (wake.median_ms, wake.slowest_ms) {
        (Some(median), Some(slowest)) if wake.answered > 1 => {
            format!(", half of them within {}, the last after {}", millis(median), millis(slowest))
        }
        (_, Some(slowest)) => format!(", after {}", millis(slowest)),
        _ => String::new(),
    };
    let _ = writeln!(text, "      {} of {} answered{fast}", wake.answered, wake.nodes);
    if let Some(by) = wake.last_by {
        let others = match wake.nodes - wake.answered {
            1 => "the other one checks in by itself, by",
            _ => "the others check in by themselves, the last by",
        };
        let others = if by < wake.now { "the others were due before, the last at" } else { others };
        let _ = writeln!(text, "      {others} {}", time(by));
    }
    let _ = writeln!(text, "      {} of {} have what is desired of them now\n", wake.up_to_date, wake.nodes);
    let listed = if lists_all { nodes } else { &nodes[..nodes.len().min(LISTED)] };
    let width = listed.iter().map(|node| node.name.chars().count()).max().unwrap_or(0);
    for node in listed {
        let name = harmless(&node.name);
        let desired = if node.is_up_to_date { "" } else { "; does not have what is desired of it now" };
        let _ = writeln!(text, "{name:<width$}  {}{desired}", what_came(node, wake.now));
    }
    if let more @ 1.. = nodes.len() - listed.len() {
        let _ = writeln!(text, "and {more} more: --all lists them");
    }
    text
}

fn what_came(node: &WokenNode, now: Timestamp) -> String {
    let heard = node.heard_at.map_or("never heard".to_owned(), |at| format!("last heard {}", time(at)));
    let next = match node.next_check_in {
        Some(at) if at < now => format!("; was due at {}", time(at)),
        Some(at) => format!("; checks in by itself at {}", time(at)),
        None => String::new(),
    };
    match (node.answered_ms, node.woken) {
        (Some(after), _) => format!("answered after {}", millis(after)),
        (None, woken) => format!("{}: {heard}{next}", woken.words()),
    }
}

fn millis(millis: u64) -> String {
    duration(millis * 1_000)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn node(over: &Value) -> WokenNode {
        let whole = json!({
            "name": "kiosk-auken-1", "woken": "answered", "answered_ms": 412, "heard_at": "2026-11-23T06:40:00Z",
            "next_check_in": "2026-11-23T06:54:30Z", "is_up_to_date": true,
        });
        answered(whole, over)
    }

    fn wake(over: &Value) -> Wake {
        let whole = json!({
            "no": 12, "at": "2026-11-23T06:40:00Z", "who": "pia.lund", "because": "the winter timetable", "nodes": 3, "waiting": 2, "answered": 1,
            "up_to_date": 2, "median_ms": 412, "slowest_ms": 412, "last_by": "2026-11-23T06:54:30Z", "now": "2026-11-23T06:40:10Z",
        });
        answered(whole, over)
    }

    #[test]
    fn a_wake_says_who_answered_how_fast_and_when_the_others_come() {
        let nodes = [
            node(&json!({ "name": "gate-tern-1", "woken": "woken", "answered_ms": null })),
            node(
                &json!({ "name": "quay-brisk-2", "woken": "at_its_check_in", "answered_ms": null, "is_up_to_date": false }),
            ),
            node(&json!({})),
        ];
        insta::assert_snapshot!(words(&wake(&json!({})), &nodes, false), @r#"
        W12   3 nodes asked to check in at 2026-11-23 06:40:00 UTC by pia.lund: "the winter timetable"
              1 of 3 answered, after 412 ms
              the others check in by themselves, the last by 2026-11-23 06:54:30 UTC
              2 of 3 have what is desired of them now

        gate-tern-1    woken, no answer yet: last heard 2026-11-23 06:40:00 UTC; checks in by itself at 2026-11-23 06:54:30 UTC
        quay-brisk-2   cannot be woken: last heard 2026-11-23 06:40:00 UTC; checks in by itself at 2026-11-23 06:54:30 UTC; does not have what is desired of it now
        kiosk-auken-1  answered after 412 ms
        "#);
        let all = wake(
            &json!({ "answered": 3, "slowest_ms": 1_912, "last_by": null, "because": null, "up_to_date": 3 }),
        );
        insta::assert_snapshot!(words(&all, &[], false), @"
        W12   3 nodes asked to check in at 2026-11-23 06:40:00 UTC by pia.lund
              3 of 3 answered, half of them within 412 ms, the last after 1.9 s
              3 of 3 have what is desired of them now
        ");
    }

    #[test]
    fn not_all_of_many_are_listed_unless_asked_for() {
        let nodes: Vec<WokenNode> =
            (0..43).map(|number| node(&json!({ "name": format!("kiosk-auken-{number}") }))).collect();
        let lines = |all| words(&wake(&json!({})), &nodes, all).lines().count();
        assert_eq!((lines(false), lines(true)), (5 + 41, 5 + 43));
    }
}
