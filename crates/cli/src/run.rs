//! `constans run`.

use crate::error::ClientError;
use crate::run_follow::{self, FollowArguments};
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::run::Cause;
use constans_core::run_comparison::ResultChange;
use constans_terminal::{harmless, run_line, show_kept_run, style, styled, time};
use constans_wire::run::{ComparedRun, RunComparison, RunSummary, ShownRun};
use jiff::Timestamp;
use std::fmt::Write as _;

/// Arguments of `run`.
#[derive(Debug, Args)]
pub struct RunArguments {
    #[command(subcommand)]
    command: RunCommand,
}

#[derive(Debug, Subcommand)]
enum RunCommand {
    /// List the runs of a node, the newest first; runs that found the same are one line
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        #[command(flatten)]
        which: ListArguments,
        /// Only runs that the server learned before this moment
        #[arg(long, value_name = "TIME", conflicts_with = "sort")]
        before: Option<Timestamp>,
    },
    /// Show a run: every clause with desired and actual values and what was done
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// The run; the beginning of its id is enough
        run: String,
        /// Show every clause, with native commands and system calls
        #[arg(short, long)]
        verbose: bool,
    },
    /// Show what comes out of the run of a node while it goes on, clause by clause; of the next one, if none is under way
    Follow(FollowArguments),
    /// Compare a run with the one before it, or with another one: what fails now, what failed last time and passes now
    Compare {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// The run; the beginning of its id is enough
        run: String,
        /// The run to compare with [default: the one before it]
        #[arg(long, value_name = "RUN")]
        with: Option<String>,
    },
}

/// This many are printed at once.
const MOST: usize = 200;

/// Lists or shows.
pub async fn run(arguments: &RunArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RunCommand::List { server, node, which, before } => {
            let server = Server::open(server)?;
            let learned = before.map(|before| format!("run.learned < \"{before}\""));
            let filters = learned.iter().chain(&which.filter).map(|filter| format!("({filter})"));
            let filter = Some(filters.collect::<Vec<_>>().join(" && ")).filter(|filter| !filter.is_empty());
            let which = ListArguments { filter, sort: which.sort.clone() };
            let path = which.address(&format!("/api/nodes/{node}/runs?size={MOST}"));
            let runs: Vec<RunSummary> = server.get_at_most(&path, MOST).await?;
            if server.says_json(&runs) {
                return Ok(());
            }
            if runs.is_empty() && before.is_some() {
                println!("no such runs before that");
            } else if runs.is_empty() && which.filter.is_some() {
                println!("nothing matches the filter");
            } else if runs.is_empty() {
                println!("{node} has no runs yet\nNext: constans node show {node}");
            } else {
                runs.iter().for_each(|run| println!("{}", run_line(run)));
                if let Some(last) = runs.last().filter(|_| runs.len() >= MOST && which.sort.is_none()) {
                    println!("Older: the same with --before {}", last.learned);
                }
            }
            Ok(())
        }
        RunCommand::Show { server, node, run, verbose } => {
            let server = Server::open(server)?;
            let run: ShownRun = server.get(&format!("/api/nodes/{node}/runs/{run}")).await?;
            if !server.says_json(&run) {
                anstream::print!("{}", show_kept_run(node, &run.report, run.repeats.as_ref(), *verbose));
            }
            Ok(())
        }
        RunCommand::Follow(arguments) => run_follow::run(arguments).await,
        RunCommand::Compare { server, node, run, with } => {
            let server = Server::open(server)?;
            let query = with.as_deref().map(|with| format!("?with={with}")).unwrap_or_default();
            let comparison: RunComparison =
                server.get(&format!("/api/nodes/{node}/runs/{run}/comparison{query}")).await?;
            if !server.says_json(&comparison) {
                anstream::print!("{}", compared(node, &comparison));
            }
            Ok(())
        }
    }
}

fn cause_word(cause: Cause) -> &'static str {
    match cause {
        Cause::Drift => "drift",
        Cause::Rollout => "rollout",
        Cause::TargetMoved => "the target moved",
    }
}

fn compared(node: &str, comparison: &RunComparison) -> String {
    let line = |word: &str, run: &ComparedRun| {
        let id = run.run.map_or_else(|| "not kept: all was in line".to_owned(), |id| id.to_string());
        let releases = run.releases.join(" ");
        format!("{word:<7} {}  {:<16} {id}  {}\n", time(run.began), run.status.words(), harmless(&releases))
    };
    let Some(before) = &comparison.before else {
        return format!("{}no run before it is kept\n", line("after", &comparison.after));
    };
    let mut text = line("before", before) + &line("after", &comparison.after) + "\n";
    for one in &comparison.changed {
        let style = match one.change {
            ResultChange::FailsNow | ResultChange::FailsAgain => style::BAD,
            ResultChange::OutOfLineNow | ResultChange::FoundOtherwise => style::ATTENTION,
            ResultChange::PassesNow | ResultChange::InLineNow | ResultChange::CorrectedNow => style::WELL,
            ResultChange::New | ResultChange::Gone => style::MUTED,
        };
        let words = styled(style, format!("{:<28}", one.change.words()));
        let cause = one.cause.map(|cause| format!("  {}", cause_word(cause))).unwrap_or_default();
        let _ = writeln!(text, "{words}  {}{cause}", harmless(&one.address));
        if let Some(message) = &one.message {
            let of = if one.change == ResultChange::PassesNow { "it had said: " } else { "" };
            let _ = writeln!(text, "{:30}{of}{}", "", harmless(message));
        }
    }
    if comparison.changed.is_empty() {
        text.push_str("no clause is otherwise\n");
    }
    if comparison.is_of_a_part {
        text.push_str("one of them left clauses out; those that are new or gone are not told\n");
    }
    let _ = writeln!(text, "Next: constans node why {node} ADDRESS");
    text
}
