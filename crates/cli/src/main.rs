//! `constans`: the operators' client.

mod credentials;
mod group;
mod joining;
mod kind;
mod kit;
mod lsp;
mod lsp_frames;
mod node;
mod person;
mod recovery;
mod run;
mod server;
mod sign_in;
mod stage;

use clap::{CommandFactory as _, Parser, Subcommand};
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
    /// Sign in to a server: its fingerprint is shown, and what it gives is kept for you alone
    SignIn(sign_in::SignInArguments),
    /// Sign out: what was given ends at the server too
    SignOut(sign_in::SessionArguments),
    /// Show as whom and at which server you are signed in
    Session(sign_in::SessionArguments),
    /// Kits: what is wanted, as documents
    Kit(kit::KitArguments),
    /// Kinds: what clauses can keep, and how to write it
    Kind(kind::KindArguments),
    /// Explain the code of a finding: what it means, and what to write instead
    Explain(kind::ExplainArguments),
    /// Make an invitation, which a new node shows to be heard
    Invite(joining::InviteArguments),
    /// Invitations that may still be used: list them, withdraw them
    Invitation(joining::InvitationArguments),
    /// Joining requests: see them, approve them, deny them
    Join(joining::JoinArguments),
    /// Nodes: see them, refuse them
    Node(node::NodeArguments),
    /// Persons: list them, grant and take roles, remove them
    Person(person::PersonArguments),
    /// Tokens of programs: list them, make them, withdraw them
    Token(person::TokenArguments),
    /// Requests that were refused: whose, for what, from where
    Refusal(person::RefusalArguments),
    /// Stages: which releases their nodes are served
    Stage(stage::StageArguments),
    /// Groups: which nodes are given which baselines, parameters and settings
    Group(group::GroupArguments),
    /// Runs of a node: list them, show one whole
    Run(run::RunArguments),
    /// After the server's database was put back to an earlier day: what nodes have, and how to go on
    Recovery(recovery::RecoveryArguments),
    /// Print what a shell needs to complete this client's commands
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

fn main() -> ExitCode {
    constans_terminal::end_when_nobody_reads();
    let command_line = match CommandLine::try_parse() {
        Ok(command_line) => command_line,
        Err(error) => {
            let exit = if error.use_stderr() { Exit::Usage } else { Exit::Well };
            let _ = error.print();
            return exit.into();
        }
    };
    match command_line.command {
        Command::Kit(arguments) => kit::run(arguments),
        Command::Kind(arguments) => kind::run(&arguments).into(),
        Command::Explain(arguments) => kind::explain(&arguments).into(),
        Command::Stage(arguments) => server::on_network(stage::run(&arguments)),
        Command::Group(arguments) => server::on_network(group::run(&arguments)),
        Command::Run(arguments) => server::on_network(run::run(&arguments)),
        Command::SignIn(arguments) => server::on_network(sign_in::run(&arguments)),
        Command::SignOut(arguments) => server::on_network(sign_in::sign_out(&arguments)),
        Command::Session(arguments) => server::on_network(sign_in::session(&arguments)),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut CommandLine::command(), "constans", &mut std::io::stdout());
            Exit::Well.into()
        }
        Command::Recovery(arguments) => server::on_network(recovery::run(&arguments)),
        Command::Invite(arguments) => server::on_network(joining::invite(&arguments)),
        Command::Invitation(arguments) => server::on_network(joining::invitation(&arguments)),
        Command::Person(arguments) => server::on_network(person::person(&arguments)),
        Command::Refusal(arguments) => server::on_network(person::refusal(&arguments)),
        Command::Token(arguments) => server::on_network(person::token(&arguments)),
        Command::Join(arguments) => server::on_network(joining::run(&arguments)),
        Command::Node(arguments) => server::on_network(node::run(&arguments)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_command_line_contradicts_itself_nowhere() {
        CommandLine::command().debug_assert();
    }
}
