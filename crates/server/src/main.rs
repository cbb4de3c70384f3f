//! `constans-server`: the central program.

use clap::{CommandFactory as _, Parser, Subcommand};
use constans_folder::bounds;
use constans_server::launch;
use constans_server::launch_error::LaunchError;
use constans_server::people::command_line::{self as people, LinkArguments, PersonCommand, TokenCommand};
use constans_server::settings::Settings;
use constans_server::trust::{EvidenceKeys, ProtectedError};
use constans_server::{api, preparation};
use std::io::{IsTerminal as _, Write as _};
use std::path::PathBuf;
use std::process::ExitCode;

/// Reports and answers are many small values that are made and dropped: this takes a tenth off the time of a check-in.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Serve the nodes and the people of a fleet
#[derive(Debug, Parser)]
#[command(name = "constans-server", version, max_term_width = 110)]
struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Serve until it is stopped
    Serve(Settings),
    /// Check that this machine and PostgreSQL are fit for the server and its fleet: all of it at once, each misfit with what to do
    Check(Settings),
    /// List and remove persons, grant and withdraw roles
    #[command(subcommand)]
    Person(PersonCommand),
    /// List, create and withdraw tokens of programs
    #[command(subcommand)]
    Token(TokenCommand),
    /// Print a link by which a person signs in once and chooses a password
    Link(LinkArguments),
    /// Have another key sign evidence from now on: the present one endorses it and is forgotten. Restart the server then
    RenewEvidenceKey {
        /// The protected folder
        #[arg(long, value_name = "DIR")]
        protected: PathBuf,
    },
    /// Print the OpenAPI document of the server's interface
    Openapi,
    /// Print the completions of the server's commands for a shell
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
    /// Try to check the kits on stdin, within bounds; the server starts this before it checks them itself
    #[command(hide = true)]
    TryCheck,
}

fn main() -> ExitCode {
    rustls::crypto::ring::default_provider()
        .install_default()
        .expect("no other provider was installed before");
    let filter = tracing_subscriber::EnvFilter::try_from_env("CONSTANS_LOG")
        .unwrap_or_else(|_| "info,rocket=error,rocket_http=error,sqlx=warn".into());
    let log = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_ansi(std::io::stderr().is_terminal());
    // One object of JSON a line, for anyone who gathers logs.
    if std::env::var("CONSTANS_LOG_FORMAT").is_ok_and(|format| format == "json") {
        log.json().init();
    } else {
        log.init();
    }
    // Rocket has a line of its own for each request that is refused; our log has that already, and is bounded.
    log::set_max_level(log::LevelFilter::Error);
    let command = CommandLine::parse().command;
    if matches!(command, Command::TryCheck) {
        let tried = bounds::bind_this_process().and_then(|()| bounds::check_from(std::io::stdin()));
        return if tried.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    let runtime =
        tokio::runtime::Builder::new_multi_thread().enable_all().build().expect("a runtime can be started");
    let mut fits = true;
    let result = runtime.block_on(async {
        match command {
            Command::Serve(settings) => launch::serve(settings).await,
            Command::Check(settings) => {
                fits = preparation::say(&preparation::look(&settings, true).await, settings.expect);
                Ok(())
            }
            Command::Link(arguments) => people::print_link(&arguments).await,
            Command::Person(command) => people::person(command).await,
            Command::Token(command) => people::token(command).await,
            Command::RenewEvidenceKey { protected } => EvidenceKeys::renew(&protected)
                .map_err(|error| ProtectedError::from(error).into())
                .map(|keys| {
                    println!("{} signs evidence as soon as the server is started again", keys.id());
                }),
            Command::Openapi => {
                // Anyone who reads only the beginning has seen what they wanted.
                let _ = writeln!(std::io::stdout(), "{}", api::document_text());
                Ok(())
            }
            Command::Completions { shell } => {
                clap_complete::generate(
                    shell,
                    &mut CommandLine::command(),
                    "constans-server",
                    &mut std::io::stdout(),
                );
                Ok(())
            }
            Command::ManPages { folder } => clap_mangen::generate_to(CommandLine::command(), &folder)
                .map_err(|error| LaunchError::Unwritable(folder, error)),
            Command::TryCheck => Ok(()),
        }
    });
    match result {
        Ok(()) if fits => ExitCode::SUCCESS,
        Ok(()) => ExitCode::FAILURE,
        Err(error) => {
            eprintln!("error: {error}");
            let mut cause = std::error::Error::source(&error);
            while let Some(inner) = cause {
                eprintln!("  since: {inner}");
                cause = inner.source();
            }
            if let Some(hint) = error.hint() {
                eprintln!("hint: {hint}");
            }
            ExitCode::FAILURE
        }
    }
}
