//! `constans run`.

use crate::server::{ClientError, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::run::{Counts, Mode};
use constans_terminal::{Shown, harmless, show_run, style, styled, time};
use constans_wire::report::{RunReport, StartedBy};
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
    },
    /// Show a run whole: every clause with what was wanted, found and done
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// The run; the beginning of its id is enough
        run: String,
        /// Every clause, with how it was looked at and done
        #[arg(short, long)]
        verbose: bool,
    },
}

/// Lists or shows.
pub async fn run(arguments: &RunArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RunCommand::List { server, node } => {
            let server = Server::open(server)?;
            let runs: Vec<RunSummary> = server.get(&format!("/api/nodes/{node}/runs")).await?;
            if server.says_json(&runs) {
                return Ok(());
            }
            if runs.is_empty() {
                println!("{node} has not run yet\nNext: constans node show {node} says what is wanted of it");
            } else {
                runs.iter().for_each(|run| println!("{}", line(run)));
            }
            Ok(())
        }
        RunCommand::Show { server, node, run, verbose } => {
            let server = Server::open(server)?;
            let report: RunReport = server.get(&format!("/api/nodes/{node}/runs/{run}")).await?;
            if !server.says_json(&report) {
                anstream::print!("{}", shown(node, &report, *verbose));
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

/// Says which run it was and what started it, then all of it.
fn shown(node: &str, report: &RunReport, verbose: bool) -> String {
    let started_by = match report.started_by {
        StartedBy::Interval => "the interval",
        StartedBy::NewState => "something new that is wanted",
        StartedBy::Sweep => "a sweep",
        StartedBy::OperatorOnNode => "somebody on the node",
        StartedBy::Boot => "the node's start",
        StartedBy::AfterRestart => "the agent's start",
        StartedBy::DueReaction => "a due reaction",
    };
    let reason = report.reason.as_ref().map(|reason| format!(": {}", harmless(reason))).unwrap_or_default();
    let generation = report.wanted.generation.as_ref().map(|generation| format!(", generation {}", harmless(generation))).unwrap_or_default();
    format!(
        "{}, run {}\nbegan {}, started by {started_by}{reason}{generation}\n{}",
        styled(style::STRONG, harmless(node)),
        report.run,
        time(report.began),
        show_run(report, &Shown { verbose, excluded: &[], is_preview: false })
    )
}
