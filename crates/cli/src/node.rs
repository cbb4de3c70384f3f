//! `constans node`.

use crate::server::{ClientError, Server, ServerArguments, labels};
use clap::{Args, Subcommand};
use constans_core::kind::nearest_word;
use constans_core::param::{Layer, ParameterValue};
use constans_core::run::Mode;
use constans_core::standing::{Trouble, ago_words, clock_words};
use constans_core::state::LeftBehind;
use constans_terminal::{harmless, span, time};
use constans_wire::check_in::{Explained, Hearing, NodeSummary};
use constans_wire::fleet::{NodeClause, NodeClauses, NodePage};
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
    /// List the nodes: whether they are heard, and by which labels they are known
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only nodes that are so: CEL, as 'labels.site == "auken" && node.sign == "failed"'
        #[arg(long, value_name = "CEL")]
        filter: Option<String>,
    },
    /// Show one node: what it has, what is wanted of it and why, and how its last full run went
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
    /// Explain why a node is wanted to be what it is: groups, baselines, and where each parameter comes from
    Explain {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
    /// Decide, after two machines were seen as one node: the one that checks in next is the node
    Settle {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
    /// Refuse a node from now on
    Revoke {
        #[command(flatten)]
        server: ServerArguments,
        /// The node
        node: String,
    },
}

/// Lists or revokes.
pub async fn run(arguments: &NodeArguments) -> Result<(), ClientError> {
    match &arguments.command {
        NodeCommand::List { server, filter } => list(&Server::open(server)?, filter.as_deref()).await,
        NodeCommand::Show { server, node } => show(&Server::open(server)?, node).await,
        NodeCommand::Explain { server, node } => {
            let server = Server::open(server)?;
            let explained: Explained = server.get(&format!("/api/nodes/{node}/explained")).await?;
            if !server.says_json(&explained) {
                println!("{}", explain(node, &explained));
            }
            Ok(())
        }
        NodeCommand::Settle { server, node } => {
            let server = Server::open(server)?;
            let name: String = server.post(&format!("/api/nodes/{node}/settle"), &()).await?;
            if server.says_json(&name) {
                return Ok(());
            }
            println!("whoever checks in next as {name} is {name}");
            println!("Next: see that the other machine is switched off, or joins as a node of its own");
            Ok(())
        }
        NodeCommand::Revoke { server, node } => {
            let server = Server::open(server)?;
            let name: String = server.post(&format!("/api/nodes/{node}/revoke"), &()).await?;
            if server.says_json(&name) {
                return Ok(());
            }
            println!("{name} is refused from its next request on");
            println!("Next: to let it back: constans invite, then on the node constans-agent join --invitation FILE");
            Ok(())
        }
    }
}

/// Returns all nodes, or those that a filter names, and how many could not be decided.
async fn all(server: &Server, filter: Option<&str>) -> Result<(Vec<NodeSummary>, usize), ClientError> {
    let mut nodes: Vec<NodeSummary> = Vec::new();
    let filter = filter.map(|filter| format!("&filter={}", utf8_percent_encode(filter, NON_ALPHANUMERIC))).unwrap_or_default();
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
            let hint = near.map_or_else(|| "constans node list shows them all".to_owned(), |near| format!("did you mean `{near}`?"));
            return Err(ClientError::new(format!("there is no node {name}"), hint));
        }
        Err(error) => return Err(error),
    };
    if server.says_json(node) {
        return Ok(());
    }
    let now = Timestamp::now();
    let standing = &node.standing;
    println!("{}  {}, {}", harmless(&node.name), hearing(node), heard(node, now));
    println!("  standing  {}", standing_words(node, now));
    println!("  stage     {}", standing.stage.as_deref().unwrap_or("-"));
    println!("  groups    {}", standing.groups.join(", "));
    println!("  mode      {}", mode_word(node));
    println!("  labels    {}", labels(&node.labels));
    println!("  wanted    {}", wanted_words(node, now));
    if let Some(pending) = &standing.restart_pending {
        println!("  restart   pending since {}: {}", time(pending.since), harmless(&pending.because.join(", ")));
    }
    for trouble in &node.troubles {
        let (words, remedy) = trouble_words(*trouble, node, now);
        println!("  trouble   {words}\n            {remedy}");
    }
    out_of_line(&server.get(&format!("/api/nodes/{name}/clauses")).await?, name);
    for episode in server.get::<Vec<Episode>>(&format!("/api/nodes/{name}/episodes")).await?.iter().filter(|episode| episode.closed_at.is_none()) {
        println!(
            "  drift     {}, happened between {} and {}, is open",
            harmless(&episode.address),
            time(episode.in_line_until),
            time(episode.detected_at)
        );
    }
    for left in server.get::<Vec<LeftBehind>>(&format!("/api/nodes/{name}/left-behind")).await? {
        let origins: Vec<String> = left.origins.iter().map(|origin| format!("{}@{}/{}", origin.kit, origin.version, origin.baseline)).collect();
        println!("  left      {}, wanted until {} by {}", harmless(left.address.as_str()), time(left.wanted_until), origins.join(", "));
    }
    println!("Next: constans node explain {name} says where each part comes from; constans run list {name}");
    Ok(())
}

/// So many clauses are shown before the rest is counted.
const MOST_SHOWN: usize = 20;

/// Says of each clause that is not in line since when, why, and what will happen.
fn out_of_line(clauses: &NodeClauses, node: &str) {
    let left = |clause: &&NodeClause| clause.said.is_some();
    for clause in clauses.clauses.iter().filter(left).take(MOST_SHOWN) {
        let since = clause.since.map(|since| format!(" since {}", time(since))).unwrap_or_default();
        let said = harmless(clause.said.as_deref().unwrap_or_default());
        println!("  clause    {}, {}{since}: {said}", harmless(&clause.address), clause.outcome.words());
    }
    let more = clauses.clauses.iter().filter(left).count().saturating_sub(MOST_SHOWN);
    if more > 0 {
        println!("            and {more} more: constans run list {node}, then constans run show");
    }
}

fn explain(node: &str, explained: &Explained) -> String {
    let mut lines = vec![
        format!("{node} is in the stage {}, and in the groups {}", explained.stage, explained.groups.join(", ")),
        format!(
            "it is wanted to keep {} of {}",
            count(explained.clauses),
            if explained.baselines.is_empty() { "no baseline".to_owned() } else { explained.baselines.join(", ") }
        ),
    ];
    lines.push("its agent is set so:".to_owned());
    let told = explained.settings.told();
    let width = told.iter().map(|told| told.value.chars().count()).max().unwrap_or(0);
    lines.extend(told.into_iter().map(|told| format!("  {:<13}  {:<width$}  {}", told.word, told.value, told.from)));
    lines.extend(explained.undecidable.iter().map(|group| format!("not decidable: the group {group} asks for what the node did not report")));
    lines.extend(explained.not_served.iter().map(|baseline| format!("assigned and left out: {baseline}, whose kit the stage does not serve")));
    lines.extend(explained.parameters.iter().map(|(name, value)| format!("  {name} = {}   from {}", value.value, origin(value))));
    lines.extend(explained.excluded.iter().map(|(address, condition)| format!("  {address} does not count here: {condition}")));
    lines.join("\n")
}

/// Says which layer a value comes from, and which below it built upon.
fn origin(value: &ParameterValue) -> String {
    let over: Vec<String> = value.over.iter().map(Layer::words).collect();
    let over = if over.is_empty() { String::new() } else { format!(", over {}", over.join(", ")) };
    format!("{}{over}", value.from.words())
}

fn count(clauses: usize) -> String {
    if clauses == 1 { "1 clause".to_owned() } else { format!("{clauses} clauses") }
}

fn mode_word(node: &NodeSummary) -> &'static str {
    match node.standing.mode {
        Some(Mode::Enforce) => "enforce",
        Some(Mode::Observe) => "observe",
        None => "-",
    }
}

fn wanted_words(node: &NodeSummary, now: Timestamp) -> String {
    let standing = &node.standing;
    match (&standing.wanted, standing.wanted_since) {
        (Some(_), _) if standing.releases.is_empty() => "nothing yet".to_owned(),
        (Some(_), Some(since)) => format!("{} since {}", releases(&standing.releases), span(now.duration_since(since).as_secs())),
        _ => "nothing yet".to_owned(),
    }
}

fn releases(releases: &[String]) -> String {
    if releases.is_empty() { "no release".to_owned() } else { releases.join(" ") }
}

/// A status never stands without the release and the age it speaks of.
fn standing_words(node: &NodeSummary, now: Timestamp) -> String {
    let standing = &node.standing;
    if standing.releases.is_empty() && standing.has == standing.wanted {
        return "nothing is wanted of it yet".to_owned();
    }
    let (Some(status), Some(began)) = (standing.status, standing.run_began) else { return "no full run yet".to_owned() };
    let has = if standing.has == standing.wanted {
        format!("has {}", releases(&standing.has_releases))
    } else {
        format!("has {}, wanted {}", releases(&standing.has_releases), wanted_words(node, now))
    };
    format!("{}, {}; {has}", status.words(), ago_words(now.duration_since(began).as_secs()))
}

async fn list(server: &Server, filter: Option<&str>) -> Result<(), ClientError> {
    let (nodes, undecidable) = all(server, filter).await?;
    if server.says_json(&nodes) {
        return Ok(());
    }
    if undecidable > 0 {
        eprintln!("{undecidable} more did not report what the filter asks for");
    }
    if nodes.is_empty() && filter.is_some() {
        println!("no node is so");
        return Ok(());
    }
    if nodes.is_empty() {
        println!("no nodes yet\nNext: constans invite makes an invitation for the first one");
        return Ok(());
    }
    let width = nodes.iter().map(|node| node.name.len()).max().unwrap_or(0);
    let now = Timestamp::now();
    for node in &nodes {
        let troubles: String = node.troubles.iter().map(|trouble| format!("  {}", trouble.words())).collect();
        println!("{:<width$}  {:<14}  {}  {}{troubles}", harmless(&node.name), hearing(node), standing_words(node, now), labels(&node.labels));
    }
    Ok(())
}

fn hearing(node: &NodeSummary) -> &'static str {
    match (node.revoked_at, node.hearing) {
        (Some(_), _) => "revoked",
        (None, Hearing::OnTime) => "on time",
        (None, Hearing::Late) => "late",
        (None, Hearing::Silent) => "silent",
        (None, Hearing::NeverReported) => "never reported",
    }
}

fn heard(node: &NodeSummary, now: Timestamp) -> String {
    match (node.last_heard, node.promised) {
        (Some(last), Some(promised)) => {
            let next = promised.duration_since(now).as_secs();
            let next = if next >= 0 { format!("next in {}", span(next)) } else { format!("due {} ago", span(-next)) };
            format!("heard {} ago, {next}", span(now.duration_since(last).as_secs()))
        }
        _ => "-".to_owned(),
    }
}

/// Returns a trouble in words, and what to do about it.
fn trouble_words(trouble: Trouble, node: &NodeSummary, now: Timestamp) -> (String, String) {
    let (name, standing) = (harmless(&node.name), &node.standing);
    let ago = |at: Option<Timestamp>| at.map_or_else(String::new, |at| format!(" {}", ago_words(now.duration_since(at).as_secs())));
    match trouble {
        Trouble::StateUnusable => (
            format!("its state cannot be resolved, it keeps its last good one: {}", harmless(standing.unusable.as_deref().unwrap_or("-"))),
            "mend the group, stage or kit that it names".to_owned(),
        ),
        Trouble::Double => (
            format!("double: two machines were seen as this node, first{}; secrets are withheld", ago(standing.double_since)),
            format!("revoke it, or decide: constans node settle {name}"),
        ),
        Trouble::CertificateEnds => (
            format!("its certificate ends on {} and was not renewed", node.certificate_ends.map_or_else(|| "-".to_owned(), minute)),
            "on the node: constans-agent check-in renews it, constans-agent diagnose says why not".to_owned(),
        ),
        Trouble::RunsOverdue => (
            format!("it is heard and does not run; its last full run began{}", ago(standing.run_began)),
            "on the node: constans-agent daemon --once says why".to_owned(),
        ),
        Trouble::MemoryLost => (
            format!("memory lost{}: what its agent remembered is gone, causes are kept as last known", ago(standing.memory_lost_at)),
            "was the machine put back or its state folder emptied? It ends with a full run that leaves nothing open".to_owned(),
        ),
        Trouble::ClockOff => (
            format!("its clock is {}", clock_words(node.clock_off_secs.unwrap_or(0))),
            "set it: certificates and drift windows depend on it; the order of runs does not".to_owned(),
        ),
    }
}

fn minute(at: Timestamp) -> String {
    at.strftime("%Y-%m-%d %H:%M UTC").to_string()
}
