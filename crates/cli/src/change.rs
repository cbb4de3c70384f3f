//! `constans change`, and how every command that changes desired state asks.

use crate::error::ClientError;
use crate::node_reach::{Patience, fetch_change};
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::change::Confirmed;
use constans_terminal::{count, harmless, show_impact, time};
use constans_wire::change::{ChangeShown, ChangeStatus, ChangeSummary, ChangedNode, DenyChange, HowToChange};
use constans_wire::kit::Changed;
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::io::{BufRead as _, IsTerminal as _, Write as _};

/// How a change is to be made.
#[derive(Debug, Clone, Args)]
pub struct ChangeOptions {
    /// The reason, kept with the change
    #[arg(long, value_name = "REASON")]
    because: Option<String>,
    /// Only show the impact: nothing is handed out
    #[arg(long)]
    preview: bool,
    /// Request the change: another person approves it and hands it out
    #[arg(long, conflicts_with = "preview")]
    request: bool,
    /// Confirm that the change takes clauses from at most this number of nodes
    #[arg(long, value_name = "NODES")]
    confirm: Option<u64>,
    /// Continue although the desired state of some nodes cannot be resolved
    #[arg(long)]
    although_unusable: bool,
    /// Refuse it if what it edits was edited after this change, for example C118
    #[arg(long, value_name = "CHANGE", value_parser = number)]
    unless_changed_after: Option<u32>,
}

impl ChangeOptions {
    /// Has it refused if what it edits was edited after this change, unless the person named one.
    pub fn refuse_if_edited_after(&mut self, change: Option<i64>) {
        let change = change.and_then(|no| u32::try_from(no).ok());
        self.unless_changed_after = self.unless_changed_after.or(change);
    }

    /// Returns it as it is sent.
    pub fn how(&self) -> HowToChange {
        let Self { because, preview, request, confirm, although_unusable, unless_changed_after } = self;
        HowToChange {
            because: because.clone(),
            preview: *preview,
            request: *request,
            confirm: *confirm,
            although_unusable: *although_unusable,
            unless_changed_after: *unless_changed_after,
        }
    }

    /// Returns it as a query of an address.
    pub fn query(&self) -> String {
        let mut query = format!(
            "preview={}&request={}&although_unusable={}",
            self.preview, self.request, self.although_unusable
        );
        if let Some(because) = &self.because {
            query += &format!("&because={}", utf8_percent_encode(because, NON_ALPHANUMERIC));
        }
        if let Some(newest) = self.unless_changed_after {
            query += &format!("&unless_changed_after={newest}");
        }
        if let Some(confirm) = self.confirm {
            query += &format!("&confirm={confirm}");
        }
        query
    }
}

/// Arguments of `change`.
#[derive(Debug, Args)]
pub struct ChangeArguments {
    #[command(subcommand)]
    command: ChangeCommand,
}

#[derive(Debug, Subcommand)]
enum ChangeCommand {
    /// List changes: who, when, why, and how many nodes have them
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only changes that altered this node
        #[arg(long, value_name = "NAME")]
        node: Option<String>,
        /// Only changes before this one
        #[arg(long, value_name = "CHANGE", value_parser = number)]
        before: Option<u32>,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Show a change: its impact, its documents before and after, and the nodes that do not have it yet
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
    },
    /// List all nodes that a change gives something else, those that do not have it first
    Nodes {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Hand out a change that was previewed or that waits for confirmation
    Confirm {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        /// From how many nodes it takes clauses, to confirm it without being asked
        #[arg(long, value_name = "NODES")]
        confirm: Option<u64>,
    },
    /// Have the nodes that did not fetch a change yet check in and fetch it now
    FetchNow {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        /// The reason, kept in the audit trail
        #[arg(long, value_name = "REASON")]
        because: Option<String>,
        #[command(flatten)]
        patience: Patience,
    },
    /// Approve a change that another person requested, and hand it out
    Approve {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        /// From how many nodes it takes clauses, to approve it without being asked
        #[arg(long, value_name = "NODES")]
        confirm: Option<u64>,
    },
    /// Deny a change that another person requested
    Deny {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: String,
    },
    /// Stop a change that is not handed out yet
    Stop {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
    },
    /// Take back a change: its documents are as they were before it
    GoBack {
        #[command(flatten)]
        server: ServerArguments,
        /// The change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        #[command(flatten)]
        options: ChangeOptions,
    },
}

/// Reads the number of a change as people write it.
///
/// # Errors
///
/// Returns how it is written.
pub fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['C', 'c'])
        .parse()
        .map_err(|_| "a change is called C and its number, for example C118".to_owned())
}

/// Lists, shows, confirms, stops or reverts.
pub async fn run(arguments: &ChangeArguments) -> Result<(), ClientError> {
    match &arguments.command {
        ChangeCommand::List { server, node, before, which } => {
            list(&Server::open(server)?, node.as_deref(), *before, which).await
        }
        ChangeCommand::Show { server, no } => {
            let server = Server::open(server)?;
            let shown: ChangeShown = server.get(&format!("/api/changes/{no}")).await?;
            if !server.says_json(&shown) {
                println!("{}", show(&shown));
            }
            Ok(())
        }
        ChangeCommand::Nodes { server, no, which } => print_nodes(&Server::open(server)?, *no, which).await,
        ChangeCommand::Confirm { server, no, confirm } => {
            let server = Server::open(server)?;
            let changed = match confirm {
                Some(takes_from) => {
                    send_confirmed(&server, "confirm", i64::from(*no), &agreed(*takes_from)).await?
                }
                None => ask_and_confirm(&server, "confirm", i64::from(*no)).await?,
            };
            print_changed(&server, &format!("C{no} is handed out"), &changed);
            Ok(())
        }
        ChangeCommand::FetchNow { server, no, because, patience } => {
            fetch_change(server, *no, because.clone(), patience).await
        }
        ChangeCommand::Approve { server, no, confirm } => {
            let server = Server::open(server)?;
            let changed = match confirm {
                Some(takes_from) => {
                    send_confirmed(&server, "approve", i64::from(*no), &agreed(*takes_from)).await?
                }
                None => ask_and_confirm(&server, "approve", i64::from(*no)).await?,
            };
            if changed.requested {
                let message = format!(
                    "C{no} alters more by now than it did when it was requested; nothing is handed out"
                );
                return Err(ClientError::new(
                    message,
                    format!("look at it again: constans change show C{no}; then approve it"),
                )
                .declined());
            }
            print_changed(&server, &format!("C{no} is approved and handed out"), &changed);
            Ok(())
        }
        ChangeCommand::Deny { server, no, because } => {
            let server = Server::open(server)?;
            let denied: ChangeSummary = server
                .post(&format!("/api/changes/{no}/deny"), &DenyChange { because: because.clone() })
                .await?;
            if !server.says_json(&denied) {
                println!(
                    "C{no} is denied; {} sees the reason in constans change show C{no}",
                    harmless(&denied.who)
                );
            }
            Ok(())
        }
        ChangeCommand::Stop { server, no } => {
            let server = Server::open(server)?;
            let stopped: ChangeSummary = server.post(&format!("/api/changes/{no}/stop"), &()).await?;
            if !server.says_json(&stopped) {
                println!("C{no} is being stopped; nothing of it is handed out");
            }
            Ok(())
        }
        ChangeCommand::GoBack { server, no, options } => {
            let server = Server::open(server)?;
            let changed =
                confirmed(&server, server.post(&format!("/api/changes/{no}/go-back"), &options.how()).await)
                    .await?;
            print_changed(&server, &format!("C{no} is taken back"), &changed);
            Ok(())
        }
    }
}

/// Returns the result of a change; if it waits for confirmation, the person is asked.
pub async fn confirmed(
    server: &Server,
    answered: Result<Changed, ClientError>,
) -> Result<Changed, ClientError> {
    match answered {
        Err(error) => match error.unconfirmed_change() {
            Some(no) => ask_and_confirm(server, "confirm", no).await,
            None => Err(error),
        },
        changed => changed,
    }
}

fn agreed(takes_from: u64) -> Confirmed {
    Confirmed { takes_from, ..Confirmed::default() }
}

/// Shows what a change takes from nodes and asks whether to hand it out; then does it. `verb` is `confirm` or `approve`.
async fn ask_and_confirm(server: &Server, verb: &str, no: i64) -> Result<Changed, ClientError> {
    let confirmed = agree_to(server, verb, no, "hand it out").await?;
    send_confirmed(server, verb, no, &confirmed).await
}

/// Shows what a change takes from nodes and asks whether to do this with it; from a number of nodes on, that number is typed. Returns what
/// the person agreed to. `verb` is that of `constans change` by which it is done later.
///
/// # Errors
///
/// Returns that the person did not agree, or that nobody can be asked here.
pub async fn agree_to(server: &Server, verb: &str, no: i64, what: &str) -> Result<Confirmed, ClientError> {
    let shown: ChangeShown = server.get(&format!("/api/changes/{no}")).await?;
    let impact = shown.impact.clone().unwrap_or_default();
    let confirmed =
        Confirmed { takes_from: impact.takes_from, takes: Some(impact.takes), nodes: Some(impact.nodes) };
    if impact.takes > 0 {
        anstream::eprintln!("C{no}: {}", harmless(&shown.change.what));
        show_impact(&impact).iter().for_each(|line| anstream::eprintln!("{line}"));
        let from = count(usize::try_from(impact.takes_from).unwrap_or(usize::MAX), "node", "nodes");
        if server.prints_json() || !std::io::stdin().is_terminal() {
            return Err(ClientError::new(
                format!("C{no} takes clauses from {from}, which must be confirmed; nothing is handed out"),
                if verb == "approve" {
                    format!("constans change approve C{no} --confirm {}", impact.takes_from)
                } else {
                    format!("confirm it with --confirm {0}, or within an hour: constans change confirm C{no} --confirm {0}", impact.takes_from)
                },
            )
            .declined());
        }
        let must_type = impact.takes_from >= shown.typed_from;
        let question = if must_type {
            format!("C{no} takes clauses from {from}. To {what}, type the number of these nodes: ")
        } else {
            format!("C{no} takes clauses from {from}. {}? [y/N] ", capitalised(what))
        };
        let expected = if must_type { impact.takes_from.to_string() } else { "y".to_owned() };
        if ask(&question)?.to_lowercase() != expected {
            return Err(ClientError::new(
                format!("C{no} is not handed out"),
                format!("to hand it out: constans change {verb} C{no}"),
            )
            .declined());
        }
    }
    Ok(confirmed)
}

fn capitalised(text: &str) -> String {
    let mut rest = text.chars();
    rest.next().map_or_else(String::new, |first| first.to_uppercase().chain(rest).collect())
}

async fn send_confirmed(
    server: &Server,
    verb: &str,
    no: i64,
    confirmed: &Confirmed,
) -> Result<Changed, ClientError> {
    server.post(&format!("/api/changes/{no}/{verb}"), confirmed).await
}

/// Asks the person at the terminal.
///
/// # Errors
///
/// Returns that nothing can be asked here.
pub fn ask(question: &str) -> Result<String, ClientError> {
    let mut answer = String::new();
    let answered = std::io::stderr()
        .write_all(question.as_bytes())
        .and_then(|()| std::io::stdin().lock().read_line(&mut answer));
    answered.map_err(|error| {
        ClientError::new(format!("nothing can be asked here: {error}"), "confirm it with --confirm NODES")
    })?;
    Ok(answer.trim().to_owned())
}

/// Prints the effect of a change of desired state.
pub fn print_changed(server: &Server, what: &str, changed: &Changed) {
    if server.says_json(changed) {
        return;
    }
    let name = changed.change.map_or_else(String::new, |no| format!("C{no}"));
    if changed.previewed {
        println!("preview: {what}; nothing is handed out yet");
        show_impact(&changed.impact).iter().for_each(|line| println!("{line}"));
        print_unusable(changed, "would keep");
        println!("Next: constans change confirm {name} hands it out, within an hour");
        println!("      constans rollout begin {name} hands it out in waves");
        return;
    }
    if changed.requested {
        println!("requested: {what}; nothing is handed out until another person approves it");
        show_impact(&changed.impact).iter().for_each(|line| println!("{line}"));
        print_unusable(changed, "would keep");
        println!(
            "Next: whoever may decide about changes: constans change approve {name}, or constans change deny {name}"
        );
        return;
    }
    println!("{what}");
    println!(
        "{name}: desired state changed on {}",
        count(usize::try_from(changed.nodes).unwrap_or(usize::MAX), "node", "nodes")
    );
    print_unusable(changed, "keep");
    println!("Next: constans change show {name} shows which nodes have it");
}

fn print_unusable(changed: &Changed, keep: &str) {
    if !changed.unusable.is_empty() {
        let nodes = count(changed.unusable.len(), "node", "nodes");
        let keep = if changed.unusable.len() == 1 && keep == "keep" { "keeps" } else { keep };
        println!("{nodes} {keep} the last usable state, because the new one cannot be resolved:");
        changed.reasons().iter().for_each(|reason| println!("  {}", harmless(reason)));
    }
}

async fn list(
    server: &Server,
    node: Option<&str>,
    before: Option<u32>,
    which: &ListArguments,
) -> Result<(), ClientError> {
    let mut query = vec!["size=100".to_owned()];
    query.extend(node.map(|node| format!("of_node={}", utf8_percent_encode(node, NON_ALPHANUMERIC))));
    query.extend(before.map(|before| format!("before={before}")));
    let changes: Vec<ChangeSummary> =
        server.get(&which.address(&format!("/api/changes?{}", query.join("&")))).await?;
    if server.says_json(&changes) {
        return Ok(());
    }
    if changes.is_empty() {
        println!("{}", which.none("no changes"));
    }
    changes.iter().for_each(|change| println!("{}", line(change)));
    Ok(())
}

fn line(change: &ChangeSummary) -> String {
    let reason =
        change.because.as_ref().map(|because| format!(": \"{}\"", harmless(because))).unwrap_or_default();
    format!(
        "C{:<5} {}  {:<22} {}  ({}{reason})",
        change.no,
        time(change.drafted),
        progress(change),
        harmless(&change.what),
        harmless(&change.who)
    )
}

/// Returns how far a change is, in words.
fn progress(change: &ChangeSummary) -> String {
    match change.status {
        ChangeStatus::Waiting => "waiting".to_owned(),
        ChangeStatus::Preparing => "preparing".to_owned(),
        ChangeStatus::Previewed => "previewed".to_owned(),
        ChangeStatus::Unconfirmed => "not confirmed".to_owned(),
        ChangeStatus::Requested => "waits for approval".to_owned(),
        ChangeStatus::HandedOut if change.nodes == 0 => "affects no node".to_owned(),
        ChangeStatus::HandedOut if change.nodes == 1 => {
            (if change.outstanding == 0 { "the node has it" } else { "the node lacks it" }).to_owned()
        }
        ChangeStatus::HandedOut if change.outstanding == 0 => format!("all {} have it", change.nodes),
        ChangeStatus::HandedOut => {
            format!("{} of {} have it", change.nodes.saturating_sub(change.outstanding), change.nodes)
        }
        ChangeStatus::InWaves => "in waves".to_owned(),
        ChangeStatus::TurnedBack => "turned back".to_owned(),
        ChangeStatus::Refused => "refused".to_owned(),
        ChangeStatus::Stopped => "stopped".to_owned(),
        ChangeStatus::Dropped => "dropped".to_owned(),
    }
}

fn show(shown: &ChangeShown) -> String {
    let change = &shown.change;
    let mut lines = vec![format!("C{}  {}", change.no, harmless(&change.what))];
    lines.push(format!("  {}, {}", harmless(&change.who), time(change.drafted)));
    lines.extend(change.because.as_ref().map(|because| format!("  because: {}", harmless(because))));
    lines.extend(change.confirmed_by.as_ref().map(|by| format!("  confirmed by {}", harmless(by))));
    lines.extend(change.approved_by.as_ref().map(|by| format!("  approved by {}", harmless(by))));
    if change.status == ChangeStatus::Requested {
        let by = shown.asks_for_second_person.join(", ");
        let why = if by.is_empty() {
            "its author may not hand it out".to_owned()
        } else {
            format!("{by} needs a second person")
        };
        lines.push(format!("  waits for approval by another person: {}", harmless(&why)));
    }
    lines.extend(change.goes_back.map(|no| format!("  takes back C{no}")));
    lines.extend(
        change.of_rollout.map(|no| format!("  part of the rollout C{no}: constans rollout show C{no}")),
    );
    lines.extend(shown.in_waves.as_ref().map(|plan| format!("  in {}", harmless(&plan.words()))));
    if change.has_rollout {
        lines.push(format!("  its waves: constans rollout show C{}", change.no));
    }
    lines.extend(match change.ended {
        _ if change.status == ChangeStatus::Requested => None,
        Some(ended) if change.status == ChangeStatus::HandedOut => {
            Some(format!("  handed out {}: {}", time(ended), progress(change)))
        }
        _ => Some(format!("  {}", progress(change))),
    });
    lines.extend(shown.behind.as_ref().map(|behind| format!("  waits for {}", harmless(behind))));
    lines.extend(change.refused.as_ref().map(|refused| format!("  {}", harmless(refused))));
    lines.extend(change.hint.as_ref().map(|hint| format!("  {}", harmless(hint))));
    lines.extend(shown.impact.iter().flat_map(show_impact));
    for shown in &shown.edits {
        lines.push(harmless(&shown.title));
        lines.extend(shown.difference.lines().map(|line| format!("  {}", harmless(line))));
    }
    if change.status == ChangeStatus::HandedOut && !change.has_rollout {
        lines.extend(outstanding(shown));
    }
    lines.join("\n")
}

/// Returns the first nodes that do not have the change, and when each can.
fn outstanding(shown: &ChangeShown) -> Vec<String> {
    const LISTED: usize = 20;
    let now = Timestamp::now();
    let without = shown.nodes.iter().filter(|node| node.has_since.is_none() && !node.is_later);
    let mut lines: Vec<String> = without.take(LISTED).map(|node| node_line(node, now)).collect();
    let more = shown.change.outstanding.saturating_sub(LISTED as u64);
    if more > 0 {
        lines.push(format!("  and {more} more: constans change nodes C{}", shown.change.no));
    }
    lines.extend(shown.last_by.map(|at| format!("  the last one by {}", time(at))));
    lines
}

/// Returns whether a node has a change, or when it can.
fn node_line(node: &ChangedNode, now: Timestamp) -> String {
    let has_it = match (node.has_since, node.next_check_in) {
        (Some(since), _) => format!("has it since {}", time(since)),
        _ if node.is_later => "was changed again since".to_owned(),
        (None, None) => "does not have it; never checked in".to_owned(),
        (None, Some(at)) if at < now => {
            format!("does not have it; did not check in {}, when it was due", time(at))
        }
        (None, Some(at)) => format!("does not have it; next check-in {}", time(at)),
    };
    format!("  {:<24} {has_it}", harmless(&node.name))
}

/// Prints the nodes of a change.
async fn print_nodes(server: &Server, no: u32, which: &ListArguments) -> Result<(), ClientError> {
    let all: Vec<ChangedNode> = server.get_all(&which.address(&format!("/api/changes/{no}/nodes"))).await?;
    if server.says_json(&all) {
        return Ok(());
    }
    if all.is_empty() {
        println!("{}", which.none(&format!("C{no} affects no node")));
    }
    let now = Timestamp::now();
    all.iter().for_each(|node| println!("{}", node_line(node, now)));
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn change(over: &Value) -> ChangeSummary {
        let whole = json!({
            "no": 118, "kind": "group", "what": "set the group kiosks", "who": "tor.havik",
            "because": "the festival begins", "confirmed_by": null, "approved_by": null, "status": "handed_out",
            "drafted": "2026-11-23T06:58:00Z", "ended": "2026-11-23T06:58:02Z", "nodes": 5, "outstanding": 0,
            "takes": 0, "refused": null, "hint": null, "goes_back": null,
        });
        answered(whole, over)
    }

    #[test]
    fn a_change_is_listed_with_how_far_it_is_and_why() {
        let all = [
            change(&json!({})),
            change(&json!({ "outstanding": 2 })),
            change(&json!({ "nodes": 1, "outstanding": 1 })),
            change(&json!({ "nodes": 1 })),
            change(&json!({ "nodes": 0 })),
            change(&json!({ "status": "unconfirmed", "because": null })),
            change(&json!({ "status": "requested", "who": "pia.lund" })),
            change(&json!({ "status": "refused", "what": "odd \u{1b}[31mred" })),
        ];
        insta::assert_snapshot!(all.iter().map(line).collect::<Vec<_>>().join("\n"), @r#"
        C118   2026-11-23 06:58:00 UTC  all 5 have it          set the group kiosks  (tor.havik: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  3 of 5 have it         set the group kiosks  (tor.havik: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  the node lacks it      set the group kiosks  (tor.havik: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  the node has it        set the group kiosks  (tor.havik: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  affects no node        set the group kiosks  (tor.havik: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  not confirmed          set the group kiosks  (tor.havik)
        C118   2026-11-23 06:58:00 UTC  waits for approval     set the group kiosks  (pia.lund: "the festival begins")
        C118   2026-11-23 06:58:00 UTC  refused                odd \u{1b}[31mred  (tor.havik: "the festival begins")
        "#);
    }

    fn shown(change: &ChangeSummary, over: &Value) -> ChangeShown {
        let whole = json!({
            "change": change, "behind": null, "impact": null, "edits": [], "nodes": [], "last_by": null,
            "asks_for_second_person": [], "typed_from": 3,
        });
        answered(whole, over)
    }

    #[test]
    fn a_change_names_who_lacks_it_and_when_the_last_one_will_have_it() {
        let node = |name: &str, has_since: Option<&str>, next: Option<&str>| json!({ "name": name, "has_since": has_since, "next_check_in": next, "is_later": false });
        let partly = shown(
            &change(&json!({ "nodes": 3, "outstanding": 2, "approved_by": "ilse.maren", "goes_back": 117 })),
            &json!({
                "nodes": [
                    node("kiosk-auken-1", None, Some("2999-11-23T07:01:00Z")),
                    node("kiosk-auken-2", None, None),
                    node("kiosk-auken-3", Some("2026-11-23T06:59:00Z"), Some("2999-11-23T07:00:00Z")),
                ],
                "last_by": "2999-11-23T07:01:00Z",
            }),
        );
        insta::assert_snapshot!(show(&partly), @"
        C118  set the group kiosks
          tor.havik, 2026-11-23 06:58:00 UTC
          because: the festival begins
          approved by ilse.maren
          takes back C117
          handed out 2026-11-23 06:58:02 UTC: 1 of 3 have it
          kiosk-auken-1            does not have it; next check-in 2999-11-23 07:01:00 UTC
          kiosk-auken-2            does not have it; never checked in
          the last one by 2999-11-23 07:01:00 UTC
        ");
    }

    #[test]
    fn a_request_names_what_it_waits_for() {
        let requested =
            change(&json!({ "status": "requested", "ended": "2026-11-23T06:58:02Z", "who": "pia.lund" }));
        insta::assert_snapshot!(show(&shown(&requested, &json!({ "asks_for_second_person": ["the group gates"] }))), @"
        C118  set the group kiosks
          pia.lund, 2026-11-23 06:58:00 UTC
          because: the festival begins
          waits for approval by another person: the group gates needs a second person
        ");
        insta::assert_snapshot!(show(&shown(&requested, &json!({}))), @"
        C118  set the group kiosks
          pia.lund, 2026-11-23 06:58:00 UTC
          because: the festival begins
          waits for approval by another person: its author may not hand it out
        ");
    }

    #[test]
    fn a_refused_change_says_why_and_what_to_do() {
        let refused = change(&json!({
            "status": "refused", "refused": "the group kiosks was edited by C119 meanwhile", "hint": "constans change show C119",
        }));
        insta::assert_snapshot!(show(&shown(&refused, &json!({ "behind": "C117, tor.havik: 500 of 100000 nodes" }))), @"
        C118  set the group kiosks
          tor.havik, 2026-11-23 06:58:00 UTC
          because: the festival begins
          refused
          waits for C117, tor.havik: 500 of 100000 nodes
          the group kiosks was edited by C119 meanwhile
          constans change show C119
        ");
    }
}
