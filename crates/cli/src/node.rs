//! `constans node`.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::given_edit::{
    AssignArguments, ParamArguments, SetArguments, SettingArguments, UnassignArguments, UnsetArguments,
};
use crate::node_explained::{compare_settings, would_get};
use crate::node_inspect::{self, InspectArguments};
use crate::node_reach::{ReachArguments, reach};
use crate::node_retired::{bring_back, retired};
use crate::node_why::why;
use crate::server::{ListArguments, Server, ServerArguments, labels};
use clap::{Args, Subcommand};
use constans_core::change::GroupEdit;
use constans_core::nearest::nearest_word;
use constans_core::run::{AgentUpgrade, Mode, UpgradeState};
use constans_core::sentence::Sentence;
use constans_core::state::LeftBehind;
use constans_terminal::{harmless, time};
use constans_wire::change::{EditNodeTable, LabelNodes, RenameNode, RetireNodes};
use constans_wire::check_in::LastContact;
use constans_wire::group::EditNode;
use constans_wire::node::NodeSummary;
use constans_wire::node::desired;
use constans_wire::overview::{NodeClause, NodeClauses, NodePage};
use constans_wire::run::Episode;
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::path::PathBuf;

/// Arguments of `node`.
#[derive(Debug, Args)]
pub struct NodeArguments {
    #[command(subcommand)]
    command: NodeCommand,
}

const ORDERS: [&str; 8] =
    ["name", "-name", "status", "-status", "last_contact", "-last_contact", "last_run", "-last_run"];

#[derive(Debug, Subcommand)]
enum NodeCommand {
    /// List nodes: last contact, status, releases, labels
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only matching nodes, in CEL, for example 'labels.site == "auken" && node.status == "failed"'
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
        /// The order: the most severe status, the oldest contact or the oldest full run first; with - before it the other way round
        #[arg(long, value_name = "ORDER", default_value = "name", allow_hyphen_values = true, value_parser = ORDERS)]
        sort: String,
    },
    /// Show a node: status, releases, problems, open drift
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
    /// Show where the desired state of a node comes from: groups, settings, baselines, parameters
    Why {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// One clause: its origins, its drift, and why it is not corrected
        address: Option<String>,
    },
    /// Ask nodes to check in now: who answers, how fast, and when the others check in
    Reach(ReachArguments),
    /// Read what is there on a node, as the clauses that would keep it so; nothing is altered
    Inspect(InspectArguments),
    /// Show in which settings nodes differ, and which did not acknowledge them yet
    CompareSettings {
        #[command(flatten)]
        server: ServerArguments,
        /// Only matching nodes, in CEL, for example 'labels.site == "auken"'
        #[arg(value_name = "CEL")]
        filter: Option<String>,
    },
    /// Show what a node would get, whether there is one or not
    WouldGet {
        #[command(flatten)]
        server: ServerArguments,
        /// Its name
        name: String,
        /// A label that it would have, for example site=auken; can be given more than once
        #[arg(long, value_name = "KEY=VALUE", value_parser = label_pair)]
        label: Vec<(String, String)>,
        /// A node that reports about itself what this one would
        #[arg(long, value_name = "NODE")]
        like: Option<String>,
    },
    /// Set and remove labels of nodes
    Label {
        #[command(flatten)]
        server: ServerArguments,
        /// The nodes
        #[arg(required_unless_present = "filter", conflicts_with = "filter", value_name = "NODE")]
        nodes: Vec<String>,
        /// All matching nodes, in CEL, for example 'labels.site == "auken"'
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
        /// A label to be set, for example site=auken; can be given more than once
        #[arg(long, value_name = "KEY=VALUE", value_parser = label_pair)]
        set: Vec<(String, String)>,
        /// The key of a label to be removed; can be given more than once
        #[arg(long, value_name = "KEY")]
        remove: Vec<String>,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Set labels and names of nodes by a CSV table, as one change
    Table {
        #[command(flatten)]
        server: ServerArguments,
        /// The file: its columns are name, perhaps rename_to, and labels; an empty cell leaves a label as it is, `-` takes it away
        #[arg(value_name = "FILE")]
        table: PathBuf,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Give a node another name: groups that name it follow
    Rename {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        /// Its next name
        to: String,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Assign a baseline to this node alone, after those of its groups
    Assign {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: AssignArguments,
    },
    /// No longer assign a baseline to this node alone: nothing on it is undone
    Unassign {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: UnassignArguments,
    },
    /// Give a parameter a value for this node alone, over those of its groups
    Param {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: ParamArguments,
    },
    /// Set how the agent of this node works, over what its groups set
    Setting {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: SettingArguments,
    },
    /// Give properties of one clause other values on this node alone, for a time
    Set {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: SetArguments,
    },
    /// Take away values of properties that this node has alone
    Unset {
        #[command(flatten)]
        target: NodeTarget,
        #[command(flatten)]
        given: UnsetArguments,
    },
    /// Retire nodes: they are refused, and no longer listed or counted; what their machines have stays there
    Retire {
        #[command(flatten)]
        server: ServerArguments,
        /// The nodes
        #[arg(required = true, value_name = "NODE")]
        nodes: Vec<String>,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// List retired nodes: who retired them, when and why
    Retired {
        #[command(flatten)]
        server: ServerArguments,
        /// A name, or a pattern of names, for example 'kiosk-lab-*'
        name: Option<String>,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Bring a retired node back, with its identity, labels and history
    BringBack {
        #[command(flatten)]
        server: ServerArguments,
        /// The name or the id of the retired node
        node: String,
        /// Another name than it had
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
    },
    /// Resolve a duplicate identity: the machine that checks in next is the node
    ResolveDuplicate {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
    /// Revoke a node: it is refused from now on
    Revoke {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
}

/// Which node, and how it is changed.
#[derive(Debug, Args)]
struct NodeTarget {
    #[command(flatten)]
    server: ServerArguments,
    /// The node
    node: String,
    #[command(flatten)]
    options: ChangeOptions,
}

/// The names of the nodes that a filter selects; that some cannot be evaluated is told.
async fn matching(server: &Server, filter: &str) -> Result<Vec<String>, ClientError> {
    let (nodes, undecidable) = all(server, Some(filter), "name").await?;
    if undecidable > 0 {
        eprintln!("{undecidable} more cannot be evaluated: they did not report a field of the filter");
    }
    if nodes.is_empty() {
        return Err(ClientError::new(
            "no node matches",
            "constans node list --filter shows what a filter selects",
        ));
    }
    Ok(nodes.into_iter().map(|node| node.name).collect())
}

/// Edits what a node is given by itself.
async fn give(target: &NodeTarget, (edit, what): (GroupEdit, String)) -> Result<(), ClientError> {
    give_all(target, (vec![edit], what)).await
}

async fn give_all(target: &NodeTarget, (edits, what): (Vec<GroupEdit>, String)) -> Result<(), ClientError> {
    let NodeTarget { server, node, options } = target;
    let server = Server::open(server)?;
    let body = EditNode { edits, how: options.how() };
    let answered = server.post(&format!("/api/nodes/{}/edits", word(node)), &body).await;
    print_changed(&server, &what, &confirmed(&server, answered).await?);
    Ok(())
}

fn label_pair(text: &str) -> Result<(String, String), String> {
    let (key, value) = text.split_once('=').ok_or("a label is written KEY=VALUE, for example site=auken")?;
    Ok((key.to_owned(), value.to_owned()))
}

fn word(name: &str) -> String {
    utf8_percent_encode(name, NON_ALPHANUMERIC).to_string()
}

/// Lists, shows, labels, renames, retires or revokes.
pub async fn run(arguments: &NodeArguments) -> Result<(), ClientError> {
    match &arguments.command {
        NodeCommand::List { server, filter, sort } => {
            list(&Server::open(server)?, filter.as_deref(), sort).await
        }
        NodeCommand::Show { server, node } => show(&Server::open(server)?, node).await,
        NodeCommand::Why { server, node, address } => {
            why(&Server::open(server)?, node, address.as_deref()).await
        }
        NodeCommand::Reach(arguments) => reach(arguments).await,
        NodeCommand::Inspect(arguments) => node_inspect::run(arguments).await,
        NodeCommand::CompareSettings { server, filter } => {
            compare_settings(&Server::open(server)?, filter.as_deref()).await
        }
        NodeCommand::WouldGet { server, name, label, like } => {
            let labels = label.iter().cloned().collect();
            would_get(&Server::open(server)?, name, labels, like.clone()).await
        }
        NodeCommand::Table { server, table, options } => {
            let server = Server::open(server)?;
            let table_csv = std::fs::read_to_string(table).map_err(|error| {
                ClientError::new(
                    format!("{}: {error}", table.display()),
                    "name a CSV file in UTF-8 that you may read",
                )
            })?;
            let wanted = EditNodeTable { table_csv, how: options.how() };
            let changed = confirmed(&server, server.post("/api/node-table", &wanted).await).await?;
            print_changed(&server, "the nodes are labelled and named by the table", &changed);
            Ok(())
        }
        NodeCommand::Label { server, nodes, filter, set, remove, options } => {
            let server = Server::open(server)?;
            let nodes = &match filter {
                Some(filter) => matching(&server, filter).await?,
                None => nodes.clone(),
            };
            let (set, remove) = (set.iter().cloned().collect(), remove.iter().cloned().collect());
            let wanted = LabelNodes { nodes: nodes.clone(), set, remove, how: options.how() };
            let changed = confirmed(&server, server.post("/api/labels", &wanted).await).await?;
            let labelled = if let [one] = nodes.as_slice() {
                format!("{one} is labelled")
            } else {
                format!("{} nodes are labelled", nodes.len())
            };
            print_changed(&server, &labelled, &changed);
            Ok(())
        }
        NodeCommand::Rename { server, node, to, options } => {
            let server = Server::open(server)?;
            let wanted = RenameNode { to: to.clone(), how: options.how() };
            let changed =
                confirmed(&server, server.post(&format!("/api/nodes/{}/rename", word(node)), &wanted).await)
                    .await?;
            print_changed(&server, &format!("{node} is called {to}"), &changed);
            Ok(())
        }
        NodeCommand::Assign { target, given } => give(target, given.edit(&target.node)).await,
        NodeCommand::Unassign { target, given } => give(target, given.edit(&target.node)).await,
        NodeCommand::Param { target, given } => give(target, given.edit(&target.node)).await,
        NodeCommand::Setting { target, given } => give(target, given.edit(&target.node)).await,
        NodeCommand::Set { target, given } => give_all(target, given.edits(&target.node)).await,
        NodeCommand::Unset { target, given } => give_all(target, given.edits(&target.node)).await,
        NodeCommand::Retire { server, nodes, options } => {
            let server = Server::open(server)?;
            let wanted = RetireNodes { nodes: nodes.clone(), how: options.how() };
            let changed = confirmed(&server, server.post("/api/retirements", &wanted).await).await?;
            let what = if let [one] = nodes.as_slice() {
                format!("{one} is retired: its next request is refused, and what its machine has stays there")
            } else {
                format!(
                    "{} nodes are retired: their next requests are refused, and what their machines have stays there",
                    nodes.len()
                )
            };
            print_changed(&server, &what, &changed);
            Ok(())
        }
        NodeCommand::Retired { server, name, which } => {
            retired(&Server::open(server)?, name.as_deref(), which).await
        }
        NodeCommand::BringBack { server, node, name } => {
            bring_back(&Server::open(server)?, node, name.clone()).await
        }
        NodeCommand::ResolveDuplicate { server, node } => {
            let server = Server::open(server)?;
            let name: String = server.post(&format!("/api/nodes/{node}/resolve-duplicate"), &()).await?;
            if server.says_json(&name) {
                return Ok(());
            }
            println!("the next machine that checks in as {name} is the node");
            println!("Next: switch the other machine off, or let it join as a node of its own");
            Ok(())
        }
        NodeCommand::Revoke { server, node } => {
            let server = Server::open(server)?;
            let name: String = server.post(&format!("/api/nodes/{node}/revoke"), &()).await?;
            if server.says_json(&name) {
                return Ok(());
            }
            println!("{name} is revoked; its next request is refused");
            println!(
                "Next: to admit it again: constans invite, then on the node constans-agent join --invitation-file FILE"
            );
            Ok(())
        }
    }
}

/// Returns all nodes, or those that a filter names, and how many could not be decided.
async fn all(
    server: &Server,
    filter: Option<&str>,
    sort: &str,
) -> Result<(Vec<NodeSummary>, usize), ClientError> {
    let mut nodes: Vec<NodeSummary> = Vec::new();
    let filter = filter
        .map(|filter| format!("&filter={}", utf8_percent_encode(filter, NON_ALPHANUMERIC)))
        .unwrap_or_default();
    let mut after = String::new();
    loop {
        let page: NodePage =
            server.get(&format!("/api/nodes?sort={sort}&after={}{filter}", word(&after))).await?;
        nodes.extend(page.nodes);
        match page.next {
            Some(next) => after = next,
            None => return Ok((nodes, page.undecidable)),
        }
    }
}

async fn show(server: &Server, name: &str) -> Result<(), ClientError> {
    let node: &NodeSummary = &match server.get(&format!("/api/nodes/{name}")).await {
        Ok(node) => node,
        Err(error) if error.is_missing() => {
            let (nodes, _) = all(server, None, "name").await?;
            let near = nearest_word(name, nodes.iter().map(|node| node.name.as_str()));
            let hint = near.map_or_else(
                || "constans node list shows all nodes".to_owned(),
                |near| format!("did you mean `{near}`?"),
            );
            return Err(ClientError::new(format!("there is no node {name}"), hint));
        }
        Err(error) => return Err(error),
    };
    if server.says_json(node) {
        return Ok(());
    }
    let now = Timestamp::now();
    let reached = match node.can_be_woken {
        Some(true) => "; can be woken",
        _ => "; cannot be woken between its check-ins",
    };
    println!(
        "{}  {}, {}{reached}",
        harmless(&node.name),
        last_contact(node),
        shown(&node.words.contact, now)
    );
    println!("  status    {}", shown(&node.words.status_and_releases(), now));
    println!("  stage     {}", node.stage.as_deref().unwrap_or("-"));
    println!("  groups    {}", node.groups.join(", "));
    println!("  mode      {}", mode_word(node));
    println!("  labels    {}", labels(&node.labels));
    println!("  desired   {}", shown(&desired(node), now));
    if let Some(by) = &node.changed_by {
        let because =
            by.because.as_ref().map(|because| format!(": \"{}\"", harmless(because))).unwrap_or_default();
        println!(
            "  changed   by C{}, {}{because}; {} ({})",
            by.no,
            harmless(&by.who),
            time(by.at),
            harmless(&by.what)
        );
    }
    for freeze in &node.freezes {
        println!("  frozen    by {}", harmless(&freeze.words()));
    }
    if let Some(pending) = &node.restart_pending {
        println!(
            "  restart   pending since {}: {}",
            time(pending.since),
            harmless(&pending.because.join(", "))
        );
    }
    // One that failed is among the problems.
    let is_going =
        |upgrade: &&AgentUpgrade| matches!(upgrade.state, UpgradeState::UnderWay | UpgradeState::Waiting);
    if let Some(upgrade) = node.agent_upgrade.as_ref().filter(is_going) {
        println!("  agent     upgrade {}", harmless(&upgrade.words()));
    }
    for problem in &node.words.problems {
        println!("  problem   {}\n            {}", shown(&problem.message, now), harmless(&problem.remedy));
    }
    out_of_line(&server.get(&format!("/api/nodes/{name}/clauses")).await?, name);
    for episode in server
        .get::<Vec<Episode>>(&format!("/api/nodes/{name}/episodes"))
        .await?
        .iter()
        .filter(|episode| episode.closed_at.is_none())
    {
        println!(
            "  drift     {} {}, still open",
            harmless(&episode.address),
            episode.window().words().write_dated()
        );
    }
    for left in server.get::<Vec<LeftBehind>>(&format!("/api/nodes/{name}/left-behind")).await? {
        let origins: Vec<String> = left
            .origins
            .iter()
            .map(|origin| format!("{}@{}/{}", origin.kit, origin.version, origin.baseline))
            .collect();
        println!(
            "  left      {}, desired until {} by {}",
            harmless(left.address.as_str()),
            time(left.wanted_until),
            origins.join(", ")
        );
    }
    println!("Next: constans node why {name}; constans run list {name}");
    Ok(())
}

/// Clauses beyond this number are only counted.
const MAX_SHOWN: usize = 20;

/// Prints each clause that is not in line: since when, and why.
fn out_of_line(clauses: &NodeClauses, node: &str) {
    let left = |clause: &&NodeClause| clause.reason.is_some();
    for clause in clauses.clauses.iter().filter(left).take(MAX_SHOWN) {
        let since = clause.since.map(|since| format!(" since {}", time(since))).unwrap_or_default();
        let reason = harmless(clause.reason.as_deref().unwrap_or_default());
        println!("  clause    {}, {}{since}: {reason}", harmless(&clause.address), clause.outcome.words());
        for by in &clause.conceded_by {
            println!(
                "            may deviate until {} by D{}: {}",
                time(by.until),
                by.no,
                harmless(&by.because)
            );
        }
    }
    let more = clauses.clauses.iter().filter(left).count().saturating_sub(MAX_SHOWN);
    if more > 0 {
        println!("            and {more} more: constans run list {node}, then constans run show");
    }
}

fn mode_word(node: &NodeSummary) -> &'static str {
    match node.mode {
        Some(Mode::Enforce) => "enforce",
        Some(Mode::Observe) => "observe",
        None => "-",
    }
}

fn shown(sentence: &Sentence, now: Timestamp) -> String {
    harmless(&sentence.write(now))
}

async fn list(server: &Server, filter: Option<&str>, sort: &str) -> Result<(), ClientError> {
    let (nodes, undecidable) = all(server, filter, sort).await?;
    if server.says_json(&nodes) {
        return Ok(());
    }
    if undecidable > 0 {
        eprintln!("{undecidable} more cannot be evaluated: they did not report a field of the filter");
    }
    if nodes.is_empty() && filter.is_some() {
        println!("no node matches; relax the filter");
        return Ok(());
    }
    if nodes.is_empty() {
        println!("no nodes yet\nNext: constans invite creates an invitation for the first one");
        return Ok(());
    }
    let width = nodes.iter().map(|node| node.name.len()).max().unwrap_or(0);
    let now = Timestamp::now();
    for node in &nodes {
        let problems: String = node.problems.iter().map(|problem| format!("  {}", problem.words())).collect();
        println!(
            "{:<width$}  {:<14}  {}  {}{problems}",
            harmless(&node.name),
            last_contact(node),
            shown(&node.words.status_and_releases(), now),
            labels(&node.labels)
        );
    }
    Ok(())
}

fn last_contact(node: &NodeSummary) -> &'static str {
    match (node.revoked_at, node.last_contact) {
        (Some(_), _) => "revoked",
        (None, LastContact::OnTime) => "on time",
        (None, LastContact::Late) => "late",
        (None, LastContact::Silent) => "silent",
        (None, LastContact::NeverReported) => "never reported",
    }
}
