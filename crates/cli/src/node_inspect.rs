//! `constans node inspect`: what is there on a node, read without signing in to it.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::words::check_reason;
use constans_terminal::{harmless, time};
use constans_wire::inspection::{Inspection, InspectionReport, NewInspection};
use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

/// How often it is looked whether the node has told.
const EVERY: Duration = Duration::from_millis(200);

/// Arguments of `node inspect`.
#[derive(Debug, Args)]
pub struct InspectArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The node
    #[arg(required_unless_present = "inspection")]
    node: Option<String>,
    /// The kind, for example file, package, service
    #[arg(required_unless_present = "inspection")]
    kind: Option<String>,
    /// The name; a path for files
    #[arg(required_unless_present_any = ["all", "inspection"], conflicts_with = "all")]
    name: Option<String>,
    /// List all things of this kind
    #[arg(long)]
    all: bool,
    /// The reason, kept in the audit trail
    #[arg(long, value_name = "REASON", value_parser = reason, required_unless_present = "inspection")]
    because: Option<String>,
    /// Ask nobody, and show what a node told, for example I3
    #[arg(long, value_name = "INSPECTION", value_parser = number, conflicts_with_all = ["node", "kind", "name", "all", "because"])]
    inspection: Option<u32>,
    /// Seconds to wait for the node
    #[arg(long, value_name = "SECONDS", default_value_t = 30, value_parser = clap::value_parser!(u64).range(0..=3_600))]
    within: u64,
}

fn reason(text: &str) -> Result<String, String> {
    check_reason(text).map(|()| text.to_owned())
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['I', 'i'])
        .parse()
        .map_err(|_| "an inspection is called I and its number, for example I3".to_owned())
}

/// Asks a node what is there, or shows what one told.
pub async fn run(arguments: &InspectArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let mut inspection: Inspection = match (arguments.inspection, &arguments.node, &arguments.kind) {
        (Some(no), ..) => server.get(&format!("/api/inspections/{no}")).await?,
        (None, node, kind) => {
            let new = NewInspection {
                node: node.clone().unwrap_or_default(),
                kind: kind.clone().unwrap_or_default(),
                name: arguments.name.clone(),
                because: arguments.because.clone().unwrap_or_default(),
            };
            server.post("/api/inspections", &new).await?
        }
    };
    let no = inspection.asked.no;
    let (end, is_watched) =
        (Instant::now() + Duration::from_secs(arguments.within), std::io::stderr().is_terminal());
    while inspection.told_at.is_none() && Instant::now() < end {
        if is_watched {
            anstream::eprint!(
                "\rI{no}: waiting for the node to check in; Ctrl-C leaves it: constans node inspect --inspection I{no} shows it\x1b[K"
            );
        }
        tokio::time::sleep(EVERY).await;
        inspection = server.get(&format!("/api/inspections/{no}")).await?;
    }
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
    let is_shown = server.says_json(&inspection);
    let node = harmless(&inspection.node);
    let Some(report) = &inspection.report else {
        let next = match inspection.next_check_in {
            _ if inspection.was_waiting => "it was woken, and has not come yet".to_owned(),
            Some(at) if at >= inspection.now => {
                format!("it cannot be woken, and checks in by itself at {}", time(at))
            }
            Some(at) => format!("it cannot be woken, and was due at {}", time(at)),
            None => "it has never checked in".to_owned(),
        };
        return Err(ClientError::new(
            format!("{node} did not answer within {} s: {next}", arguments.within),
            format!(
                "it is asked until {}: constans node inspect --inspection I{no}",
                time(inspection.ends_at)
            ),
        ));
    };
    let (kind, thing) = (&inspection.asked.kind, inspection.asked.name.as_deref());
    if let Some(failed) = &report.failed {
        return Err(ClientError::new(
            format!("{node} could not tell: {}", harmless(failed)),
            format!("on the node: constans-agent inspect {kind} {}", thing.unwrap_or("--all")),
        ));
    }
    if let (Some(thing), true) = (thing, report.things.is_empty() && report.left_out == 0) {
        return Err(ClientError::new(
            format!("there is no {kind} {} on {node}", harmless(thing)),
            format!(
                "constans node inspect {node} {kind} --all lists those that are there, where they can be listed"
            ),
        ));
    }
    if !is_shown {
        anstream::print!("{}", words(&inspection, report));
    }
    Ok(())
}

fn words(inspection: &Inspection, report: &InspectionReport) -> String {
    let told_at = inspection.told_at.map(time).unwrap_or_default();
    let mut text =
        format!("# {}, {told_at}, asked as I{}\n", harmless(&inspection.node), inspection.asked.no);
    if report.things.is_empty() && report.left_out == 0 {
        text.push_str("# There is none.\n");
    }
    for line in inspection
        .text
        .iter()
        .filter(|told| !told.is_empty())
        .flat_map(|told| std::iter::once("").chain(told.lines()))
    {
        text.push_str(&harmless(line));
        text.push('\n');
    }
    if report.left_out > 0 {
        let (left, kind) = (report.left_out, &inspection.asked.kind);
        text.push_str(&format!(
            "\n# {left} more would be too much to tell; on the node: constans-agent inspect {kind} --all\n"
        ));
    }
    text
}
