//! `constans node`.

use crate::change::{ChangeOptions, asked, print_changed};
use crate::node_why::why;
use crate::server::{ClientError, Server, ServerArguments, labels};
use clap::{Args, Subcommand};
use constans_core::kind::nearest_word;
use constans_core::node_status::{NodeProblem, ago_words, clock_words};
use constans_core::run::{Mode, Status};
use constans_core::state::LeftBehind;
use constans_terminal::{harmless, span, time};
use constans_wire::change::{LabelNodes, RenameNode};
use constans_wire::check_in::{LastContact, NodeSummary};
use constans_wire::overview::{NodeClause, NodeClauses, NodePage};
use constans_wire::run::Episode;
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

/// Arguments of `node`.
#[derive(Debug, Args)]
pub struct NodeArguments {
    #[command(subcommand)]
    command: NodeCommand,
}

#[derive(Debug, Subcommand)]
enum NodeCommand {
    /// List nodes: last contact, status, releases, labels
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only matching nodes, in CEL, for example 'labels.site == "auken" && node.status == "failed"'
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
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
    /// Set and remove labels of nodes
    Label {
        #[command(flatten)]
        server: ServerArguments,
        /// The nodes
        #[arg(required = true, value_name = "NODE")]
        nodes: Vec<String>,
        /// A label to be set, for example site=auken; can be given more than once
        #[arg(long, value_name = "KEY=VALUE", value_parser = label_pair)]
        set: Vec<(String, String)>,
        /// The key of a label to be removed; can be given more than once
        #[arg(long, value_name = "KEY")]
        remove: Vec<String>,
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
    /// Retire a node: it is refused, and no longer listed or counted; what its machine has stays there
    Retire {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
        #[command(flatten)]
        options: ChangeOptions,
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
        NodeCommand::List { server, filter } => list(&Server::open(server)?, filter.as_deref()).await,
        NodeCommand::Show { server, node } => show(&Server::open(server)?, node).await,
        NodeCommand::Why { server, node, address } => {
            why(&Server::open(server)?, node, address.as_deref()).await
        }
        NodeCommand::Label { server, nodes, set, remove, options } => {
            let server = Server::open(server)?;
            let (set, remove) = (set.iter().cloned().collect(), remove.iter().cloned().collect());
            let wanted = LabelNodes { nodes: nodes.clone(), set, remove, how: options.how() };
            let changed = asked(&server, server.post("/api/labels", &wanted).await).await?;
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
                asked(&server, server.post(&format!("/api/nodes/{}/rename", word(node)), &wanted).await)
                    .await?;
            print_changed(&server, &format!("{node} is called {to}"), &changed);
            Ok(())
        }
        NodeCommand::Retire { server, node, options } => {
            let server = Server::open(server)?;
            let changed = asked(
                &server,
                server.post(&format!("/api/nodes/{}/retire", word(node)), &options.how()).await,
            )
            .await?;
            print_changed(
                &server,
                &format!(
                    "{node} is retired: its next request is refused, and what its machine has stays there"
                ),
                &changed,
            );
            Ok(())
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
                "Next: to admit it again: constans invite, then on the node constans-agent join --invitation FILE"
            );
            Ok(())
        }
    }
}

/// Returns all nodes, or those that a filter names, and how many could not be decided.
async fn all(server: &Server, filter: Option<&str>) -> Result<(Vec<NodeSummary>, usize), ClientError> {
    let mut nodes: Vec<NodeSummary> = Vec::new();
    let filter = filter
        .map(|filter| format!("&filter={}", utf8_percent_encode(filter, NON_ALPHANUMERIC)))
        .unwrap_or_default();
    let mut after = String::new();
    loop {
        let page: NodePage = server.get(&format!("/api/nodes?after={after}{filter}")).await?;
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
            let (nodes, _) = all(server, None).await?;
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
    println!("{}  {}, {}", harmless(&node.name), last_contact(node), contact_times(node, now));
    println!("  status    {}", status_words(node, now));
    println!("  stage     {}", node.stage.as_deref().unwrap_or("-"));
    println!("  groups    {}", node.groups.join(", "));
    println!("  mode      {}", mode_word(node));
    println!("  labels    {}", labels(&node.labels));
    println!("  desired   {}", desired_words(node, now));
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
    for problem in &node.problems {
        let (words, remedy) = problem_words(*problem, node, now);
        println!("  problem   {words}\n            {remedy}");
    }
    out_of_line(&server.get(&format!("/api/nodes/{name}/clauses")).await?, name);
    for episode in server
        .get::<Vec<Episode>>(&format!("/api/nodes/{name}/episodes"))
        .await?
        .iter()
        .filter(|episode| episode.closed_at.is_none())
    {
        println!(
            "  drift     {}, between {} and {}, still open",
            harmless(&episode.address),
            time(episode.in_line_until),
            time(episode.detected_at)
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
const MOST_SHOWN: usize = 20;

/// Prints each clause that is not in line: since when, and why.
fn out_of_line(clauses: &NodeClauses, node: &str) {
    let left = |clause: &&NodeClause| clause.reason.is_some();
    for clause in clauses.clauses.iter().filter(left).take(MOST_SHOWN) {
        let since = clause.since.map(|since| format!(" since {}", time(since))).unwrap_or_default();
        let reason = harmless(clause.reason.as_deref().unwrap_or_default());
        println!("  clause    {}, {}{since}: {reason}", harmless(&clause.address), clause.outcome.words());
    }
    let more = clauses.clauses.iter().filter(left).count().saturating_sub(MOST_SHOWN);
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

fn desired_words(node: &NodeSummary, now: Timestamp) -> String {
    match node.wanted_since {
        _ if node.releases.is_empty() => "none yet".to_owned(),
        Some(since) => {
            format!("{} since {}", releases(&node.releases), span(now.duration_since(since).as_secs()))
        }
        None => releases(&node.releases),
    }
}

fn releases(releases: &[String]) -> String {
    if releases.is_empty() { "no release".to_owned() } else { releases.join(" ") }
}

/// The status of the last full run, always with its age and the release it speaks of. A release of which something waits is
/// only known.
fn status_words(node: &NodeSummary, now: Timestamp) -> String {
    if node.releases.is_empty() && node.has == node.wanted {
        return "no desired state yet".to_owned();
    }
    let (Some(status), Some(began)) = (node.run_status, node.run_began) else {
        return "no full run yet".to_owned();
    };
    let has = releases(&node.has_releases);
    let known = match (status, node.mode) {
        (Status::RolloutWaiting, Some(Mode::Observe)) => {
            format!("knows {has}, not all of it applied: mode is observe")
        }
        (Status::RolloutWaiting, _) => format!("knows {has}, not all of it applied"),
        _ => format!("has {has}"),
    };
    let desired = match (node.has == node.wanted, node.releases == node.has_releases) {
        (true, _) => String::new(),
        (false, true) => "; other values desired".to_owned(),
        (false, false) => format!("; desired {}", desired_words(node, now)),
    };
    format!("{}, {}; {known}{desired}", status.words(), ago_words(now.duration_since(began).as_secs()))
}

async fn list(server: &Server, filter: Option<&str>) -> Result<(), ClientError> {
    let (nodes, undecidable) = all(server, filter).await?;
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
            status_words(node, now),
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

fn contact_times(node: &NodeSummary, now: Timestamp) -> String {
    match (node.last_heard, node.promised) {
        (Some(last), Some(promised)) => {
            let next = promised.duration_since(now).as_secs();
            let next = if next >= 0 {
                format!("next in {}", span(next))
            } else {
                format!("next was due {} ago", span(-next))
            };
            format!("last contact {} ago, {next}", span(now.duration_since(last).as_secs()))
        }
        _ => "no contact yet".to_owned(),
    }
}

/// Returns a problem in words, and what to do about it.
fn problem_words(problem: NodeProblem, node: &NodeSummary, now: Timestamp) -> (String, String) {
    let name = harmless(&node.name);
    let ago = |at: Option<Timestamp>| {
        at.map_or_else(String::new, |at| format!(" {}", ago_words(now.duration_since(at).as_secs())))
    };
    match problem {
        NodeProblem::StateUnusable => (
            format!(
                "the desired state cannot be resolved; the node keeps its last usable one: {}",
                harmless(node.unusable.as_deref().unwrap_or("-"))
            ),
            "fix the group, stage or kit named here".to_owned(),
        ),
        NodeProblem::DuplicateIdentity => (
            format!(
                "duplicate identity: two machines use the identity of this node, first seen{}; secrets are withheld",
                ago(node.duplicate_identity_since)
            ),
            format!("revoke the node, or decide with: constans node resolve-duplicate {name}"),
        ),
        NodeProblem::CertificateEnds => (
            format!("the certificate ends on {} and was not renewed", node.certificate_ends.map_or_else(|| "-".to_owned(), minute)),
            "on the node: constans-agent check-in renews it; constans-agent diagnose shows why it fails".to_owned(),
        ),
        NodeProblem::RunsOverdue => (
            format!("the node checks in but does not run; its last full run began{}", ago(node.run_began)),
            "on the node: constans-agent daemon --once shows why".to_owned(),
        ),
        NodeProblem::MemoryLost => (
            format!("memory lost{}: causes stay as last known", ago(node.memory_lost_at)),
            "check whether the machine was restored or its state folder emptied; a full run that leaves nothing open ends this".to_owned(),
        ),
        NodeProblem::ClockOff => (
            format!("its clock is {}", clock_words(node.clock_off_secs.unwrap_or(0))),
            "set the clock: certificates and drift windows depend on it; the order of runs does not".to_owned(),
        ),
    }
}

fn minute(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M UTC").to_string()
}
