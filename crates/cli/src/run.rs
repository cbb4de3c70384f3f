//! `constans run`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{run_line, show_kept_run};
use constans_wire::run::{RunSummary, ShownRun};
use jiff::Timestamp;

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
        /// Only runs that the server learned before this moment
        #[arg(long, value_name = "TIME")]
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
}

/// The server sends this many at once.
const PAGE: usize = 200;

/// Lists or shows.
pub async fn run(arguments: &RunArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RunCommand::List { server, node, before } => {
            let server = Server::open(server)?;
            let query = before.map(|before| format!("?before={before}")).unwrap_or_default();
            let runs: Vec<RunSummary> = server.get(&format!("/api/nodes/{node}/runs{query}")).await?;
            if server.says_json(&runs) {
                return Ok(());
            }
            if runs.is_empty() && before.is_some() {
                println!("no runs before that");
            } else if runs.is_empty() {
                println!("{node} has no runs yet\nNext: constans node show {node}");
            } else {
                runs.iter().for_each(|run| println!("{}", run_line(run)));
                if let Some(last) = runs.last().filter(|_| runs.len() >= PAGE) {
                    println!("Older: constans run list {node} --before {}", last.learned);
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
    }
}
