//! `constans invite` and `constans invitation`.

use crate::error::ClientError;
use crate::server::{ListArguments, Server, ServerArguments, labels};
use clap::{Args, Subcommand};
use constans_core::kind::duration_secs;
use constans_core::words::read_label;
use constans_terminal::harmless;
use constans_wire::join::{MadeInvitation, NewInvitation, OpenInvitation};
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

/// Arguments of `invite`.
#[derive(Debug, Args)]
pub struct InviteArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Validity, for example 24h
    #[arg(long = "for", value_name = "TIME", default_value = "24h", value_parser = duration)]
    for_secs: u64,
    /// How many nodes may use it
    #[arg(long, value_name = "N", default_value_t = 1)]
    uses: u32,
    /// A label of the nodes that use it; repeat it for several
    #[arg(long = "label", value_name = "KEY=VALUE", value_parser = read_label)]
    labels: Vec<(String, String)>,
}

/// Arguments of `invitation`.
#[derive(Debug, Args)]
pub struct InvitationArguments {
    #[command(subcommand)]
    command: InvitationCommand,
}

#[derive(Debug, Subcommand)]
enum InvitationCommand {
    /// List open invitations
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Withdraw an invitation: it can no longer be used
    Withdraw {
        #[command(flatten)]
        server: ServerArguments,
        /// Its id
        id: String,
    },
}

/// Lists or withdraws invitations.
pub async fn run(arguments: &InvitationArguments) -> Result<(), ClientError> {
    match &arguments.command {
        InvitationCommand::List { server, which } => list_invitations(&Server::open(server)?, which).await,
        InvitationCommand::Withdraw { server, id } => {
            let server = Server::open(server)?;
            let withdrawn: bool = server
                .delete(&format!("/api/invitations/{}", utf8_percent_encode(id, NON_ALPHANUMERIC)))
                .await?;
            if !server.says_json(&withdrawn) {
                println!(
                    "the invitation {id} was withdrawn; joining requests made with it stay: constans join list"
                );
            }
            Ok(())
        }
    }
}

async fn list_invitations(server: &Server, which: &ListArguments) -> Result<(), ClientError> {
    let open: Vec<OpenInvitation> = server.get_all(&which.address("/api/invitations")).await?;
    if server.says_json(&open) {
        return Ok(());
    }
    if open.is_empty() {
        println!("{}", which.none("no open invitations\nNext: constans invite creates one for a new node"));
        return Ok(());
    }
    for invitation in &open {
        let at = |at: Timestamp| at.strftime("%Y-%m-%d %H:%M UTC").to_string();
        println!(
            "{}   {} of {} uses left, until {}   made by {} {}\n   labels  {}",
            invitation.id,
            invitation.uses_left,
            invitation.uses,
            at(invitation.expires_at),
            harmless(&invitation.made_by),
            at(invitation.made_at),
            labels(&invitation.labels),
        );
    }
    println!("Next: constans invitation withdraw ID");
    Ok(())
}

/// Reads a time as it is written on a command line.
pub fn duration(text: &str) -> Result<u64, String> {
    duration_secs(text).ok_or_else(|| "write it as 30m, 24h or 7d".to_owned())
}

/// Makes an invitation; its one line goes to standard output, all else to standard error.
pub async fn invite(arguments: &InviteArguments) -> Result<(), ClientError> {
    let wanted = NewInvitation {
        for_secs: arguments.for_secs,
        uses: arguments.uses,
        labels: arguments.labels.iter().cloned().collect(),
    };
    let server = Server::open(&arguments.server)?;
    let made: MadeInvitation = server.post("/api/invitations", &wanted).await?;
    if server.says_json(&made) {
        return Ok(());
    }
    println!("{}", made.text);
    let nodes = if arguments.uses == 1 { "one node".to_owned() } else { format!("{} nodes", arguments.uses) };
    eprintln!(
        "invitation {} for {nodes}, until {}; it is shown once; anyone who has it can ask to join",
        made.id,
        made.expires_at.strftime("%Y-%m-%d %H:%M UTC")
    );
    match &made.install {
        Some(install) => {
            eprintln!(
                "\nNext, in a shell of each machine; it asks for the invitation, so that no history has it:\n"
            );
            eprintln!("{}", install.line);
        }
        None => eprintln!(
            "Next, on the node: constans-agent join, which asks for it. With packages of the agent (constans agent-package add) one line installs it and joins"
        ),
    }
    Ok(())
}
