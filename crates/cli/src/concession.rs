//! `constans concession`.

use crate::error::ClientError;
use crate::invitation::duration;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{ArgGroup, Args, Subcommand};
use constans_terminal::{count, harmless, time};
use constans_wire::concession::{
    ApproveConcession, CloseConcession, Concession, ConcessionAct, ConcessionStatus, NewConcession,
};
use jiff::{SignedDuration, Timestamp};
use std::fmt::Write as _;

/// Arguments of `concession`.
#[derive(Debug, Args)]
pub struct ConcessionArguments {
    #[command(subcommand)]
    command: ConcessionCommand,
}

#[derive(Debug, Subcommand)]
enum ConcessionCommand {
    /// Ask for a concession: another person approves it
    #[command(group = ArgGroup::new("lasts").required(true), group = ArgGroup::new("where").required(true))]
    Ask {
        #[command(flatten)]
        server: ServerArguments,
        /// The clause that may deviate, or a pattern of clauses, for example file:/etc/kiosk/*; can be given more than once
        #[arg(long, value_name = "ADDRESS", required = true)]
        clause: Vec<String>,
        /// For this node; can be given more than once
        #[arg(long, value_name = "NODE", group = "where")]
        node: Vec<String>,
        /// For nodes that match this filter over labels, about and node.name, also those that join later
        #[arg(long, value_name = "CEL", group = "where")]
        filter: Option<String>,
        /// Only for the nodes that match the filter now
        #[arg(long, requires = "filter")]
        only_present_nodes: bool,
        /// How long it lasts, for example 30d, at most 366d
        #[arg(long = "for", group = "lasts", value_name = "TIME", value_parser = duration)]
        for_secs: Option<u64>,
        /// Until when it lasts, for example 2026-12-24T06:00:00Z
        #[arg(long, group = "lasts", value_name = "INSTANT")]
        until: Option<Timestamp>,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: String,
        /// Also for clauses of which nothing is known: unexamined ones, and those of silent nodes
        #[arg(long)]
        covers_unknown: bool,
        /// Only show what it would cover
        #[arg(long)]
        preview: bool,
    },
    /// Approve a concession that another person asked for
    Approve {
        #[command(flatten)]
        server: ServerArguments,
        /// The concession, for example D3
        #[arg(value_name = "CONCESSION", value_parser = number)]
        no: u32,
        /// Set no freeze: runs of nodes that enforce correct what is conceded
        #[arg(long)]
        without_freeze: bool,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: Option<String>,
    },
    /// Refuse a concession that another person asked for
    Refuse {
        #[command(flatten)]
        server: ServerArguments,
        /// The concession, for example D3
        #[arg(value_name = "CONCESSION", value_parser = number)]
        no: u32,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: String,
    },
    /// List the concessions that wait for approval or are in force: for what, where, why, by whom, until when
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Also those that are over, were refused, withdrawn or ended
        #[arg(long)]
        also_over: bool,
        #[command(flatten)]
        which: ListArguments,
    },
    /// End a concession before its time, or withdraw one that waits
    End {
        #[command(flatten)]
        server: ServerArguments,
        /// The concession, for example D3
        #[arg(value_name = "CONCESSION", value_parser = number)]
        no: u32,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: String,
    },
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['D', 'd'])
        .parse()
        .map_err(|_| "a concession is called D and its number, for example D3".to_owned())
}

/// Asks, approves, refuses, lists or ends.
pub async fn run(arguments: &ConcessionArguments) -> Result<(), ClientError> {
    match &arguments.command {
        ConcessionCommand::Ask {
            server,
            clause,
            node,
            filter,
            only_present_nodes,
            for_secs,
            until,
            because,
            covers_unknown,
            preview,
        } => {
            let server = Server::open(server)?;
            let secs = SignedDuration::from_secs(i64::try_from(for_secs.unwrap_or(0)).unwrap_or(i64::MAX));
            let lasts_until =
                until.unwrap_or_else(|| Timestamp::now().saturating_add(secs).unwrap_or(Timestamp::MAX));
            let new = NewConcession {
                clauses: clause.iter().cloned().collect(),
                nodes: node.iter().cloned().collect(),
                filter: filter.clone(),
                only_present_nodes: *only_present_nodes,
                until: lasts_until,
                because: because.clone(),
                covers_unknown: *covers_unknown,
                preview: *preview,
            };
            let concession: Concession = server.post("/api/concessions", &new).await?;
            if !server.says_json(&concession) {
                print!("{}", shown(&concession));
                println!("{}", next_of_asked(&concession, *preview));
            }
        }
        ConcessionCommand::Approve { server, no, without_freeze, because } => {
            let server = Server::open(server)?;
            let approval = ApproveConcession { without_freeze: *without_freeze, because: because.clone() };
            let concession: Concession =
                server.post(&format!("/api/concessions/{no}/approve"), &approval).await?;
            if !server.says_json(&concession) {
                print!("{}", shown(&concession));
            }
        }
        ConcessionCommand::Refuse { server, no, because } => close(server, *no, "refuse", because).await?,
        ConcessionCommand::End { server, no, because } => close(server, *no, "end", because).await?,
        ConcessionCommand::List { server, also_over, which } => {
            let server = Server::open(server)?;
            let concessions: Vec<Concession> =
                server.get_all(&which.address(&format!("/api/concessions?also_over={also_over}"))).await?;
            if server.says_json(&concessions) {
                return Ok(());
            }
            if concessions.is_empty() {
                println!("{}", which.none("no concession waits or is in force"));
            }
            concessions.iter().for_each(|concession| print!("{}", shown(concession)));
        }
    }
    Ok(())
}

async fn close(server: &ServerArguments, no: u32, how: &str, because: &str) -> Result<(), ClientError> {
    let server = Server::open(server)?;
    let body = CloseConcession { because: because.to_owned() };
    let concession: Concession = server.post(&format!("/api/concessions/{no}/{how}"), &body).await?;
    if !server.says_json(&concession) {
        print!("{}", shown(&concession));
    }
    Ok(())
}

fn next_of_asked(concession: &Concession, is_preview: bool) -> String {
    if is_preview {
        "Nothing is stored. Next: the same without --preview".to_owned()
    } else {
        format!("Next: another person approves it: constans concession approve D{}", concession.no)
    }
}

/// This many nodes of a concession are named.
const NAMED: usize = 5;

/// Returns a concession with what it covers.
fn shown(concession: &Concession) -> String {
    let name = if concession.no == 0 { "preview".to_owned() } else { format!("D{}", concession.no) };
    let status =
        if concession.no == 0 { format!("until {}", time(concession.until)) } else { status(concession) };
    let mut text = format!("{name:<5} {status}  {}", concession.clauses.join(", "));
    let _ = write!(text, " on {}", places(concession));
    let asked = &concession.asked;
    let _ = write!(text, "\n      asked for by {}", act(asked));
    if let Some(decided) = &concession.decided {
        let word = if concession.status == ConcessionStatus::Refused { "refused" } else { "approved" };
        let _ = write!(text, "\n      {word} by {}", act(decided));
    }
    if let Some(ended) = &concession.ended {
        let word = if concession.decided.is_some() { "ended" } else { "withdrawn" };
        let _ = write!(text, "\n      {word} by {}", act(ended));
    }
    let mut text = harmless_but_lines(&text);
    if matches!(concession.status, ConcessionStatus::Asked | ConcessionStatus::InForce) {
        let _ = writeln!(text, "      {}", covers(concession));
    }
    for clause in &concession.unknown_clauses {
        let _ = writeln!(text, "      note: no node has a clause {}", harmless(clause));
    }
    text
}

fn harmless_but_lines(text: &str) -> String {
    text.lines().fold(String::new(), |all, line| all + &harmless(line) + "\n")
}

fn status(concession: &Concession) -> String {
    match concession.status {
        ConcessionStatus::InForce => format!("in force until {}", time(concession.until)),
        ConcessionStatus::Asked => format!("waits for approval, until {}", time(concession.until)),
        ConcessionStatus::Over if concession.decided.is_none() => {
            format!("over since {}, never decided", time(concession.until))
        }
        ConcessionStatus::Over => format!("over since {}", time(concession.until)),
        other => other.words().to_owned(),
    }
}

fn places(concession: &Concession) -> String {
    if let Some(filter) = &concession.filter {
        return format!("nodes where {filter}");
    }
    match concession.nodes.as_slice() {
        few if few.len() <= NAMED => few.join(", "),
        many => format!("{} and {} more", many[..NAMED].join(", "), many.len() - NAMED),
    }
}

fn act(act: &ConcessionAct) -> String {
    let because = act.because.as_ref().map(|because| format!(": \"{because}\"")).unwrap_or_default();
    format!("{} {}{because}", act.who, time(act.at))
}

fn covers(concession: &Concession) -> String {
    let of =
        |number: u64, one: &str, more: &str| count(usize::try_from(number).unwrap_or(usize::MAX), one, more);
    let coverage = &concession.coverage;
    let mut text = format!(
        "covers {} on {}",
        of(coverage.clauses, "clause", "clauses"),
        of(coverage.nodes, "node", "nodes")
    );
    if coverage.clauses == 0 {
        text.push_str(" now");
    } else if coverage.noncompliant == 0 {
        text.push_str("; none of them deviates now");
    } else {
        let _ = write!(
            text,
            "; {} of them on {} deviate now",
            coverage.noncompliant,
            of(coverage.nodes_noncompliant, "node", "nodes")
        );
    }
    let at_the_end = coverage.to_correct;
    match concession.freeze {
        Some(no) if at_the_end > 0 => {
            let _ = write!(
                text,
                "\n      F{no} keeps them as they are; when it ends, the next runs correct {at_the_end} of them"
            );
        }
        Some(no) => {
            let _ = write!(text, "\n      F{no} keeps them as they are until it ends");
        }
        None if at_the_end > 0 && concession.status == ConcessionStatus::InForce => {
            let _ = write!(text, "\n      no freeze keeps them: the next runs correct {at_the_end} of them");
        }
        None => {}
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn concession(over: &Value) -> Concession {
        let whole = json!({
            "no": 3, "status": "in_force", "clauses": ["file:/etc/kiosk/shell.conf"], "unknown_clauses": [], "filter": null,
            "nodes": ["kiosk-auken-1", "kiosk-brisk-2"], "covers_unknown": false, "until": "2026-12-04T06:00:00Z",
            "asked": { "who": "ilse.maren", "at": "2026-11-23T06:40:00Z", "because": "the old screens stay until the pier is rebuilt" },
            "decided": { "who": "tor.havik", "at": "2026-11-23T07:10:00Z", "because": null }, "ended": null, "freeze": 5,
            "coverage": { "nodes": 2, "clauses": 2, "noncompliant": 2, "nodes_noncompliant": 2, "to_correct": 1 },
        });
        answered(whole, over)
    }

    #[test]
    fn a_concession_says_for_what_where_why_by_whom_and_until_when() {
        let all = [
            concession(&json!({})),
            concession(&json!({
                "no": 0, "status": "asked", "decided": null, "freeze": null, "filter": "labels.role == \"kiosk\"", "unknown_clauses": ["file:/etc/kiosk/shell.conf"],
                "coverage": { "nodes": 9, "clauses": 0, "noncompliant": 0, "nodes_noncompliant": 0, "to_correct": 0 },
            })),
            concession(&json!({ "freeze": null })),
            concession(
                &json!({ "status": "ended", "freeze": null, "ended": { "who": "tor.havik", "at": "2026-11-24T07:10:00Z", "because": "rebuilt" } }),
            ),
            concession(&json!({ "status": "over", "decided": null, "freeze": null })),
        ];
        insta::assert_snapshot!(all.iter().map(shown).collect::<String>(), @r#"
        D3    in force until 2026-12-04 06:00:00 UTC  file:/etc/kiosk/shell.conf on kiosk-auken-1, kiosk-brisk-2
              asked for by ilse.maren 2026-11-23 06:40:00 UTC: "the old screens stay until the pier is rebuilt"
              approved by tor.havik 2026-11-23 07:10:00 UTC
              covers 2 clauses on 2 nodes; 2 of them on 2 nodes deviate now
              F5 keeps them as they are; when it ends, the next runs correct 1 of them
        preview until 2026-12-04 06:00:00 UTC  file:/etc/kiosk/shell.conf on nodes where labels.role == "kiosk"
              asked for by ilse.maren 2026-11-23 06:40:00 UTC: "the old screens stay until the pier is rebuilt"
              covers 0 clauses on 9 nodes now
              note: no node has a clause file:/etc/kiosk/shell.conf
        D3    in force until 2026-12-04 06:00:00 UTC  file:/etc/kiosk/shell.conf on kiosk-auken-1, kiosk-brisk-2
              asked for by ilse.maren 2026-11-23 06:40:00 UTC: "the old screens stay until the pier is rebuilt"
              approved by tor.havik 2026-11-23 07:10:00 UTC
              covers 2 clauses on 2 nodes; 2 of them on 2 nodes deviate now
              no freeze keeps them: the next runs correct 1 of them
        D3    ended  file:/etc/kiosk/shell.conf on kiosk-auken-1, kiosk-brisk-2
              asked for by ilse.maren 2026-11-23 06:40:00 UTC: "the old screens stay until the pier is rebuilt"
              approved by tor.havik 2026-11-23 07:10:00 UTC
              ended by tor.havik 2026-11-24 07:10:00 UTC: "rebuilt"
        D3    over since 2026-12-04 06:00:00 UTC, never decided  file:/etc/kiosk/shell.conf on kiosk-auken-1, kiosk-brisk-2
              asked for by ilse.maren 2026-11-23 06:40:00 UTC: "the old screens stay until the pier is rebuilt"
        "#);
    }
}
