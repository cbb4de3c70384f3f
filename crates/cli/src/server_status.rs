//! `constans server`.

use crate::compliance::aligned;
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{count, harmless, span, style, styled, time};
use constans_wire::server_status::ServerStatus;
use std::fmt::Write as _;

/// Arguments of `server`.
#[derive(Debug, Args)]
pub struct ServerCommandArguments {
    #[command(subcommand)]
    command: ServerCommand,
}

#[derive(Debug, Subcommand)]
enum ServerCommand {
    /// Show how the server is: its parts, its certificates, the versions of the agents
    Status {
        #[command(flatten)]
        server: ServerArguments,
    },
}

/// Shows how the server is.
pub async fn run(arguments: &ServerCommandArguments) -> Result<(), ClientError> {
    let ServerCommand::Status { server } = &arguments.command;
    let server = Server::open(server)?;
    let status: ServerStatus = server.get("/api/server-status").await?;
    if !server.says_json(&status) {
        anstream::print!("{}", shown(&status));
    }
    Ok(())
}

fn shown(status: &ServerStatus) -> String {
    let ServerStatus { now, version, started_at, nodes, expected_nodes, .. } = status;
    let mut text = format!(
        "constans-server {} since {} ({}), for {} of {expected_nodes} that it is sized for\n",
        harmless(version),
        time(*started_at),
        span(now.duration_since(*started_at).as_secs()),
        count(usize::try_from(*nodes).unwrap_or(usize::MAX), "node", "nodes"),
    );
    if let Some(since) = status.recovering_since {
        let _ = writeln!(
            text,
            "{}: constans recovery show",
            styled(style::ATTENTION, format!("recovering since {}", time(since)))
        );
    }
    let mark = |is_well: bool| if is_well { "well".to_owned() } else { styled(style::BAD, "MISFIT") };
    text.push('\n');
    for part in &status.parts {
        let _ =
            writeln!(text, "{:<14} {}  {}", part.name, mark(part.remedy.is_none()), harmless(&part.found));
        if let Some(remedy) = &part.remedy {
            let _ = writeln!(text, "{:<14} {}", "", harmless(remedy));
        }
    }
    text.push_str("\ncertificates\n");
    for one in &status.certificates {
        let _ = writeln!(text, "  for {:<8} until {}", harmless(&one.shown_to), time(one.ends_at));
        if let Some(problem) = &one.problem {
            let _ = writeln!(text, "  {}", styled(style::BAD, harmless(problem)));
        }
    }
    text.push_str("\nagents\n");
    let rows: Vec<Vec<String>> = status
        .agents
        .iter()
        .map(|one| {
            let version = one.version.as_deref().unwrap_or("never checked in");
            vec![format!("  {}", harmless(version)), one.nodes.to_string()]
        })
        .collect();
    text.push_str(&aligned(&rows));
    let served = |one: &constans_wire::agent_package::AgentPackage| {
        format!("{} .{} {}", harmless(&one.version), one.format, harmless(&one.architecture))
    };
    let packages: Vec<String> = status.packages.iter().map(served).collect();
    let packages =
        if packages.is_empty() { "none: constans agent-package add".to_owned() } else { packages.join(", ") };
    let _ = writeln!(text, "packages of the agent that are served: {packages}");
    let not_well = status.not_well();
    let _ = writeln!(
        text,
        "\n{}",
        match not_well {
            0 => "no problems".to_owned(),
            many => styled(style::BAD, count(many, "problem", "problems")),
        }
    );
    text.push_str(
        "People and tokens: constans person list, constans token list; who did what: constans audit list\n",
    );
    text
}
