//! `constans compliance`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::compliance::{ClauseCounts, DeviationCause, NodeCounts, OVERDUE, Rate};
use constans_terminal::{count, harmless, time};
use constans_wire::compliance::{
    Compliance, ComplianceDay, ComplianceDays, ComplianceMoves, ComplianceRow, Examinations, NamedChange,
};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::fmt::Write as _;

/// Arguments of `compliance`.
#[derive(Debug, Args)]
pub struct ComplianceArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Count by control, baseline, release, severity, cause, group, assignment, stage, label:KEY, node, clause or day
    #[arg(long, value_name = "DIMENSION")]
    by: Option<String>,
    /// Only nodes that match this filter now
    #[arg(long, value_name = "CEL")]
    filter: Option<String>,
    /// Only clauses of control:ID, baseline:KIT/BASELINE, release:KIT@VERSION, severity:WORD or clause:ADDRESS
    #[arg(long, value_name = "CLAUSES")]
    only: Option<String>,
    /// The moment that is asked about, as 2026-11-21T23:00:00Z [default: now]
    #[arg(long, value_name = "TIME")]
    as_of: Option<String>,
    /// Only what the server had learned by this moment counts [default: now]
    #[arg(long, value_name = "TIME")]
    as_known_at: Option<String>,
    /// Show why the rate moved since this moment, as 2026-11-20T00:00:00Z
    #[arg(long, value_name = "TIME", conflicts_with_all = ["by", "days"])]
    since: Option<String>,
    /// How many days, with --by day [default: 30]
    #[arg(long, value_name = "DAYS", conflicts_with_all = ["as_of", "as_known_at"])]
    days: Option<u16>,
}

/// Shows the figures.
pub async fn run(arguments: &ComplianceArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let ComplianceArguments { by, filter, only, as_of, as_known_at, since, days, .. } = arguments;
    let is_by_day = by.as_deref() == Some("day") || by.is_none() && days.is_some();
    if is_by_day && (as_of.is_some() || as_known_at.is_some()) {
        return Err(ClientError::new(
            "--by day is of the last days, as known now: it takes neither --as-of nor --as-known-at",
            "take --days for more of them, or another --by for a past moment",
        ));
    }
    if days.is_some() && !is_by_day {
        return Err(ClientError::new("--days goes with --by day only", "leave it out, or take --by day"));
    }
    let moments = [("as_of", as_of.clone()), ("as_known_at", as_known_at.clone())];
    let which = [("filter", filter.clone()), ("only", only.clone())];
    if let Some(since) = since {
        let given = [("since", Some(since.clone()))].into_iter().chain(which).chain(moments);
        let moves: ComplianceMoves = server.get(&address("/api/compliance/moves", given)).await?;
        if !server.says_json(&moves) {
            print!("{}", why_it_moved(&moves));
        }
    } else if is_by_day {
        let days = days.map(|days| days.to_string());
        let given = [("days", days)].into_iter().chain(which);
        let days: ComplianceDays = server.get(&address("/api/compliance/days", given)).await?;
        if !server.says_json(&days) {
            print!("{}", by_day(&days));
        }
    } else {
        let given = [("by", by.clone())].into_iter().chain(which).chain(moments);
        let compliance: Compliance = server.get(&address("/api/compliance", given)).await?;
        if !server.says_json(&compliance) {
            let given =
                [("filter", filter.clone()), ("as_of", as_of.clone()), ("as_known_at", as_known_at.clone())];
            let examinations: Examinations =
                server.get(&address("/api/compliance/examinations", given)).await?;
            print!("{}{}", shown(&compliance, by.as_deref(), only.as_deref()), relied_on(&examinations));
        }
    }
    Ok(())
}

/// Returns the address with what is given after its `?`.
pub fn address(path: &str, given: impl IntoIterator<Item = (&'static str, Option<String>)>) -> String {
    let query: Vec<String> = given
        .into_iter()
        .filter_map(|(name, value)| {
            Some(format!("{name}={}", utf8_percent_encode(&value?, NON_ALPHANUMERIC)))
        })
        .collect();
    format!("{path}?{}", query.join("&"))
}

/// One line for each day, with the changes that were handed out on it.
fn by_day(days: &ComplianceDays) -> String {
    let cells_of = |day: &ComplianceDay| {
        let row = ComplianceRow {
            key: Some(day.day.to_string()),
            title: None,
            nodes: day.nodes,
            clauses: day.clauses,
            rate_basis_points: day.rate_basis_points,
            rate_with_concessions_basis_points: day.rate_with_concessions_basis_points,
        };
        cells(&row, "day")
    };
    let mut lines =
        table(days.days.iter().map(cells_of), "day").lines().map(str::to_owned).collect::<Vec<_>>();
    for change in &days.changes {
        let place = days.days.iter().position(|day| change.handed_out_at <= day.at);
        if let Some(line) = place.and_then(|place| lines.get_mut(place + 1)) {
            let _ = write!(line, "  C{}", change.no);
        }
    }
    lines.push(format!(
        "each at the end of the day in {}, the last one now; C…: changes handed out on that day",
        harmless(&days.zone)
    ));
    lines.join("\n") + "\n"
}

fn why_it_moved(moves: &ComplianceMoves) -> String {
    let rate = |counts: &ClauseCounts| Rate::words_of(counts.rate()) + &with_concessions(counts);
    let mut text = format!("from {} to {}", time(moves.since), time(moves.as_of));
    if moves.as_known_at != moves.as_of {
        let _ = write!(text, ", as known at {}", time(moves.as_known_at));
    }
    let total: i64 = moves.moves.iter().map(|one| one.basis_points).sum();
    let _ = writeln!(
        text,
        "\n\nrate {} to {}, {} points; clauses {} to {}, compliant {} to {}",
        rate(&moves.before),
        rate(&moves.after),
        points(total),
        moves.before.all(),
        moves.after.all(),
        moves.before.compliant,
        moves.after.compliant,
    );
    if moves.moves.is_empty() {
        text.push_str("every clause on every node counts as before\n");
        return text;
    }
    let _ =
        writeln!(text, "\n{:>8}  {:>8}  {:>10}  {:>8}  reason", "points", "clauses", "compliant", "in all");
    for one in &moves.moves {
        let by = one.change.map(|no| match moves.changes.iter().find(|change| change.no == no) {
            Some(change) => format!(" by {}", change_words(change)),
            None => format!(" by C{no}"),
        });
        let _ = writeln!(
            text,
            "{:>8}  {:>8}  {:>+10}  {:>+8}  {}{}",
            points(one.basis_points),
            one.clauses,
            one.compliant,
            one.all,
            one.reason.words(),
            by.unwrap_or_default()
        );
    }
    text
}

fn change_words(change: &NamedChange) -> String {
    let approved = change.approved_by.as_ref().map(|who| format!(", approved by {}", harmless(who)));
    format!(
        "C{}, {} ({}{}, {})",
        change.no,
        harmless(&change.what),
        harmless(&change.who),
        approved.unwrap_or_default(),
        time(change.handed_out_at)
    )
}

/// Hundredths of a percent as points: +1.25.
fn points(basis_points: i64) -> String {
    let sign = match basis_points.signum() {
        1 => "+",
        -1 => "-",
        _ => "",
    };
    let size = basis_points.unsigned_abs();
    format!("{sign}{}.{:02}", size / 100, size % 100)
}

const BY_METADATA: &str = "clauses at most were known by the metadata of their files, unchanged since they were read, at most a day before";

/// How old what the figures rely on is.
fn relied_on(examinations: &Examinations) -> String {
    let missing = match examinations.nodes_with_missing_runs {
        0 => String::new(),
        number => format!(
            "{} ran again before that, and no report of that run ever came: the run before it counts\n",
            nodes(number)
        ),
    };
    let oldest = match (&examinations.oldest_node, examinations.oldest_at) {
        (Some(node), Some(at)) => {
            format!("oldest examination that counts: {}, of {}\n", time(at), harmless(node))
        }
        _ => "no examination counts\n".to_owned(),
    };
    let by_metadata = match examinations.clauses_by_metadata {
        0 => String::new(),
        number => format!("{number} {BY_METADATA}\n"),
    };
    oldest + &missing + &by_metadata
}

fn shown(compliance: &Compliance, by: Option<&str>, only: Option<&str>) -> String {
    let mut text = format!("as of {}", time(compliance.as_of));
    if let Some(only) = only {
        let _ = write!(text, ", only clauses of {}", harmless(&only.replacen(':', " ", 1)));
    }
    if compliance.as_known_at != compliance.as_of {
        let _ = write!(text, ", as known at {}", time(compliance.as_known_at));
    }
    let _ = write!(text, "\n\n{}\n{}\n", of_nodes(compliance, only), of_clauses(&compliance.clauses));
    if compliance.undecidable > 0 {
        let _ = writeln!(
            text,
            "{} did not report a field that the filter reads, and are not counted",
            count(usize::try_from(compliance.undecidable).unwrap_or(usize::MAX), "node", "nodes")
        );
    }
    if let Some(by) = by {
        text.push('\n');
        text.push_str(&table(compliance.rows.iter().map(|row| cells(row, by)), by));
        if compliance.has_more_rows {
            text.push_str("and more: take a --filter, or another --by\n");
        }
    }
    text
}

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

pub fn of_nodes(compliance: &Compliance, only: Option<&str>) -> String {
    let NodeCounts { without_deviation, with_deviation, not_known, conceded, with_critical } =
        compliance.nodes;
    let mut text = format!("{without_deviation} of {} without any deviation", nodes(compliance.nodes.all()));
    if with_deviation > 0 {
        let _ =
            write!(text, ", {with_deviation} with a deviation, {with_critical} of these with a critical one");
    }
    if conceded > 0 {
        let _ = write!(text, ", {conceded} with only conceded ones");
    }
    if not_known > 0 {
        let _ = write!(text, ", {not_known} not known");
    }
    let without_clauses = compliance.nodes_in_all.saturating_sub(compliance.nodes.all());
    if without_clauses > 0 && only.is_some() {
        let _ = write!(text, "; {without_clauses} without such clauses");
    } else if without_clauses > 0 {
        let _ = write!(
            text,
            "; {without_clauses} without clauses: nothing is assigned, or it cannot be resolved"
        );
    }
    text
}

pub fn of_clauses(counts: &ClauseCounts) -> String {
    let rate =
        counts.rate().map_or_else(|| Rate::words_of(None), |rate| format!("{} as found", rate.words()));
    let mut text = format!(
        "{} of {} clauses on nodes compliant ({rate}{})",
        counts.compliant,
        counts.all(),
        with_concessions(counts)
    );
    let others = [
        (counts.in_doubt, "of these in the window of a drift that was found later"),
        (counts.noncompliant, "noncompliant"),
        (counts.conceded, "conceded"),
        (counts.unexamined, "unexamined"),
        (counts.unknown, "unknown"),
    ];
    for (number, what) in others.into_iter().filter(|(number, _)| *number > 0) {
        let _ = write!(text, ", {number} {what}");
    }
    text
}

/// The rate of what is not conceded, if anything is.
fn with_concessions(counts: &ClauseCounts) -> String {
    if counts.conceded == 0 {
        return String::new();
    }
    format!(", {} with concessions", Rate::words_of(counts.rate_with_concessions()))
}

const HEADS: [&str; 13] = [
    "nodes",
    "without dev.",
    "with dev.",
    "critical",
    "clauses",
    "compliant",
    IN_DOUBT,
    "noncompl.",
    "conceded",
    "unexamined",
    "unknown",
    "as found",
    "with conc.",
];

/// Mostly nothing is: then the column is left out.
const IN_DOUBT: &str = "in doubt";

fn table(rows: impl Iterator<Item = Vec<String>>, by: &str) -> String {
    let head: Vec<String> = std::iter::once(by).chain(HEADS).map(str::to_owned).collect();
    let doubt = head.iter().position(|cell| cell == IN_DOUBT).unwrap_or_default();
    let mut lines: Vec<Vec<String>> = std::iter::once(head).chain(rows).collect();
    if lines.iter().skip(1).all(|cells| cells[doubt] == "0") {
        lines.iter_mut().for_each(|cells| drop(cells.remove(doubt)));
    }
    aligned(&lines)
}

/// Writes a table: the first column to the left, the others to the right.
pub fn aligned(lines: &[Vec<String>]) -> String {
    let columns = lines.first().map_or(0, Vec::len);
    let width = |at: usize| lines.iter().map(|cells| cells[at].chars().count()).max().unwrap_or(0);
    let widths: Vec<usize> = (0..columns).map(width).collect();
    let mut text = String::new();
    for cells in lines {
        for (at, (cell, width)) in cells.iter().zip(&widths).enumerate() {
            let _ = if at == 0 { write!(text, "{cell:<width$}") } else { write!(text, "  {cell:>width$}") };
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
        clauses.in_doubt,
        clauses.noncompliant,
        clauses.conceded,
        clauses.unexamined,
        clauses.unknown,
    ];
    let mut key = row.key.as_deref().map_or_else(|| format!("(no {by})"), |key| key_words(by, key));
    if let Some(title) = &row.title {
        let _ = write!(key, " {}", harmless(title));
    }
    let numbers = numbers.map(|number| number.to_string());
    std::iter::once(key)
        .chain(numbers)
        .chain([clauses.rate(), clauses.rate_with_concessions()].map(Rate::words_of))
        .collect()
}

fn key_words(by: &str, key: &str) -> String {
    if by == "cause" && key == OVERDUE.0 {
        return OVERDUE.1.to_owned();
    }
    let cause = DeviationCause::ALL
        .into_iter()
        .find(|cause| by == "cause" && serde_json::json!(cause).as_str() == Some(key));
    cause.map_or_else(|| harmless(key), |cause| cause.words().to_owned())
}
