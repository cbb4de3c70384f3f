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
mod uses;

pub use publish::read_folder;

use crate::server;
use clap::{Args, Subcommand};
use constans_folder::bounds;
use std::path::{Path, PathBuf};
use std::process::{Command, ExitCode};

/// Arguments of `kit`.
#[derive(Debug, Args)]
pub struct KitArguments {
    #[command(subcommand)]
    command: KitCommand,
}

#[derive(Debug, Subcommand)]
enum KitCommand {
    /// Create a kit with an example baseline and case
    New(new::NewArguments),
    /// Check a kit: report all findings at once, with their places
    Check(check::CheckArguments),
    /// Show the desired state of a kit in words
    Show(show::ShowArguments),
    /// Show the order of a baseline's clauses, with the reasons
    Order(order::OrderArguments),
    /// Run the cases of a kit: expected clauses for given nodes and parameters
    Test(test::TestArguments),
    /// Format the documents of a kit; comments stay
    Fmt(fmt::FmtArguments),
    /// Compare two kits clause by clause: folders, or releases as KIT@VERSION
    Diff(diff::DiffArguments),
    /// Publish a kit, with required kits if given; the server checks it again and publishes all or nothing
    Publish(publish::PublishArguments),
    /// List the published releases, the newest first
    List(publish::KitListArguments),
    /// Show the releases of a kit, with the stages and times in which they were served
    Log(log::LogArguments),
    /// Show where a kit's baselines are used: groups, nodes, and others that include them
    Uses(uses::UsesArguments),
    /// Withdraw a release: no stage can serve it again
    Withdraw(log::WithdrawArguments),
    /// Speak the language server protocol over stdin and stdout, for editors
    Lsp,
    /// Check within bounds without output; other commands start this first
    #[command(hide = true)]
    TryCheck(KitPaths),
}

/// Which kit, and which kits beside it.
#[derive(Debug, Args)]
pub struct KitPaths {
    /// The kit's folder, or a single baseline document
    #[arg(value_name = "DIR|FILE")]
    pub kit: PathBuf,
    /// Folder of a required kit; kits beside this one are found without it
    #[arg(long, value_name = "DIR")]
    pub with: Vec<PathBuf>,
}

impl KitPaths {
    fn both(&self) -> (&Path, &[PathBuf]) {
        (&self.kit, &self.with)
    }
}

impl KitCommand {
    /// Returns the kits that are checked on the way, each with those beside it.
    fn checked(&self) -> Vec<(&Path, &[PathBuf])> {
        match self {
            Self::Check(arguments) => vec![arguments.paths.both()],
            Self::Show(arguments) => {
                arguments.folder().map(|folder| (folder, [].as_slice())).into_iter().collect()
            }
            Self::Order(arguments) => vec![arguments.paths.both()],
            Self::Test(arguments) => vec![arguments.paths.both()],
            Self::Publish(arguments) => arguments.kits(),
            Self::Diff(arguments) => arguments.folders().map(|folder| (folder, [].as_slice())).collect(),
            _ => Vec::new(),
        }
    }
}

/// Checks a kit in this process, which is the second one, within bounds; nothing of what is found is shown.
fn try_check(arguments: &KitPaths) -> ExitCode {
    let _ = bounds::bind_this_process();
    let _ = if arguments.kit.is_file() {
        constans_folder::check_document(&arguments.kit).map(drop)
    } else {
        constans_folder::check_folder(&arguments.kit, &arguments.with).map(drop)
    };
    ExitCode::SUCCESS
}

/// Lets a second process try the check, so that a hostile kit ends that and not what was asked for.
fn is_bounded(kit: &Path, with: &[PathBuf]) -> std::io::Result<bool> {
    let mut second = Command::new(std::env::current_exe()?);
    second.args(["kit", "try-check"]).arg(kit);
    for folder in with {
        second.arg("--with").arg(folder);
    }
    bounds::ends_by_itself(&mut second, &[])
}

/// Does what was asked.
pub fn run(arguments: KitArguments) -> ExitCode {
    for (kit, with) in arguments.command.checked() {
        match is_bounded(kit, with) {
            Ok(true) => {}
            Ok(false) => {
                let (message, hint) = bounds::stopped_words();
                return check::refuse(&format!("{}: {message}", kit.display()), hint).into();
            }
            Err(error) => {
                return check::refuse(
                    &format!("the check could not be started: {error}"),
                    "check that this machine has free memory",
                )
                .into();
            }
        }
    }
    match arguments.command {
        KitCommand::New(arguments) => new::run(&arguments).into(),
        KitCommand::Check(arguments) => check::run(&arguments),
        KitCommand::Show(arguments) => server::on_network(show::run(&arguments)),
        KitCommand::Order(arguments) => order::run(&arguments).into(),
        KitCommand::Test(arguments) => test::run(&arguments).into(),
        KitCommand::Fmt(arguments) => fmt::run(&arguments).into(),
        KitCommand::Diff(arguments) => server::on_network(diff::run(&arguments)),
        KitCommand::Publish(arguments) => server::on_network(publish::run(&arguments)),
        KitCommand::List(arguments) => server::on_network(publish::list(&arguments)),
        KitCommand::Log(arguments) => server::on_network(log::run(&arguments)),
        KitCommand::Uses(arguments) => server::on_network(uses::run(&arguments)),
        KitCommand::Withdraw(arguments) => server::on_network(log::withdraw(&arguments)),
        KitCommand::Lsp => crate::lsp::run().into(),
        KitCommand::TryCheck(arguments) => try_check(&arguments),
    }
}
