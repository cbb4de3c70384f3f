//! `constans recovery`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::harmless;
use constans_wire::recovery::{EndRecovery, ForgottenFreeze, Recovering, Recovery};

/// Arguments of `recovery`.
#[derive(Debug, Args)]
pub struct RecoveryArguments {
    #[command(subcommand)]
    command: RecoveryCommand,
}

#[derive(Debug, Subcommand)]
enum RecoveryCommand {
    /// Show whether the server is recovering, nodes without contact since, and what ending it would change
    Show {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// End the recovery: nodes receive the desired state of the restored database
    End {
        #[command(flatten)]
        server: ServerArguments,
        /// End it although some nodes have had no contact since the restore
        #[arg(long)]
        although_not_heard: bool,
    },
}

/// Shows or ends.
pub async fn run(arguments: &RecoveryArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RecoveryCommand::Show { server } => {
            let server = Server::open(server)?;
            let recovery: Recovery = server.get("/api/recovery").await?;
            if !server.says_json(&recovery) {
                println!("{}", shown(recovery.recovering.as_ref()));
            }
        }
        RecoveryCommand::End { server, although_not_heard } => {
            let body = EndRecovery { although_not_heard: *although_not_heard };
            let server = Server::open(server)?;
            let ended: Recovering = server.post("/api/recovery/end", &body).await?;
            if server.says_json(&ended) {
                return Ok(());
            }
            println!("the recovery ended; the desired state changed on {}", nodes(&ended.would_change));
            println!("Next: constans node list shows actual and desired releases");
        }
    }
    Ok(())
}

fn shown(recovering: Option<&Recovering>) -> String {
    let Some(recovering) = recovering else { return "the server is not recovering".to_owned() };
    let since = recovering.since.strftime("%Y-%m-%d %H:%M:%S UTC");
    format!(
        "the server is recovering since {since}: its database was put back to an earlier day\n\
         nodes are offered nothing new and go on with what they have; refused nodes stay refused\n\
         not heard since  {}\nwould change     {}\n{}\
         Next: publish and serve again what the database lost, then constans recovery end",
        nodes(&recovering.not_heard),
        nodes(&recovering.would_change),
        recovering.forgotten_freezes.iter().map(forgotten).collect::<String>()
    )
}

/// Returns a line about a freeze that would end with the recovery.
fn forgotten(forgotten: &ForgottenFreeze) -> String {
    let ForgottenFreeze { nodes, node, freeze } = forgotten;
    let by =
        if *nodes == 1 { harmless(node) } else { format!("{nodes} nodes, one of them {}", harmless(node)) };
    format!(
        "frozen           {}; held by {by}; this database does not know it: set it again, or it ends with the recovery\n",
        harmless(&freeze.words())
    )
}

fn nodes(names: &[String]) -> String {
    match names {
        [] => "no nodes".to_owned(),
        [one] => harmless(one),
        several => format!("{} nodes: {}", several.len(), harmless(&several.join(", "))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_recovery_says_what_ending_it_would_change() {
        assert_eq!(shown(None), "the server is not recovering");
        let recovering: Recovering = serde_json::from_value(json!({
            "since": "2026-11-23T05:00:00Z", "nodes": 4, "not_heard": [], "would_change": ["kiosk-auken-1", "kiosk-auken-2"],
            "forgotten_freezes": [{
                "nodes": 2, "node": "gate-auken-1",
                "freeze": { "no": 3, "until": "2026-11-24T06:00:00Z", "because": "the festival", "clauses": [] },
            }],
        }))
        .unwrap();
        insta::assert_snapshot!(shown(Some(&recovering)), @"
        the server is recovering since 2026-11-23 05:00:00 UTC: its database was put back to an earlier day
        nodes are offered nothing new and go on with what they have; refused nodes stay refused
        not heard since  no nodes
        would change     2 nodes: kiosk-auken-1, kiosk-auken-2
        frozen           F3 until 2026-11-24 06:00:00 UTC (the festival), all clauses; held by 2 nodes, one of them gate-auken-1; this database does not know it: set it again, or it ends with the recovery
        Next: publish and serve again what the database lost, then constans recovery end
        ");
    }
}
