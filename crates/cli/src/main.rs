//! `constans`: the operators' client.

mod joining;
mod kit_check;
mod node;
mod server;

use clap::{Args, Parser, Subcommand};
use constans_wire::exit::Exit;
use std::process::ExitCode;

/// Write what machines should be, check it, and see what they are
#[derive(Debug, Parser)]
#[command(name = "constans", version, max_term_width = 110)]
struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Kits: what is wanted, as documents
    Kit(KitArguments),
    /// Make an invitation, which a new node shows to be heard
    Invite(joining::InviteArguments),
    /// Joining requests: see them, approve them, deny them
    Join(joining::JoinArguments),
    /// Nodes: see them, refuse them
    Node(node::NodeArguments),
}

#[derive(Debug, Args)]
struct KitArguments {
    #[command(subcommand)]
    command: KitCommand,
}

#[derive(Debug, Subcommand)]
enum KitCommand {
    /// Find everything that is wrong with a kit, at once and where it stands
    Check(kit_check::CheckArguments),
}

fn main() -> ExitCode {
    let command_line = match CommandLine::try_parse() {
        Ok(command_line) => command_line,
        Err(error) => {
            let exit = if error.use_stderr() { Exit::Usage } else { Exit::Well };
            let _ = error.print();
            return exit.into();
        }
    };
    match command_line.command {
        Command::Kit(KitArguments { command: KitCommand::Check(arguments) }) => kit_check::run(&arguments).into(),
        Command::Invite(arguments) => server::on_network(joining::invite(&arguments)),
        Command::Join(arguments) => server::on_network(joining::run(&arguments)),
        Command::Node(arguments) => server::on_network(node::run(&arguments)),
    }
}
