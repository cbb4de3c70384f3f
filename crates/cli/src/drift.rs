//! `constans drift`.

use crate::compliance::address;
use crate::drift_accept::{self, AcceptArguments};
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::sentence::span_words;
use constans_terminal::{count, differences, harmless, style, styled, time};
use constans_wire::drift::{Drift, DriftFigures, Durations, FoundAcross, NodeEpisode};
use constans_wire::run::Episode;
use std::fmt::Write as _;

/// Arguments of `drift`.
#[derive(Debug, Args)]
pub struct DriftArguments {
    #[command(subcommand)]
    command: DriftCommand,
}

#[derive(Debug, Subcommand)]
enum DriftCommand {
    /// List drift episodes over the fleet: where, when it happened, how it ended
    List {
        #[command(flatten)]
        which: Which,
        /// Only of this clause
        #[arg(long, value_name = "ADDRESS")]
        clause: Option<String>,
        /// Only episodes that are open
        #[arg(long, conflicts_with = "ended")]
        open: bool,
        /// Only episodes that ended
        #[arg(long)]
        ended: bool,
        /// Also what the nodes had on record at that time: sign-ins, sudo, packages. Related, and no proof
        #[arg(long)]
        related: bool,
    },
    /// Show one clause side by side: what is found now on each node where it is not in line
    Found {
        #[command(flatten)]
        server: ServerArguments,
        /// The clause, as file:/etc/issue
        clause: String,
        /// Only nodes that match this filter now
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
    },
    /// Accept what was found on a node: a group gives the values of parameters by which it is desired
    Accept(AcceptArguments),
    /// Count drift episodes: how many are open, how they ended, how long that took
    Figures {
        #[command(flatten)]
        which: Which,
        /// Count by clause, node, severity, baseline, control or label:KEY
        #[arg(long, value_name = "DIMENSION")]
        by: Option<String>,
    },
}

/// Which episodes.
#[derive(Debug, Args)]
struct Which {
    #[command(flatten)]
    server: ServerArguments,
    /// Only nodes that match this filter now
    #[arg(long, value_name = "CEL")]
    filter: Option<String>,
    /// The beginning of the period, as 2026-11-20T00:00:00Z [default: 30 days before its end]
    #[arg(long, value_name = "TIME")]
    since: Option<String>,
    /// The end of the period [default: now]
    #[arg(long, value_name = "TIME")]
    until: Option<String>,
}

impl Which {
    fn given(&self) -> [(&'static str, Option<String>); 3] {
        [("filter", self.filter.clone()), ("since", self.since.clone()), ("until", self.until.clone())]
    }
}

/// Lists or counts.
pub async fn run(arguments: &DriftArguments) -> Result<(), ClientError> {
    match &arguments.command {
        DriftCommand::List { which, clause, open, ended, related } => {
            let server = Server::open(&which.server)?;
            let is_open = (*open || *ended).then(|| open.to_string());
            let given = which.given().into_iter().chain([("clause", clause.clone()), ("open", is_open)]);
            let episodes: Vec<NodeEpisode> = server.get_all(&address("/api/drift/episodes", given)).await?;
            if server.says_json(&episodes) {
                return Ok(());
            }
            if episodes.is_empty() {
                println!("no drift");
            }
            for episode in &episodes {
                println!("{}", line(episode));
                if *related {
                    print!("{}", on_record(&episode.episode));
                }
            }
        }
        DriftCommand::Found { server, clause, filter } => {
            let server = Server::open(server)?;
            let given = [("clause", Some(clause.clone())), ("filter", filter.clone())];
            let found: FoundAcross = server.get(&address("/api/drift/found", given)).await?;
            if !server.says_json(&found) {
                anstream::print!("{}", side_by_side(clause, &found));
            }
        }
        DriftCommand::Accept(arguments) => drift_accept::run(arguments).await?,
        DriftCommand::Figures { which, by } => {
            let server = Server::open(&which.server)?;
            let given = which.given().into_iter().chain([("by", by.clone())]);
            let drift: Drift = server.get(&address("/api/drift", given)).await?;
            if !server.says_json(&drift) {
                print!("{}", shown(&drift, by.as_deref()));
            }
        }
    }
    Ok(())
}

/// One episode: where, between when it happened, and how it ended.
fn line(NodeEpisode { node, episode }: &NodeEpisode) -> String {
    let ended = match (episode.closed_at, episode.closed_as) {
        (Some(at), Some(how)) => format!("{} {}", how.words(), time(at)),
        (Some(at), None) => format!("ended {}", time(at)),
        (None, _) => "open".to_owned(),
    };
    let drill = episode.drill.map(|no| format!(" (drill D{no})")).unwrap_or_default();
    let severity = serde_json::json!(episode.severity).as_str().unwrap_or_default().to_owned();
    harmless(&format!(
        "{node}  {}  {severity}  changed between {} and {}{drill}; {ended}",
        episode.address,
        time(episode.in_line_until),
        time(episode.detected_at)
    ))
}

/// A clause on all nodes where it is not in line, those that have the same differences together.
fn side_by_side(clause: &str, found: &FoundAcross) -> String {
    let nodes = |number: usize| count(number, "node", "nodes");
    if found.alike.is_empty() {
        return format!("{} is in line wherever it is desired and was examined\n", harmless(clause));
    }
    let more = if found.has_more_nodes { "more than " } else { "" };
    let all = usize::try_from(found.nodes).unwrap_or(usize::MAX);
    let mut text = format!("{} is not in line on {more}{}\n", harmless(clause), nodes(all));
    for alike in &found.alike {
        let sort = serde_json::json!(alike.sort).as_str().unwrap_or_default().to_owned();
        let _ = writeln!(
            text,
            "\n{}: {sort}, {}",
            styled(style::STRONG, nodes(alike.nodes.len())),
            harmless(&alike.message)
        );
        if alike.differences.is_empty() {
            text.push_str("   what differs is not on record\n");
        }
        differences(&mut text, "", &alike.differences);
        for on in &alike.nodes {
            let _ = writeln!(text, "   {}  since {}, run {}", harmless(&on.node), time(on.since), on.run);
        }
    }
    text
}

/// What the node had on record of the time of an episode.
fn on_record(episode: &Episode) -> String {
    let Some(related) = &episode.related else {
        return "    nothing is kept of what was on record then\n".to_owned();
    };
    related.words.iter().map(|record| format!("    {}\n", harmless(&record.write_dated()))).collect()
}

fn shown(drift: &Drift, by: Option<&str>) -> String {
    let mut text =
        format!("from {} to {}\n\n{}\n", time(drift.since), time(drift.until), in_words(&drift.all));
    if drift.undecidable > 0 {
        let _ = writeln!(
            text,
            "{} did not report a field that the filter reads, and are not counted",
            count(usize::try_from(drift.undecidable).unwrap_or(usize::MAX), "node", "nodes")
        );
    }
    for recurring in &drift.recurring {
        let line = format!(
            "recurring within the last day: {} {}, corrected {} times since {}",
            recurring.node,
            recurring.address,
            recurring.times,
            time(recurring.since)
        );
        let _ = writeln!(text, "{}", harmless(&line));
    }
    if let Some(by) = by {
        text.push('\n');
        text.push_str(&table(drift, by));
        if drift.has_more_rows {
            text.push_str("and more: take a --filter, or another --by\n");
        }
    }
    text
}

fn in_words(figures: &DriftFigures) -> String {
    let DriftFigures {
        episodes,
        nodes,
        open,
        only_reported,
        detected,
        corrected,
        by_hand,
        by_rollout,
        no_longer,
        drills,
        ..
    } = figures;
    let of = |number: &u64| usize::try_from(*number).unwrap_or(usize::MAX);
    let mut lines = vec![format!(
        "{} on {}: {open} open, {only_reported} of these only reported; {detected} detected in the period",
        count(of(episodes), "episode", "episodes"),
        count(of(nodes), "node", "nodes")
    )];
    lines.push(format!(
        "ended: {corrected} corrected, {by_hand} undone by hand, {by_rollout} replaced by a rollout, {no_longer} no longer desired"
    ));
    if *drills > 0 {
        lines.push(format!("{} of drills, in no other figure", count(of(drills), "episode", "episodes")));
    }
    if let Some(words) = durations(&figures.detected_within) {
        lines.push(format!("detected within (the drift happened between 0 and this before): {words}"));
    }
    if let Some(words) = durations(&figures.corrected_after) {
        lines.push(format!("corrected after detection: {words}"));
    }
    lines.join("\n")
}

fn durations(durations: &Durations) -> Option<String> {
    let (median, p95, mean) = (durations.median_secs?, durations.p95_secs?, durations.mean_secs?);
    Some(format!("half {}, 95 % {}, mean {}", span_words(median), span_words(p95), span_words(mean)))
}

const HEADS: [&str; 10] = [
    "nodes",
    "episodes",
    "open",
    "reported",
    "corrected",
    "by hand",
    "rollout",
    "no longer",
    "detected",
    "corrected after",
];

fn table(drift: &Drift, by: &str) -> String {
    let span = |secs: Option<i64>| secs.map_or_else(|| "–".to_owned(), span_words);
    let cells = drift.rows.iter().map(|row| {
        let figures = &row.figures;
        let key = row.key.as_deref().map_or_else(|| format!("(no {by})"), harmless);
        let numbers = [
            figures.nodes,
            figures.episodes,
            figures.open,
            figures.only_reported,
            figures.corrected,
            figures.by_hand,
            figures.by_rollout,
            figures.no_longer,
        ];
        let spans = [figures.detected_within.median_secs, figures.corrected_after.median_secs].map(span);
        std::iter::once(key).chain(numbers.map(|number| number.to_string())).chain(spans).collect::<Vec<_>>()
    });
    let head: Vec<String> = std::iter::once(by).chain(HEADS).map(str::to_owned).collect();
    let lines: Vec<Vec<String>> = std::iter::once(head).chain(cells).collect();
    let mut text = crate::compliance::aligned(&lines);
    text.push_str("detected: the longest that half of them may have been there before; corrected after: half of them, from detection\n");
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::json;

    #[test]
    fn drift_is_told_in_numbers_and_spans() {
        let figures = json!({
            "episodes": 9, "nodes": 6, "drills": 2, "open": 4, "only_reported": 3, "detected": 8, "corrected": 3, "by_hand": 1, "by_rollout": 1, "no_longer": 0,
            "detected_within": { "median_secs": 36_000, "p95_secs": 40_000, "mean_secs": 30_000 },
            "corrected_after": { "median_secs": 2, "p95_secs": 3, "mean_secs": 2 },
        });
        let drift: Drift = answered(
            json!({
                "since": "2026-10-30T08:12:00Z", "until": "2026-11-29T08:12:00Z", "undecidable": 0, "all": figures, "has_more_rows": false,
                "rows": [{ "key": "file:/etc/gate/tariffs.csv", "figures": figures }],
                "recurring": [{ "node": "kiosk-dunmoy-10", "address": "file:/etc/kiosk/shell.conf", "times": 5, "since": "2026-11-29T01:00:00Z" }],
            }),
            &json!({}),
        );
        insta::assert_snapshot!(shown(&drift, Some("clause")), @"
        from 2026-10-30 08:12:00 UTC to 2026-11-29 08:12:00 UTC

        9 episodes on 6 nodes: 4 open, 3 of these only reported; 8 detected in the period
        ended: 3 corrected, 1 undone by hand, 1 replaced by a rollout, 0 no longer desired
        2 episodes of drills, in no other figure
        detected within (the drift happened between 0 and this before): half 10 h, 95 % 11 h, mean 8 h
        corrected after detection: half 2 s, 95 % 3 s, mean 2 s
        recurring within the last day: kiosk-dunmoy-10 file:/etc/kiosk/shell.conf, corrected 5 times since 2026-11-29 01:00:00 UTC

        clause                      nodes  episodes  open  reported  corrected  by hand  rollout  no longer  detected  corrected after
        file:/etc/gate/tariffs.csv      6         9     4         3          3        1        1          0      10 h              2 s
        detected: the longest that half of them may have been there before; corrected after: half of them, from detection
        ");
        let episode: NodeEpisode = answered(
            json!({
                "node": "gate-corran-11", "address": "file:/etc/gate/tariffs.csv", "severity": "critical", "in_line_until": "2026-11-21T20:00:00Z",
                "detected_at": "2026-11-22T06:00:00Z", "detected_run": "01a207c2-0000-7000-8000-000000000000", "closed_at": null, "closed_as": null, "closed_run": null,
            }),
            &json!({}),
        );
        insta::assert_snapshot!(line(&episode), @"gate-corran-11  file:/etc/gate/tariffs.csv  critical  changed between 2026-11-21 20:00:00 UTC and 2026-11-22 06:00:00 UTC; open");
    }
}
