//! `constans run`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{run_line, show_kept_run};
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
    /// List the runs of a node, the newest first; equal uneventful runs are one line
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
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
                println!("{node} has no runs yet\nNext: constans node show {node}");
            } else {
                runs.iter().for_each(|run| println!("{}", run_line(run)));
            }
            Ok(())
        }
        RunCommand::Show { server, node, run, verbose } => {
            let server = Server::open(server)?;
            let report: RunReport = server.get(&format!("/api/nodes/{node}/runs/{run}")).await?;
            if !server.says_json(&report) {
                anstream::print!("{}", show_kept_run(node, &report, *verbose));
            }
            Ok(())
        }
    }
}
