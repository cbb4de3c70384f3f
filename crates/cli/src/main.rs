//! `constans`: the operators' client.

mod admission;
mod agent_package;
mod audit;
mod change;
mod compliance;
mod concession;
mod control;
mod credentials;
mod desired;
mod drift;
mod drift_accept;
mod drill;
mod error;
mod event;
mod evidence;
mod evidence_verify;
mod freeze;
mod given_edit;
mod group;
mod group_document;
mod group_edit;
mod group_show;
mod invitation;
mod join;
mod kind;
mod kit;
mod lsp;
mod lsp_frames;
mod node;
mod node_explained;
mod node_inspect;
mod node_reach;
mod node_retired;
mod node_why;
mod overview;
mod person;
mod recovery;
mod rollout;
mod run;
mod run_follow;
mod selftest;
mod server;
mod server_status;
mod sign_in;
mod stage;
mod sweep;
#[cfg(test)]
mod testing;

use clap::{CommandFactory as _, Parser, Subcommand};
use constans_wire::exit::Exit;
use std::path::PathBuf;
use std::process::ExitCode;

/// Write, check and publish desired state, and see the actual state of the fleet
#[derive(Debug, Parser)]
#[command(name = "constans", version, max_term_width = 110)]
struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Sign in to a server, after confirming its fingerprint
    SignIn(sign_in::SignInArguments),
    /// Sign out, on the server too
    SignOut(sign_in::SessionArguments),
    /// Show the server and the person that you are signed in as
    Session(sign_in::SessionArguments),
    /// Write, check, test and publish kits
    Kit(kit::KitArguments),
    /// Show kinds: what clauses can manage, and how to write them
    Kind(kind::KindArguments),
    /// Explain a finding code: what it means, and what to write instead
    Explain(kind::ExplainArguments),
    /// Create an invitation for new nodes
    Invite(invitation::InviteArguments),
    /// List and withdraw open invitations
    Invitation(invitation::InvitationArguments),
    /// Add, list and remove the packages by which the agent is installed; print the line that installs it
    AgentPackage(agent_package::AgentPackageArguments),
    /// List, approve and deny joining requests
    Join(join::JoinArguments),
    /// Make, list and end admission rules: machines that they fit are let in without approval
    Admission(admission::AdmissionArguments),
    /// List, show and revoke nodes
    Node(node::NodeArguments),
    /// Prove that a node is asked, fetches, compares and reports, without a desired state; nothing on it is altered
    Selftest(selftest::SelfTestArguments),
    /// List and remove persons, grant and withdraw roles
    Person(person::PersonArguments),
    /// List, create and withdraw tokens of programs
    Token(person::TokenArguments),
    /// Show refused requests: caller, address, reason
    Refusal(person::RefusalArguments),
    /// Make and order stages, and serve releases in them
    Stage(stage::StageArguments),
    /// Set, list and end freezes: nothing is corrected until their hour
    Freeze(freeze::FreezeArguments),
    /// Manage groups: their nodes, assignments, parameters and settings
    Group(group::GroupArguments),
    /// List and verify the audit trail: who did what, and when
    Audit(audit::AuditArguments),
    /// List and follow events: drift, failures and silence of nodes, and acts of people
    Event(event::EventArguments),
    /// Show how many clauses and nodes are as desired, now or as of any moment
    Compliance(compliance::ComplianceArguments),
    /// List and count drift over the fleet: open, corrected, by hand, recurring
    Drift(drift::DriftArguments),
    /// Set the catalogue of controls, see how far the fleet meets it, and its gaps
    Control(control::ControlArguments),
    /// Set and list the machines of an inventory, to see those that never joined
    Asset(control::AssetArguments),
    /// Ask for, approve and end concessions: approved deviations, until a day
    Concession(concession::ConcessionArguments),
    /// Have evidence made of compliance as of any moment, signed; verify it without a server
    Evidence(evidence::EvidenceArguments),
    /// Export and import the desired state as one document, for version control
    Desired(desired::DesiredArguments),
    /// List, show, confirm and revert changes of desired state
    Change(change::ChangeArguments),
    /// List and show the runs of a node
    Run(run::RunArguments),
    /// Have chosen nodes run now: observe or enforce them, follow it, stop it, compare
    Sweep(sweep::SweepArguments),
    /// Have clauses of a node broken on purpose, to see them noticed and put right
    Drill(drill::DrillArguments),
    /// Changes that reach their nodes in waves: begin, follow, halt, turn back
    Rollout(rollout::RolloutArguments),
    /// Show how the server is: its parts, its certificates, the versions of the agents
    Server(server_status::ServerCommandArguments),
    /// Show what the fleet needs most: the statuses, compliance, what needs attention and the command for each
    Overview(overview::OverviewArguments),
    /// Recover after the database was restored: see what nodes have, end the recovery
    Recovery(recovery::RecoveryArguments),
    /// Print the completions of this client's commands for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write the manual's pages into a folder; for packages
    #[command(hide = true)]
    ManPages {
        /// The folder
        folder: PathBuf,
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
        Command::Audit(arguments) => server::on_network(audit::run(&arguments)),
        Command::Compliance(arguments) => server::on_network(compliance::run(&arguments)),
        Command::Drift(arguments) => server::on_network(drift::run(&arguments)),
        Command::Control(arguments) => server::on_network(control::run(&arguments)),
        Command::Asset(arguments) => server::on_network(control::asset(&arguments)),
        Command::Concession(arguments) => server::on_network(concession::run(&arguments)),
        Command::Evidence(arguments) => evidence::run(&arguments),
        Command::Event(arguments) => server::on_network(event::run(&arguments)),
        Command::Desired(arguments) => server::on_network(desired::run(&arguments)),
        Command::Change(arguments) => server::on_network(change::run(&arguments)),
        Command::Freeze(arguments) => server::on_network(freeze::run(&arguments)),
        Command::Group(arguments) => server::on_network(group::run(&arguments)),
        Command::Run(arguments) => server::on_network(run::run(&arguments)),
        Command::Sweep(arguments) => server::on_network(sweep::run(&arguments)),
        Command::Drill(arguments) => server::on_network(drill::run(&arguments)),
        Command::Rollout(arguments) => server::on_network(rollout::run(&arguments)),
        Command::SignIn(arguments) => server::on_network(sign_in::run(&arguments)),
        Command::SignOut(arguments) => server::on_network(sign_in::sign_out(&arguments)),
        Command::Session(arguments) => server::on_network(sign_in::session(&arguments)),
        Command::Completions { shell } => {
            clap_complete::generate(shell, &mut CommandLine::command(), "constans", &mut std::io::stdout());
            Exit::Well.into()
        }
        Command::ManPages { folder } => match clap_mangen::generate_to(CommandLine::command(), &folder) {
            Ok(()) => Exit::Well.into(),
            Err(error) => {
                eprintln!("error: {}: {error}", folder.display());
                Exit::Error.into()
            }
        },
        Command::Recovery(arguments) => server::on_network(recovery::run(&arguments)),
        Command::AgentPackage(arguments) => server::on_network(agent_package::run(&arguments)),
        Command::Server(arguments) => server::on_network(server_status::run(&arguments)),
        Command::Overview(arguments) => server::on_network(overview::run(&arguments)),
        Command::Invite(arguments) => server::on_network(invitation::invite(&arguments)),
        Command::Invitation(arguments) => server::on_network(invitation::run(&arguments)),
        Command::Selftest(arguments) => server::on_network(selftest::run(&arguments)),
        Command::Person(arguments) => server::on_network(person::person(&arguments)),
        Command::Refusal(arguments) => server::on_network(person::refusal(&arguments)),
        Command::Token(arguments) => server::on_network(person::token(&arguments)),
        Command::Join(arguments) => server::on_network(join::run(&arguments)),
        Command::Admission(arguments) => server::on_network(admission::run(&arguments)),
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
