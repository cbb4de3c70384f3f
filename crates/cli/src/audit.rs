//! `constans audit`.

use crate::error::ClientError;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{count, harmless, time};
use constans_wire::audit::{AuditVerification, ShownEntry};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

/// Arguments of `audit`.
#[derive(Debug, Args)]
pub struct AuditArguments {
    #[command(subcommand)]
    command: AuditCommand,
}

#[derive(Debug, Subcommand)]
enum AuditCommand {
    /// List the entries, the newest first
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only what this person did
        #[arg(long, value_name = "NAME")]
        who: Option<String>,
        /// Only what was done to this: a node, a group, a stage, a release, a person
        #[arg(long, value_name = "NAME")]
        subject: Option<String>,
        /// Only entries before this number
        #[arg(long, value_name = "NUMBER")]
        before: Option<u32>,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Verify that no entry was altered or removed
    Verify {
        #[command(flatten)]
        server: ServerArguments,
    },
}

/// Lists or verifies.
pub async fn run(arguments: &AuditArguments) -> Result<(), ClientError> {
    match &arguments.command {
        AuditCommand::List { server, who, subject, before, which } => {
            let server = Server::open(server)?;
            let word = |text: &String| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
            let mut query = vec!["size=100".to_owned()];
            query.extend(who.iter().map(|who| format!("who={}", word(who))));
            query.extend(subject.iter().map(|subject| format!("subject={}", word(subject))));
            query.extend(before.map(|before| format!("before={before}")));
            let entries: Vec<ShownEntry> =
                server.get(&which.address(&format!("/api/audit?{}", query.join("&")))).await?;
            if server.says_json(&entries) {
                return Ok(());
            }
            if entries.is_empty() {
                println!("{}", which.none("no entries"));
            }
            for ShownEntry { entry, at, .. } in &entries {
                println!(
                    "{:>6}  {}  {}  {}: {}",
                    entry.id,
                    time(*at),
                    harmless(&entry.who),
                    harmless(&entry.did),
                    harmless(&entry.subject)
                );
            }
            Ok(())
        }
        AuditCommand::Verify { server } => verify(&Server::open(server)?).await,
    }
}

async fn verify(server: &Server) -> Result<(), ClientError> {
    let verified: AuditVerification = server.get("/api/audit/verify").await?;
    let entries = count(usize::try_from(verified.entries).unwrap_or(usize::MAX), "entry", "entries");
    if let Some(broken) = verified.broken_at {
        return Err(ClientError::new(
            format!("the audit trail was altered: the chain of {entries} is broken at entry {broken}"),
            "compare with a backup of the database; the entries before it are as they were written",
        ));
    }
    if server.says_json(&verified) {
        return Ok(());
    }
    println!("verified: {entries}, none altered or removed");
    if let Some(last) = &verified.last {
        println!("last digest {last}; keep it elsewhere to prove later that nothing before it was altered");
    }
    if verified.unchained > 0 {
        println!(
            "{} not chained yet; this takes a second",
            count(usize::try_from(verified.unchained).unwrap_or(usize::MAX), "entry is", "entries are")
        );
    }
    Ok(())
}
