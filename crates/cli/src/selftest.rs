//! `constans selftest`: that a node is asked, fetches, compares and reports is shown step by step.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::run::Verdict;
use constans_core::self_test::TestedClause;
use constans_terminal::{duration, harmless, time};
use constans_wire::self_test::{NewSelfTest, SelfTest};
use jiff::Timestamp;
use std::fmt::Write as _;
use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

/// How often it is looked how far it is.
const EVERY: Duration = Duration::from_millis(200);

/// Arguments of `selftest`.
#[derive(Debug, Args)]
pub struct SelfTestArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The node
    #[arg(required_unless_present = "test")]
    node: Option<String>,
    /// Ask nobody, and show how far an earlier test is, for example T3
    #[arg(long, value_name = "TEST", value_parser = number, conflicts_with = "node")]
    test: Option<u32>,
    /// Seconds to wait for the report
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(0..=3_600))]
    within: u64,
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['T', 't'])
        .parse()
        .map_err(|_| "a self-test is called T and its number, for example T3".to_owned())
}

/// Has a node tested, or shows how far a test is.
pub async fn run(arguments: &SelfTestArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let mut test: SelfTest = match (arguments.test, &arguments.node) {
        (Some(no), _) => server.get(&format!("/api/self-tests/{no}")).await?,
        (None, node) => {
            server.post("/api/self-tests", &NewSelfTest { node: node.clone().unwrap_or_default() }).await?
        }
    };
    let (end, is_watched) =
        (Instant::now() + Duration::from_secs(arguments.within), std::io::stderr().is_terminal());
    while test.reported_at.is_none() && Instant::now() < end {
        if is_watched {
            let no = test.no;
            anstream::eprint!(
                "\rT{no}: {}; Ctrl-C leaves it: constans selftest --test T{no} shows it\x1b[K",
                waits_for(&test)
            );
        }
        tokio::time::sleep(EVERY).await;
        test = server.get(&format!("/api/self-tests/{}", test.no)).await?;
    }
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
    if !server.says_json(&test) {
        anstream::print!("{}", words(&test));
    }
    if test.is_proven {
        return Ok(());
    }
    Err(match test.reported_at {
        Some(_) => ClientError::new(
            format!("T{} is not proven", test.no),
            "constans-agent diagnose on the node says more",
        ),
        None => ClientError::new(
            format!("{} did not report within {} s", harmless(&test.node), arguments.within),
            format!("it is offered until {}: constans selftest --test T{}", time(test.ends_at), test.no),
        ),
    })
}

fn waits_for(test: &SelfTest) -> &'static str {
    match (test.offered_at, test.fetched_at) {
        (None, _) => "waiting for the node to check in",
        (Some(_), None) => "waiting for the node to fetch the state",
        (Some(_), Some(_)) => "waiting for the node's report",
    }
}

fn words(test: &SelfTest) -> String {
    let mut text = format!(
        "T{}   self-test of {}, asked at {} by {}\n",
        test.no,
        harmless(&test.node),
        time(test.asked_at),
        harmless(&test.who)
    );
    let mut step = |what: &str, came: String| {
        let _ = writeln!(text, "     {what:<11} {came}");
    };
    let next = match test.next_check_in {
        None => "it has never checked in".to_owned(),
        Some(at) if at < test.now => format!("it was due at {}", time(at)),
        Some(at) => format!("it checks in by itself at {}", time(at)),
    };
    let asked = if test.was_waiting {
        "woken: the server holds a request of the node".to_owned()
    } else {
        format!("cannot be woken; {next}")
    };
    step("asked", asked);
    step("checked in", after(test.asked_at, test.offered_at));
    let fetched = after(test.asked_at, test.fetched_at);
    step(
        "fetched",
        match test.fetched_at {
            Some(_) => format!("{fetched}: a state of two clauses, and its content"),
            None => fetched,
        },
    );
    match &test.report {
        Some(report) if report.failed.is_some() => {
            step("compared", format!("failed: {}", harmless(report.failed.as_deref().unwrap_or_default())));
        }
        Some(report) => {
            for (at, clause) in test.clauses.iter().enumerate() {
                let what = if at == 0 { "compared" } else { "" };
                let took =
                    if at == 0 { format!("in {}: ", duration(report.compared_us)) } else { String::new() };
                step(what, format!("{took}{}", seen(clause)));
            }
        }
        None => step("compared", "not yet".to_owned()),
    }
    step("reported", after(test.asked_at, test.reported_at));
    if test.is_proven {
        text.push_str(
            "proven: the node is asked, fetches, compares and reports; nothing on it was altered\n",
        );
    }
    text
}

fn seen(clause: &TestedClause) -> String {
    let verdict = |verdict: Verdict| match verdict {
        Verdict::Alike => "is in line",
        Verdict::Different => "is not in line",
        Verdict::Unseen => "could not be inspected",
    };
    let address = harmless(&clause.address);
    match clause.seen {
        Some(seen) if clause.is_right() => format!("{address} {}, as it should be", verdict(seen)),
        Some(seen) => format!("{address} {}; expected that it {}", verdict(seen), verdict(clause.expected)),
        None => format!("{address} was not reported"),
    }
}

fn after(asked: Timestamp, at: Option<Timestamp>) -> String {
    let Some(at) = at else { return "not yet".to_owned() };
    let micros = u64::try_from(at.duration_since(asked).as_micros()).unwrap_or(0);
    format!("after {}", duration(micros))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn test(over: &Value) -> SelfTest {
        let whole = json!({
            "no": 3, "node": "kiosk-auken-1", "who": "pia.lund", "asked_at": "2026-11-23T06:40:00Z", "ends_at": "2026-11-23T07:40:00Z",
            "now": "2026-11-23T06:40:10Z", "was_waiting": true, "next_check_in": "2026-11-23T06:54:30Z", "offered_at": "2026-11-23T06:40:00.014Z",
            "fetched_at": "2026-11-23T06:40:00.021Z", "reported_at": "2026-11-23T06:40:00.044Z",
            "report": { "fetched_us": 7_000, "compared_us": 3_100, "seen": {} },
            "clauses": [
                { "address": "directory:/etc", "expected": "alike", "seen": "alike" },
                { "address": "file:/run/constans-self-test", "expected": "different", "seen": "different" },
            ],
            "is_proven": true,
        });
        answered(whole, over)
    }

    #[test]
    fn a_self_test_tells_each_step_and_what_is_missing() {
        let wrong = json!({
            "clauses": [
                { "address": "directory:/etc", "expected": "alike", "seen": "unseen" },
                { "address": "file:/run/constans-self-test", "expected": "different", "seen": null },
            ],
            "is_proven": false,
        });
        let failed = json!({
            "report": { "fetched_us": 0, "compared_us": 0, "failed": "another run is in progress" }, "clauses": [], "is_proven": false,
        });
        let waits = json!({
            "was_waiting": false, "offered_at": null, "fetched_at": null, "reported_at": null, "report": null, "clauses": [], "is_proven": false,
        });
        let all = [json!({}), wrong, failed, waits].map(|over| words(&test(&over)));
        insta::assert_snapshot!(all.join("\n"), @r#"
        T3   self-test of kiosk-auken-1, asked at 2026-11-23 06:40:00 UTC by pia.lund
             asked       woken: the server holds a request of the node
             checked in  after 14 ms
             fetched     after 21 ms: a state of two clauses, and its content
             compared    in 3 ms: directory:/etc is in line, as it should be
                         file:/run/constans-self-test is not in line, as it should be
             reported    after 44 ms
        proven: the node is asked, fetches, compares and reports; nothing on it was altered

        T3   self-test of kiosk-auken-1, asked at 2026-11-23 06:40:00 UTC by pia.lund
             asked       woken: the server holds a request of the node
             checked in  after 14 ms
             fetched     after 21 ms: a state of two clauses, and its content
             compared    in 3 ms: directory:/etc could not be inspected; expected that it is in line
                         file:/run/constans-self-test was not reported
             reported    after 44 ms

        T3   self-test of kiosk-auken-1, asked at 2026-11-23 06:40:00 UTC by pia.lund
             asked       woken: the server holds a request of the node
             checked in  after 14 ms
             fetched     after 21 ms: a state of two clauses, and its content
             compared    failed: another run is in progress
             reported    after 44 ms

        T3   self-test of kiosk-auken-1, asked at 2026-11-23 06:40:00 UTC by pia.lund
             asked       cannot be woken; it checks in by itself at 2026-11-23 06:54:30 UTC
             checked in  not yet
             fetched     not yet
             compared    not yet
             reported    not yet
        "#);
    }
}
