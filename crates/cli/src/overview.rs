//! `constans overview`.

use crate::compliance::{of_clauses, of_nodes};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::attention::Attention;
use constans_core::node_status::NodeStatus;
use constans_terminal::{count, harmless, style, styled, time};
use constans_wire::compliance::Compliance;
use constans_wire::overview::Overview;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::fmt::Write as _;

/// Arguments of `overview`.
#[derive(Debug, Args)]
pub struct OverviewArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Only nodes that match this filter, in CEL
    #[arg(long, value_name = "CEL")]
    filter: Option<String>,
    /// How many things that need attention are shown
    #[arg(long, value_name = "N", default_value_t = 10)]
    at_most: usize,
}

/// More nodes are not named one by one.
const NAMED: usize = 8;

/// Shows the overview.
pub async fn run(arguments: &OverviewArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let query = arguments
        .filter
        .as_deref()
        .map(|filter| format!("?filter={}", utf8_percent_encode(filter, NON_ALPHANUMERIC)))
        .unwrap_or_default();
    let overview: Overview = server.get(&format!("/api/overview{query}")).await?;
    if server.says_json(&overview) {
        return Ok(());
    }
    let compliance: Compliance = server.get(&format!("/api/compliance{query}")).await?;
    anstream::print!("{}", shown(&overview, &compliance, arguments));
    Ok(())
}

fn shown(overview: &Overview, compliance: &Compliance, arguments: &OverviewArguments) -> String {
    let nodes = |number: usize| count(number, "node", "nodes");
    let mut text = if overview.shown == overview.total {
        nodes(overview.total)
    } else {
        format!("{} of {}", overview.shown, nodes(overview.total))
    };
    if overview.undecidable > 0 {
        let _ = write!(text, ", {} cannot be evaluated", overview.undecidable);
    }
    let _ = writeln!(text, " as of {}", time(overview.now));
    let statuses: Vec<String> = overview
        .statuses
        .iter()
        .filter(|one| one.nodes > 0)
        .map(|one| styled(style_of(one.status), format!("{} {}", one.nodes, one.status.words())))
        .collect();
    let _ = writeln!(text, "{}", statuses.join("  "));
    let _ = writeln!(text, "\n{}\n{}", of_nodes(compliance, None), of_clauses(&compliance.clauses));
    for problem in &overview.server_problems {
        let _ = writeln!(text, "\n{}", styled(style::BAD, format!("this server: {}", harmless(problem))));
    }
    if let Some(since) = overview.recovering_since {
        let _ = writeln!(
            text,
            "\n{}\n  constans recovery show",
            styled(style::ATTENTION, format!("the server is recovering since {}", time(since)))
        );
    }
    if overview.joining > 0 {
        let requests = count(overview.joining, "machine asks to join", "machines ask to join");
        let _ = writeln!(text, "\n{requests}\n  constans join list");
    }
    text.push_str(&styled(style::STRONG, "\nneeds attention\n"));
    if overview.attention.is_empty() {
        text.push_str("  nothing: every node that reports is in line\n");
    }
    for one in overview.attention.iter().take(arguments.at_most) {
        text.push_str(&of_attention(one));
    }
    let more = overview.attention.len().saturating_sub(arguments.at_most);
    if more > 0 {
        let _ = writeln!(text, "  and {more} more: --at-most {}", overview.attention.len());
    }
    text
}

fn of_attention(one: &Attention) -> String {
    let since = one.since.map(|since| format!(", since {}", time(since))).unwrap_or_default();
    let mut text = format!(
        "  {}{since}\n",
        styled(style_of(one.status), format!("{}: {}", one.status.words(), harmless(&one.title)))
    );
    if !one.detail.is_empty() {
        let _ = writeln!(text, "      {}", harmless(&one.detail));
    }
    let _ = writeln!(text, "      {}", styled(style::MUTED, harmless(&command(one))));
    text
}

/// The command that shows the cause.
fn command(one: &Attention) -> String {
    if let Some(no) = one.rollout {
        return format!("constans rollout show C{no}");
    }
    if let Some(no) = one.concession {
        return format!("constans concession show D{no}");
    }
    match (one.nodes.as_slice(), &one.address) {
        ([node], Some(address)) => format!("constans node why {node} '{}'", address.replace('\'', r"'\''")),
        ([node], None) => format!("constans node show {node}"),
        (nodes, _) if nodes.len() <= NAMED => {
            let names: Vec<String> = nodes.iter().map(|name| format!("\"{name}\"")).collect();
            format!("constans node list --filter 'node.name in [{}]'", names.join(", "))
        }
        (_, Some(address)) => format!("constans drift found '{}'", address.replace('\'', r"'\''")),
        _ => format!("constans node list --filter 'node.status == \"{}\"'", word(one.status)),
    }
}

fn word(status: NodeStatus) -> String {
    serde_json::to_value(status).ok().and_then(|value| value.as_str().map(str::to_owned)).unwrap_or_default()
}

fn style_of(status: NodeStatus) -> anstyle::Style {
    match status {
        NodeStatus::Failed | NodeStatus::StateUnusable => style::BAD,
        NodeStatus::DriftFound | NodeStatus::Unmet | NodeStatus::Silent => style::ATTENTION,
        NodeStatus::InLine | NodeStatus::RolledOut | NodeStatus::DriftCorrected => style::WELL,
        _ => style::STRONG,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn attention(nodes: &[&str], address: Option<&str>, concession: Option<i64>) -> Attention {
        serde_json::from_value(json!({
            "status": "drift_found", "title": "kiosk-auken-1 drifted", "detail": "", "since": null, "address": address,
            "nodes": nodes, "concession": concession,
        }))
        .unwrap()
    }

    #[test]
    fn each_thing_that_needs_attention_has_the_command_that_shows_its_cause() {
        let many: Vec<String> = (0..9).map(|at| format!("gate-{at}")).collect();
        let many: Vec<&str> = many.iter().map(String::as_str).collect();
        for (one, expected) in [
            (attention(&["a"], Some("file:/etc/it's"), None), r"constans node why a 'file:/etc/it'\''s'"),
            (attention(&["a"], None, None), "constans node show a"),
            (attention(&["a", "b"], None, None), r#"constans node list --filter 'node.name in ["a", "b"]'"#),
            (attention(&many, None, None), r#"constans node list --filter 'node.status == "drift_found"'"#),
            (attention(&[], None, Some(3)), "constans concession show D3"),
        ] {
            assert_eq!(command(&one), expected);
        }
    }
}
