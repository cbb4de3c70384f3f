//! `constans compliance`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::compliance::{ClauseCounts, DeviationCause, NodeCounts, Rate};
use constans_terminal::{count, harmless, time};
use constans_wire::compliance::{Compliance, ComplianceRow};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::fmt::Write as _;

/// Arguments of `compliance`.
#[derive(Debug, Args)]
pub struct ComplianceArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Count by control, baseline, release, severity, cause, group, stage, label:KEY, node or clause
    #[arg(long, value_name = "DIMENSION")]
    by: Option<String>,
    /// Only nodes that match this filter now
    #[arg(long, value_name = "CEL")]
    filter: Option<String>,
    /// The moment that is asked about, as 2026-11-21T23:00:00Z [default: now]
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Only what the server had learned by this moment counts [default: now]
    #[arg(long, value_name = "TIME")]
    as_known_at: Option<String>,
}

/// Shows the figures.
pub async fn run(arguments: &ComplianceArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let given = [
        ("by", &arguments.by),
        ("filter", &arguments.filter),
        ("as_of", &arguments.as_of),
        ("as_known_at", &arguments.as_known_at),
    ];
    let query: Vec<String> = given
        .into_iter()
        .filter_map(|(name, value)| {
            Some(format!("{name}={}", utf8_percent_encode(value.as_ref()?, NON_ALPHANUMERIC)))
        })
        .collect();
    let compliance: Compliance = server.get(&format!("/api/compliance?{}", query.join("&"))).await?;
    if !server.says_json(&compliance) {
        print!("{}", shown(&compliance, arguments.by.as_deref()));
    }
    Ok(())
}

fn shown(compliance: &Compliance, by: Option<&str>) -> String {
    let mut text = format!("as of {}", time(compliance.as_of));
    if compliance.as_known_at != compliance.as_of {
        let _ = write!(text, ", as known at {}", time(compliance.as_known_at));
    }
    let _ = write!(text, "\n\n{}\n{}\n", of_nodes(compliance), of_clauses(&compliance.clauses));
    if compliance.undecidable > 0 {
        let _ = writeln!(
            text,
            "{} did not report a field that the filter reads, and are not counted",
            count(usize::try_from(compliance.undecidable).unwrap_or(usize::MAX), "node", "nodes")
        );
    }
    if let Some(by) = by {
        text.push('\n');
        text.push_str(&table(&compliance.rows, by));
        if compliance.has_more_rows {
            text.push_str("and more: take a --filter, or another --by\n");
        }
    }
    text
}

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

fn of_nodes(compliance: &Compliance) -> String {
    let NodeCounts { without_deviation, with_deviation, not_known, with_critical } = compliance.nodes;
    let mut text = format!("{without_deviation} of {} without any deviation", nodes(compliance.nodes.all()));
    if with_deviation > 0 {
        let _ =
            write!(text, ", {with_deviation} with a deviation, {with_critical} of these with a critical one");
    }
    if not_known > 0 {
        let _ = write!(text, ", {not_known} not known");
    }
    let without_clauses = compliance.nodes_in_all.saturating_sub(compliance.nodes.all());
    if without_clauses > 0 {
        let _ = write!(
            text,
            "; {without_clauses} without clauses: nothing is assigned, or it cannot be resolved"
        );
    }
    text
}

fn of_clauses(counts: &ClauseCounts) -> String {
    let mut text = format!(
        "{} of {} clauses on nodes compliant ({})",
        counts.compliant,
        counts.all(),
        Rate::words_of(counts.rate())
    );
    let others = [
        (counts.in_doubt, "of these in the window of a drift that was found later"),
        (counts.noncompliant, "noncompliant"),
        (counts.unexamined, "unexamined"),
        (counts.unknown, "unknown"),
    ];
    for (number, what) in others.into_iter().filter(|(number, _)| *number > 0) {
        let _ = write!(text, ", {number} {what}");
    }
    text
}

const HEADS: [&str; 10] = [
    "nodes",
    "without dev.",
    "with dev.",
    "critical",
    "clauses",
    "compliant",
    "noncompl.",
    "unexamined",
    "unknown",
    "rate",
];

fn table(rows: &[ComplianceRow], by: &str) -> String {
    let head: Vec<String> = std::iter::once(by).chain(HEADS).map(str::to_owned).collect();
    let lines: Vec<Vec<String>> =
        std::iter::once(head).chain(rows.iter().map(|row| cells(row, by))).collect();
    let widths: Vec<usize> = (0..=HEADS.len())
        .map(|at| lines.iter().map(|cells| cells[at].chars().count()).max().unwrap_or(0))
        .collect();
    let mut text = String::new();
    for cells in &lines {
        let _ = write!(text, "{:<1$}", cells[0], widths[0]);
        for (cell, width) in cells.iter().zip(&widths).skip(1) {
            let _ = write!(text, "  {cell:>width$}");
        }
        text.push('\n');
    }
    text
}

fn cells(row: &ComplianceRow, by: &str) -> Vec<String> {
    let (nodes, clauses) = (&row.nodes, &row.clauses);
    let numbers = [
        nodes.all(),
        nodes.without_deviation,
        nodes.with_deviation,
        nodes.with_critical,
        clauses.all(),
        clauses.compliant,
        clauses.noncompliant,
        clauses.unexamined,
        clauses.unknown,
    ];
    let key = row.key.as_deref().map_or_else(|| format!("(no {by})"), |key| key_words(by, key));
    let numbers = numbers.map(|number| number.to_string());
    std::iter::once(key).chain(numbers).chain([Rate::words_of(clauses.rate())]).collect()
}

fn key_words(by: &str, key: &str) -> String {
    let cause = DeviationCause::ALL
        .into_iter()
        .find(|cause| by == "cause" && serde_json::json!(cause).as_str() == Some(key));
    cause.map_or_else(|| harmless(key), |cause| cause.words().to_owned())
}
