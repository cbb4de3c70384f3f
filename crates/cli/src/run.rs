//! `constans run`.

use crate::server::{ClientError, Output, Server, ServerArguments, harmless, json};
use clap::{Args, Subcommand};
use constans_core::run::{Cause, ClauseResult, Counts, Mode, Outcome};
use constans_wire::report::RunReport;
use constans_wire::run::RunSummary;

/// Arguments of `run`.
#[derive(Debug, Args)]
pub struct RunArguments {
    #[command(subcommand)]
    command: RunCommand,
}

#[derive(Debug, Subcommand)]
enum RunCommand {
    /// List a node's runs, the newest first; equal uneventful ones are one line
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// How to show them
        #[arg(long, value_enum, default_value_t = Output::Text)]
        output: Output,
    },
    /// Show a run whole: every clause with what was wanted, found and done
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// The run; the beginning of its id is enough
        run: String,
        /// How to show it
        #[arg(long, value_enum, default_value_t = Output::Text)]
        output: Output,
    },
}

/// Lists or shows.
pub async fn run(arguments: &RunArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RunCommand::List { server, node, output } => {
            let runs: Vec<RunSummary> = Server::open(server)?.get(&format!("/api/nodes/{node}/runs")).await?;
            if *output == Output::Json {
                println!("{}", json(&runs));
            } else if runs.is_empty() {
                println!("{node} has not run yet\nNext: constans node show {node} says what is wanted of it");
            } else {
                runs.iter().for_each(|run| println!("{}", line(run)));
            }
            Ok(())
        }
        RunCommand::Show { server, node, run, output } => {
            let report: RunReport = Server::open(server)?.get(&format!("/api/nodes/{node}/runs/{run}")).await?;
            if *output == Output::Json {
                println!("{}", json(&report));
            } else {
                println!("{}", shown(&report));
            }
            Ok(())
        }
    }
}

fn mode_word(mode: Mode) -> &'static str {
    if mode == Mode::Enforce { "enforce" } else { "observe" }
}

fn line(run: &RunSummary) -> String {
    let at = run.last.strftime("%Y-%m-%d %H:%M:%S UTC");
    match run.run {
        Some(id) => {
            format!("{at}  {:<15}  {}  {}  {id}", run.status.words(), mode_word(run.mode), run.counts.as_ref().map(counts).unwrap_or_default())
        }
        None => format!(
            "{at}  {:<15}  {}  {} since {}, nothing to say",
            run.status.words(),
            mode_word(run.mode),
            if run.count == 1 { "1 run".to_owned() } else { format!("{} runs", run.count) },
            run.began.strftime("%Y-%m-%d %H:%M:%S UTC")
        ),
    }
}

fn counts(counts: &Counts) -> String {
    let all = [
        (counts.failed, "failed"),
        (counts.blocked, "blocked"),
        (counts.out_of_line, "out of line"),
        (counts.corrected, "corrected"),
        (counts.in_line, "in line"),
        (counts.unsupported, "not examined"),
        (counts.idle, "only reacting"),
    ];
    all.into_iter().filter(|(number, _)| *number > 0).map(|(number, words)| format!("{number} {words}")).collect::<Vec<_>>().join(", ")
}

fn shown(report: &RunReport) -> String {
    let releases: Vec<&str> = report.wanted.releases.iter().map(|release| release.release.as_str()).collect();
    let mut lines = vec![
        format!("{}  {}  {}", report.status.words(), mode_word(report.mode), report.began.strftime("%Y-%m-%d %H:%M:%S UTC")),
        format!("wanted  {}  {}", harmless(&releases.join(" ")), harmless(report.wanted.digest.short())),
        format!("result  {}", counts(&report.counts)),
    ];
    lines.extend(report.reason.as_ref().map(|reason| format!("reason  {}", harmless(reason))));
    lines.extend(report.clauses.iter().map(clause));
    lines.join("\n")
}

fn clause(result: &ClauseResult) -> String {
    let outcome = match result.outcome {
        Outcome::InLine => "in line",
        Outcome::Corrected => "corrected",
        Outcome::OutOfLine => "out of line",
        Outcome::Blocked => "blocked",
        Outcome::Failed => "failed",
        Outcome::Unsupported => "not examined",
        Outcome::Idle => "only reacting",
    };
    let cause = match result.cause {
        Some(Cause::Drift) => "  drift",
        Some(Cause::Rollout) => "  rollout",
        Some(Cause::TargetMoved) => "  target moved",
        None => "",
    };
    let mut lines = vec![format!("{outcome:<13}  {}{cause}", harmless(result.address.as_str()))];
    for difference in &result.differences {
        lines.push(format!(
            "    {}  wanted {}   found {}",
            harmless(&difference.property),
            harmless(&difference.wanted.words()),
            harmless(&difference.found.words())
        ));
    }
    lines.extend(result.kept.iter().map(|old| format!("    old contents of {} are number {} in the node's attic", harmless(&old.path), old.attic)));
    lines.extend(result.failure.as_ref().map(|failure| format!("    {}", harmless(&failure.message))));
    lines.join("\n")
}
