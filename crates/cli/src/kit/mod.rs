//! `constans kit`: what is wanted, as documents.

mod check;
mod diff;
mod fmt;
mod log;
mod new;
mod order;
mod publish;
mod show;
mod test;

pub use publish::read_folder;

use crate::server;
use clap::{Args, Subcommand};
use std::process::ExitCode;

/// Arguments of `kit`.
#[derive(Debug, Args)]
pub struct KitArguments {
    #[command(subcommand)]
    command: KitCommand,
}

#[derive(Debug, Subcommand)]
enum KitCommand {
    /// Make a kit that checks and has a case, to begin with
    New(new::NewArguments),
    /// Find everything that is wrong with a kit, at once and where it stands
    Check(check::CheckArguments),
    /// Show what a kit wants, for people who do not read documents
    Show(show::ShowArguments),
    /// Show in which order a baseline's clauses are handled, and why
    Order(order::OrderArguments),
    /// Try the kit's cases: node and parameters in, clauses out
    Test(test::TestArguments),
    /// Write a kit's documents in the one usual form; comments are kept
    Fmt(fmt::FmtArguments),
    /// Compare two kits clause by clause: folders, or releases as KIT@VERSION
    Diff(diff::DiffArguments),
    /// Publish a kit, and with it what it requires: checked again by the server, and refused whole if anything is wrong
    Publish(publish::PublishArguments),
    /// List the published releases, the newest first
    List(publish::ListArguments),
    /// Show the releases of one kit, with where and when each was served
    Log(log::LogArguments),
    /// Withdraw a release: nothing serves it anew
    Withdraw(log::WithdrawArguments),
    /// Speak the language server protocol over stdin and stdout, for editors
    Lsp,
}

/// Does what was asked.
pub fn run(arguments: KitArguments) -> ExitCode {
    match arguments.command {
        KitCommand::New(arguments) => new::run(&arguments).into(),
        KitCommand::Check(arguments) => check::run(&arguments),
        KitCommand::Show(arguments) => show::run(&arguments).into(),
        KitCommand::Order(arguments) => order::run(&arguments).into(),
        KitCommand::Test(arguments) => test::run(&arguments).into(),
        KitCommand::Fmt(arguments) => fmt::run(&arguments).into(),
        KitCommand::Diff(arguments) => server::on_network(diff::run(&arguments)),
        KitCommand::Publish(arguments) => server::on_network(publish::run(&arguments)),
        KitCommand::List(arguments) => server::on_network(publish::list(&arguments)),
        KitCommand::Log(arguments) => server::on_network(log::run(&arguments)),
        KitCommand::Withdraw(arguments) => server::on_network(log::withdraw(&arguments)),
        KitCommand::Lsp => crate::lsp::run().into(),
    }
}
