//! `constans run`.

use crate::server::{ClientError, Server, ServerArguments};
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
