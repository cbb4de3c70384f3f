//! `constans drift accept`.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::compliance::address;
use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_terminal::{count, differences, harmless, text_diff, time};
use constans_wire::drift::{Accept, Acceptable, AcceptingGroup};
use constans_wire::kit::Changed;
use jiff::Timestamp;
use std::fmt::Write as _;

/// Arguments of `drift accept`.
#[derive(Debug, Args)]
pub struct AcceptArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The node
    node: String,
    /// The clause, as file:/etc/issue
    clause: String,
    /// The group that gives the values; without it, what can be accepted is shown
    #[arg(long, value_name = "GROUP", conflicts_with = "alone")]
    group: Option<String>,
    /// Only this node has the values; they are its own, over those of its groups
    #[arg(long)]
    alone: bool,
    /// For this node alone: until when, for example 2026-12-24T06:00:00Z; without it until it is unset
    #[arg(long, value_name = "INSTANT", requires = "alone")]
    until: Option<Timestamp>,
    #[command(flatten)]
    options: ChangeOptions,
}

/// Shows how what was found can be accepted, or accepts it.
pub async fn run(arguments: &AcceptArguments) -> Result<(), ClientError> {
    let AcceptArguments { server, node, clause, group, alone, until, options } = arguments;
    let server = Server::open(server)?;
    let given = [("node", Some(node.clone())), ("clause", Some(clause.clone()))];
    let found: Acceptable = server.get(&address("/api/drift/acceptable", given)).await?;
    if group.is_none() && !alone {
        if !server.says_json(&found) {
            anstream::print!("{}", shown(node, clause, &found));
        }
        return Ok(());
    }
    if !server.prints_json() {
        anstream::eprint!("{}", what_was_found(node, clause, &found));
    }
    let accept = Accept {
        node: node.clone(),
        clause: clause.clone(),
        run: found.run,
        group: group.clone(),
        until: *until,
    };
    let path = format!("/api/drift/accept?{}", options.query());
    let answered: Result<Changed, ClientError> = server.post(&path, &accept).await;
    let changed = confirmed(&server, answered).await?;
    let done = match group {
        Some(group) => format!("{clause} is desired by the group {group} as {node} has it"),
        None => format!("{clause} is desired on {node} alone as it has it"),
    };
    print_changed(&server, &done, &changed);
    Ok(())
}

fn what_was_found(node: &str, clause: &str, found: &Acceptable) -> String {
    let mut text =
        format!("{} on {}, not in line since {}\n", harmless(clause), harmless(node), time(found.since));
    differences(&mut text, "", &found.differences);
    if let Some(diff) = &found.text_diff {
        text_diff(&mut text, diff);
    }
    for one in &found.values {
        let _ = writeln!(
            text,
            "  {} = {} would make it desired; now {}, from {}",
            harmless(&one.parameter),
            harmless(&one.value.to_string()),
            harmless(&one.now.value.to_string()),
            harmless(&one.now.from.words()),
        );
    }
    text
}

fn shown(node: &str, clause: &str, found: &Acceptable) -> String {
    let mut text = what_was_found(node, clause, found);
    if let Some(why_not) = &found.why_not {
        let _ = writeln!(text, "  no parameter makes it desired: {}", harmless(why_not));
    }
    match &found.alone_why_not {
        Some(why_not) => {
            let _ = writeln!(text, "  no value of this node alone makes it desired: {}", harmless(why_not));
        }
        None => {
            for one in &found.alone {
                let (property, value) = (harmless(&one.property), harmless(&one.value.to_string()));
                let _ = writeln!(text, "  {property} = {value} for this node alone would make it desired");
            }
        }
    }
    if !found.groups.is_empty() {
        text.push_str("groups of the node that can give it:\n");
    }
    for group in &found.groups {
        let _ = writeln!(text, "  {}", of_group(group));
    }
    let able = found.groups.iter().find(|group| group.why_not.is_none());
    // Names of clauses may have blanks; a quote in one is written as a shell takes it.
    let quoted = format!("'{}'", harmless(clause).replace('\'', "'\\''"));
    if let Some(group) = able {
        let _ = writeln!(
            text,
            "Next: constans drift accept {node} {quoted} --group {} --because REASON --preview",
            group.name
        );
    }
    if found.alone_why_not.is_none() {
        let _ = writeln!(
            text,
            "{} constans drift accept {node} {quoted} --alone --because REASON --preview",
            if able.is_some() { "Or for this node alone:" } else { "Next:" }
        );
    }
    let can = able.is_some() || found.alone_why_not.is_none();
    let _ = writeln!(
        text,
        "{} constans concession ask --node {node} --clause {quoted} --for 30d --because REASON",
        if can { "Or for a time:" } else { "Next:" }
    );
    text
}

fn of_group(group: &AcceptingGroup) -> String {
    let name = harmless(&group.name);
    match &group.why_not {
        Some(why_not) => format!("{name}  cannot: {}", harmless(why_not)),
        None => {
            let nodes = count(usize::try_from(group.nodes).unwrap_or(usize::MAX), "node", "nodes");
            let also = match group.also.len() {
                0 => String::new(),
                1..=5 => format!("; alters also {}", harmless(&group.also.join(", "))),
                more => format!("; alters also {more} other clauses of this node"),
            };
            format!("{name}  {nodes}{also}")
        }
    }
}
