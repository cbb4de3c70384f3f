//! `constans agent-package`: what the agent is installed by.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::harmless;
use constans_wire::agent_package::{AddedPackage, AgentPackage, InstallLine};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::path::PathBuf;

/// Arguments of `agent-package`.
#[derive(Debug, Args)]
pub struct AgentPackageArguments {
    #[command(subcommand)]
    command: AgentPackageCommand,
}

#[derive(Debug, Subcommand)]
enum AgentPackageCommand {
    /// Add packages of the agent, which make packages builds; the server's version and the two before are served
    Add {
        #[command(flatten)]
        server: ServerArguments,
        /// The files, .deb or .rpm
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
    /// List the packages that the server serves
    List {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// Print the line that installs the agent on a machine and lets it join
    Line {
        #[command(flatten)]
        server: ServerArguments,
        /// The version to install [default: the newest that is served]
        #[arg(long, value_name = "VERSION")]
        agent_version: Option<String>,
    },
    /// Remove a package: lines that install it no longer work
    Remove {
        #[command(flatten)]
        server: ServerArguments,
        /// The beginning of its SHA-256, as it is listed
        sha256: String,
    },
}

/// Adds, lists or removes packages, or prints the line.
pub async fn run(arguments: &AgentPackageArguments) -> Result<(), ClientError> {
    match &arguments.command {
        AgentPackageCommand::Add { server, files } => add(&Server::open(server)?, files).await,
        AgentPackageCommand::List { server } => list(&Server::open(server)?).await,
        AgentPackageCommand::Line { server, agent_version } => {
            line(&Server::open(server)?, agent_version.as_deref()).await
        }
        AgentPackageCommand::Remove { server, sha256 } => remove(&Server::open(server)?, sha256).await,
    }
}

async fn add(server: &Server, files: &[PathBuf]) -> Result<(), ClientError> {
    // All are read before the first is sent.
    let unreadable = |file: &PathBuf, error: std::io::Error| {
        ClientError::new(
            format!("{}: {error}", file.display()),
            "name the files that make packages has built",
        )
    };
    let read: Vec<Vec<u8>> = files
        .iter()
        .map(|file| std::fs::read(file).map_err(|error| unreadable(file, error)))
        .collect::<Result<_, _>>()?;
    let mut added: Vec<AddedPackage> = Vec::new();
    for (at, (file, contents)) in files.iter().zip(read).enumerate() {
        let one =
            server.put_bytes("/api/agent-packages", contents).await.map_err(|mut error: ClientError| {
                let before = if at == 0 { String::new() } else { format!(" ({at} before it were added)") };
                error.message = format!("{}{before}: {}", file.display(), error.message);
                error
            })?;
        added.push(one);
    }
    if server.says_json(&added) {
        return Ok(());
    }
    for AddedPackage { package, was_there, left } in &added {
        println!("{}   {}", if *was_there { "was there" } else { "added" }, words(package));
        left.iter().for_each(|left| println!("left    {}", words(left)));
    }
    println!("Next: constans invite, which prints the line that installs the agent");
    Ok(())
}

fn words(package: &AgentPackage) -> String {
    format!(
        "constans-agent {} for {} as .{}, glibc {} or later, {:.1} MB, {}",
        harmless(&package.version),
        harmless(&package.architecture),
        package.format,
        harmless(&package.glibc),
        package.bytes as f64 / 1e6,
        package.sha256.get(..12).unwrap_or(&package.sha256)
    )
}

async fn list(server: &Server) -> Result<(), ClientError> {
    let packages: Vec<AgentPackage> = server.get("/api/agent-packages").await?;
    if server.says_json(&packages) {
        return Ok(());
    }
    if packages.is_empty() {
        println!("no packages of the agent\nNext: make packages, then constans agent-package add FILE");
    }
    for package in &packages {
        println!(
            "{}\n   added by {} {}",
            words(package),
            harmless(&package.added_by),
            package.added_at.strftime("%Y-%m-%d %H:%M UTC")
        );
    }
    Ok(())
}

async fn line(server: &Server, version: Option<&str>) -> Result<(), ClientError> {
    let query = version
        .map(|version| format!("?version={}", utf8_percent_encode(version, NON_ALPHANUMERIC)))
        .unwrap_or_default();
    let line: InstallLine = server.get(&format!("/api/install-line{query}")).await?;
    if server.says_json(&line) {
        return Ok(());
    }
    println!("{}", line.line);
    for package in &line.installs {
        eprintln!("it installs {}", words(package));
    }
    line.systems.iter().for_each(|system| eprintln!("it is for {}", harmless(system)));
    eprintln!(
        "Next: constans invite, and paste the line into a shell of the machine: it asks for the invitation"
    );
    Ok(())
}

async fn remove(server: &Server, sha256: &str) -> Result<(), ClientError> {
    let packages: Vec<AgentPackage> = server.get("/api/agent-packages").await?;
    let mut meant = packages.iter().filter(|one| !sha256.is_empty() && one.sha256.starts_with(sha256));
    let (Some(package), None) = (meant.next(), meant.next()) else {
        return Err(ClientError::new(
            format!("not one package has a SHA-256 that begins with {}", harmless(sha256)),
            "constans agent-package list shows them",
        ));
    };
    let removed: bool = server.delete(&format!("/api/agent-packages/{}", package.sha256)).await?;
    if !server.says_json(&removed) {
        println!("removed {}; lines that install it no longer work", words(package));
    }
    Ok(())
}
