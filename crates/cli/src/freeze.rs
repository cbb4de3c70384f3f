//! `constans freeze`.

use crate::error::ClientError;
use crate::invitation::duration;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{ArgGroup, Args, Subcommand};
use constans_terminal::{count, harmless, time};
use constans_wire::freeze::{EndFreeze, FreezeShown, NewFreeze};
use jiff::Timestamp;

/// Arguments of `freeze`.
#[derive(Debug, Args)]
pub struct FreezeArguments {
    #[command(subcommand)]
    command: FreezeCommand,
}

#[derive(Debug, Subcommand)]
enum FreezeCommand {
    /// Set a freeze: from their next check-in on, nodes correct nothing until its hour
    #[command(group = ArgGroup::new("lasts").required(true), group = ArgGroup::new("where").required(true).multiple(true))]
    Set {
        #[command(flatten)]
        server: ServerArguments,
        /// Freeze all nodes, also those that join later
        #[arg(long, group = "where", conflicts_with = "node")]
        all: bool,
        /// Freeze this node; can be given more than once
        #[arg(long, group = "where", value_name = "NODE")]
        node: Vec<String>,
        /// Freeze this clause, or the clauses that fit a pattern, for example file:/etc/ssh/*; can be given more than once [default: all clauses]
        #[arg(long, value_name = "ADDRESS")]
        clause: Vec<String>,
        /// How long it lasts, for example 2h or 7d, at most 90d
        #[arg(long = "for", group = "lasts", value_name = "TIME", value_parser = duration)]
        for_secs: Option<u64>,
        /// Until when it lasts, for example 2026-12-24T06:00:00Z
        #[arg(long, group = "lasts", value_name = "INSTANT")]
        until: Option<Timestamp>,
        /// The reason, shown wherever something is left because of it
        #[arg(long, value_name = "REASON")]
        because: String,
    },
    /// List the freezes that are in force: who, why, until when, and which nodes hold them
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Also those that are over
        #[arg(long)]
        also_over: bool,
        #[command(flatten)]
        which: ListArguments,
    },
    /// End a freeze before its hour
    End {
        #[command(flatten)]
        server: ServerArguments,
        /// The freeze, for example F7
        #[arg(value_name = "FREEZE", value_parser = number)]
        no: u32,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: Option<String>,
    },
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['F', 'f'])
        .parse()
        .map_err(|_| "a freeze is called F and its number, for example F7".to_owned())
}

/// Sets, lists or ends.
pub async fn run(arguments: &FreezeArguments) -> Result<(), ClientError> {
    match &arguments.command {
        FreezeCommand::Set { server, all: _, node, clause, for_secs, until, because } => {
            let server = Server::open(server)?;
            let left = until
                .map(|until| u64::try_from(until.duration_since(Timestamp::now()).as_secs()).unwrap_or(0));
            let new = NewFreeze {
                nodes: node.iter().cloned().collect(),
                clauses: clause.iter().cloned().collect(),
                for_secs: for_secs.or(left).unwrap_or(0),
                because: because.clone(),
            };
            let freeze: FreezeShown = server.post("/api/freezes", &new).await?;
            if server.says_json(&freeze) {
                return Ok(());
            }
            println!("{}", line(&freeze));
            for clause in &freeze.unknown_clauses {
                println!("note: no node has a clause {}", harmless(clause));
            }
            println!(
                "Next: constans freeze list shows which nodes hold it; constans freeze end F{} ends it",
                freeze.no
            );
        }
        FreezeCommand::List { server, also_over, which } => {
            let server = Server::open(server)?;
            let freezes: Vec<FreezeShown> =
                server.get_all(&which.address(&format!("/api/freezes?also_over={also_over}"))).await?;
            if server.says_json(&freezes) {
                return Ok(());
            }
            if freezes.is_empty() {
                println!("{}", which.none("nothing is frozen"));
            }
            freezes.iter().for_each(|freeze| println!("{}", line(freeze)));
        }
        FreezeCommand::End { server, no, because } => {
            let server = Server::open(server)?;
            let freeze: FreezeShown = server
                .post(&format!("/api/freezes/{no}/end"), &EndFreeze { because: because.clone() })
                .await?;
            if !server.says_json(&freeze) {
                println!("F{no} is ended; each node learns it at its next check-in");
            }
        }
    }
    Ok(())
}

/// This many nodes of a freeze are named.
const NAMED: usize = 5;

/// Returns a freeze with who holds it.
fn line(freeze: &FreezeShown) -> String {
    let clauses =
        if freeze.clauses.is_empty() { "all clauses".to_owned() } else { freeze.clauses.join(", ") };
    let nodes = match freeze.nodes.as_slice() {
        _ if freeze.is_for_all => "all nodes".to_owned(),
        few if few.len() <= NAMED => few.join(", "),
        many => format!("{} and {} more", many[..NAMED].join(", "), many.len() - NAMED),
    };
    let is_over = freeze.until <= Timestamp::now();
    let lasts = match (&freeze.ended, &freeze.ended_by) {
        (Some(at), Some(by)) => format!("ended {} by {by}", time(*at)),
        _ if is_over => format!("over since {}", time(freeze.until)),
        _ => format!("until {}", time(freeze.until)),
    };
    let of = usize::try_from(freeze.of).unwrap_or(usize::MAX);
    let held = match freeze.last_by {
        _ if freeze.ended.is_some() || is_over => String::new(),
        _ if freeze.held_by == freeze.of => format!(
            "\n      held by {}",
            if of == 1 { "the node".to_owned() } else { format!("all {of} nodes") }
        ),
        Some(at) => format!(
            "\n      held by {} of {}; the last one by {}",
            freeze.held_by,
            count(of, "node", "nodes"),
            time(at)
        ),
        None => format!("\n      held by {} of {}", freeze.held_by, count(of, "node", "nodes")),
    };
    harmless(&format!(
        "F{:<4} {lasts}  {nodes}: {clauses}  ({}: \"{}\")",
        freeze.no, freeze.who, freeze.because
    )) + &held
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn freeze(over: &Value) -> FreezeShown {
        let whole = json!({
            "no": 3, "is_for_all": false, "nodes": ["gate-auken-1", "gate-tern-1"], "clauses": [], "until": "2999-11-24T06:00:00Z",
            "because": "the festival", "who": "pia.lund", "set": "2026-11-23T06:40:00Z", "unknown_clauses": [], "ended": null, "ended_by": null,
            "held_by": 1, "of": 2, "last_by": "2999-11-23T07:01:00Z",
        });
        answered(whole, over)
    }

    #[test]
    fn a_freeze_says_until_when_for_whom_and_who_holds_it() {
        let all = [
            freeze(&json!({})),
            freeze(&json!({ "is_for_all": true, "held_by": 2, "clauses": ["service:gate-reader"] })),
            freeze(
                &json!({ "nodes": ["gate-1", "gate-2", "gate-3", "gate-4", "gate-5", "gate-6", "gate-7"], "of": 7, "last_by": null }),
            ),
            freeze(&json!({ "ended": "2026-11-23T08:00:00Z", "ended_by": "tor.havik" })),
            freeze(&json!({ "until": "2026-11-23T08:00:00Z", "nodes": ["gate-1"], "of": 1 })),
        ];
        insta::assert_snapshot!(all.iter().map(line).collect::<Vec<_>>().join("\n"), @r#"
        F3    until 2999-11-24 06:00:00 UTC  gate-auken-1, gate-tern-1: all clauses  (pia.lund: "the festival")
              held by 1 of 2 nodes; the last one by 2999-11-23 07:01:00 UTC
        F3    until 2999-11-24 06:00:00 UTC  all nodes: service:gate-reader  (pia.lund: "the festival")
              held by all 2 nodes
        F3    until 2999-11-24 06:00:00 UTC  gate-1, gate-2, gate-3, gate-4, gate-5 and 2 more: all clauses  (pia.lund: "the festival")
              held by 1 of 7 nodes
        F3    ended 2026-11-23 08:00:00 UTC by tor.havik  gate-auken-1, gate-tern-1: all clauses  (pia.lund: "the festival")
        F3    over since 2026-11-23 08:00:00 UTC  gate-1: all clauses  (pia.lund: "the festival")
        "#);
    }
}
