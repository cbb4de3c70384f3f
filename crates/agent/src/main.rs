//! `constans-agent`: keeps one machine in the desired state of its documents.

mod asking;
mod attic_commands;
mod inspect_command;
mod repeated;
mod runs_command;
mod session;
mod status_command;
mod upgrade_command;

use asking::{on_network, on_network_beside_runs, open_place};
use clap::{CommandFactory as _, Parser as _};
use constans_agent::command_line::{AtticCommand, Command, CommandLine};
use constans_agent::error::AgentError;
use constans_agent::state_dir::StateDir;
use constans_agent::{daemon, diagnose, join, join_command, network_part, upgrade};
use constans_wire::exit::Exit;
use std::process::ExitCode;
use std::time::Duration;

/// A run makes and drops many small values; this takes a third off its time, and gives back what is free.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

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
    let result = match command_line.command {
        Command::Observe(arguments) => session::observe(&arguments.wanted),
        Command::Enforce(arguments) => session::enforce(&arguments),
        Command::Inspect(arguments) => inspect_command::inspect(&arguments),
        Command::Join(arguments) => on_network(join_command::join(&arguments)),
        Command::CheckIn(arguments) => open_place(&arguments.place).and_then(|(state_dir, machine)| {
            on_network(join::check_in(&state_dir, &machine, arguments.output))
        }),
        Command::Daemon(arguments) => open_place(&arguments.place).and_then(|(state_dir, machine)| {
            on_network_beside_runs(daemon::run(
                &state_dir,
                machine,
                arguments.once,
                arguments.reach_within.map(Duration::from_secs),
                arguments.report_within,
            ))
            .map(|()| Exit::Well)
        }),
        Command::Diagnose(arguments) => open_place(&arguments.place).and_then(|(state_dir, machine)| {
            on_network(diagnose::diagnose(&state_dir, &machine, arguments.output))
        }),
        Command::Status(arguments) => status_command::status(&arguments),
        Command::Runs(arguments) => runs_command::runs(&arguments),
        Command::NetworkPart { uid, gid } => network_part::live(uid.zip(gid)),
        Command::RetryUpgrade(place) => {
            open_place(&place).and_then(|(state_dir, _)| upgrade_command::retry(&state_dir))
        }
        Command::UpgradeGuard { state_dir } => {
            StateDir::open(&state_dir).and_then(|state_dir| upgrade::guard(&state_dir))
        }
        Command::Completions { shell } => {
            clap_complete::generate(
                shell,
                &mut CommandLine::command(),
                "constans-agent",
                &mut std::io::stdout(),
            );
            Ok(Exit::Well)
        }
        Command::ManPages { folder } => clap_mangen::generate_to(CommandLine::command(), &folder)
            .map(|()| Exit::Well)
            .map_err(|error| AgentError::new(format!("{}: {error}", folder.display()))),
        Command::Attic(arguments) => match arguments.command {
            AtticCommand::List(arguments) => attic_commands::list(&arguments),
            AtticCommand::Show(arguments) => attic_commands::show(&arguments),
            AtticCommand::Compare(arguments) => attic_commands::compare(&arguments),
            AtticCommand::PutBack(arguments) => attic_commands::put_back(&arguments),
        },
    };
    match result {
        Ok(exit) => exit.into(),
        Err(error) => {
            anstream::eprintln!("error: {}", error.message.trim_end());
            if let Some(hint) = &error.hint {
                anstream::eprintln!("hint: {hint}");
            }
            error.exit.into()
        }
    }
}
