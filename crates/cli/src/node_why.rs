//! `constans node why`: where the desired state of a node, or one of its clauses, comes from.

use crate::error::ClientError;
use crate::node_explained::{replaced_lines, setting_end};
use crate::server::Server;
use constans_core::episode::{ClosedAs, recurrence};
use constans_core::group::NodeLayers;
use constans_core::nearest::nearest_word;
use constans_core::param::{Layer, ParameterValue};
use constans_core::settings::words_in_documents;
use constans_core::state::{LeftBehind, ReplacedValue};
use constans_terminal::{count, harmless, time};
use constans_wire::check_in::StateSources;
use constans_wire::overview::{NodeClause, NodeClauses};
use constans_wire::run::Episode;
use serde::Serialize;

/// The latest episodes that are printed.
const MAX_EPISODES: usize = 5;

/// The sources of a node's desired state, with all layers of its values.
#[derive(Serialize)]
struct Explained<'a> {
    #[serde(flatten)]
    sources: &'a StateSources,
    layers: &'a NodeLayers,
}

/// What is known of one clause of a node.
#[derive(Serialize)]
struct ClauseHistory<'a> {
    clause: Option<&'a NodeClause>,
    /// Set if a condition excludes the clause on this node.
    excluded_by: Option<&'a str>,
    /// Values of properties that the node has by itself.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    own: Vec<&'a ReplacedValue>,
    /// Set if the clause is no longer desired and its thing is still there.
    left_behind: Option<&'a LeftBehind>,
    episodes: Vec<&'a Episode>,
}

/// Prints the sources of a node's desired state, or of one clause.
pub async fn why(server: &Server, node: &str, address: Option<&str>) -> Result<(), ClientError> {
    let sources: StateSources = server.get(&format!("/api/nodes/{node}/why")).await?;
    let Some(address) = address else {
        // Where nothing can be resolved, what is stored is explained alone.
        let layers: NodeLayers = server.get(&format!("/api/nodes/{node}/layers")).await.unwrap_or_default();
        if !server.says_json(&Explained { sources: &sources, layers: &layers }) {
            println!("{}", harmless(&sources_text(node, &sources, &layers)));
        }
        return Ok(());
    };
    let clauses: NodeClauses = server.get(&format!("/api/nodes/{node}/clauses")).await?;
    let episodes: Vec<Episode> = server.get_all(&format!("/api/nodes/{node}/episodes")).await?;
    let left: Vec<LeftBehind> = server.get(&format!("/api/nodes/{node}/left-behind")).await?;
    let history = ClauseHistory {
        clause: clauses.clauses.iter().find(|clause| clause.address == address),
        excluded_by: sources
            .excluded
            .iter()
            .find(|(excluded, _)| excluded == address)
            .map(|(_, condition)| condition.as_str()),
        own: sources.replaced.iter().filter(|own| own.clause.as_str() == address).collect(),
        left_behind: left.iter().find(|left| left.address.as_str() == address),
        episodes: episodes.iter().filter(|episode| episode.address == address).collect(),
    };
    if history.clause.is_none()
        && history.excluded_by.is_none()
        && history.left_behind.is_none()
        && history.episodes.is_empty()
    {
        let known = clauses.clauses.iter().map(|clause| clause.address.as_str());
        let near =
            nearest_word(address, known.chain(sources.excluded.iter().map(|(address, _)| address.as_str())));
        let hint = near.map_or_else(
            || format!("constans node why {node} lists its baselines"),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(ClientError::new(format!("{node} has no clause {address}"), hint));
    }
    if !server.says_json(&history) {
        println!("{}", history_text(address, &history));
    }
    Ok(())
}

fn sources_text(node: &str, sources: &StateSources, layers: &NodeLayers) -> String {
    let mut lines = vec![format!("{node}: stage {}, groups {}", sources.stage, sources.groups.join(", "))];
    lines.push(match sources.baselines.as_slice() {
        [] => "no desired state yet: no baseline is assigned and served".to_owned(),
        baselines => format!(
            "desired state: {} from {}",
            count(sources.clauses, "clause", "clauses"),
            baselines.join(", ")
        ),
    });
    lines.push("settings of its agent:".to_owned());
    let settings = sources.settings.described();
    let width = settings.iter().map(|setting| setting.value.chars().count()).max().unwrap_or(0);
    let mut told: Vec<&str> = Vec::new();
    for setting in settings {
        let end = setting_end(layers, words_in_documents(&setting.word));
        lines.push(format!("  {:<15}  {:<width$}  {}{end}", setting.word, setting.value, setting.from));
        let words = words_in_documents(&setting.word).iter().filter(|word| !told.contains(*word));
        let words: Vec<&str> = words.copied().collect();
        let replaced = words.iter().flat_map(|word| replaced_lines(layers, word));
        lines.extend(replaced.map(|line| format!("  {:<15}  {line}", "")));
        told.extend(words);
    }
    if !sources.parameters.is_empty() {
        lines.push("parameters:".to_owned());
    }
    for (name, value) in &sources.parameters {
        lines.push(format!("  {name} = {}   from {}", value.value, with_those_below(value)));
        lines.extend(replaced_lines(layers, name).iter().map(|line| format!("      {line}")));
    }
    if !sources.replaced.is_empty() {
        lines.push("values of its own:".to_owned());
    }
    lines.extend(
        sources.replaced.iter().map(|own| {
            format!("  {} {} = {}   {}", own.clause, own.property, own.value, own_value_words(own))
        }),
    );
    lines.extend(sources.undecidable.iter().map(|group| {
        format!("group {group} cannot be evaluated: the node did not report a field of its filter")
    }));
    lines.extend(sources.not_served.iter().map(|baseline| {
        format!("not served: {baseline} is assigned, but the stage serves no release of its kit")
    }));
    lines.extend(
        sources.excluded.iter().map(|(address, condition)| format!("excluded: {address}, where {condition}")),
    );
    lines.join("\n")
}

/// What a value of the node's own replaces, and until when.
fn own_value_words(own: &ReplacedValue) -> String {
    let end = own.until.map_or_else(|| "without end".to_owned(), |until| format!("until {}", time(until)));
    match &own.instead_of {
        Some(value) => format!("{end}, in place of {value}"),
        None => format!("{end}; its baselines say nothing of it"),
    }
}

/// The layer of a value, and the layers below that it builds upon.
fn with_those_below(value: &ParameterValue) -> String {
    let over: Vec<String> = value.over.iter().map(Layer::words).collect();
    let over = if over.is_empty() { String::new() } else { format!(", over {}", over.join(", ")) };
    format!("{}{over}", value.from.words())
}

fn history_text(address: &str, history: &ClauseHistory<'_>) -> String {
    let mut lines = vec![harmless(address)];
    if let Some(clause) = history.clause {
        lines.push(format!("  desired by  {}", harmless(&clause.origins.join(", "))));
        let controls = if clause.satisfies.is_empty() {
            String::new()
        } else {
            format!(", satisfies {}", clause.satisfies.join(" "))
        };
        let severity = serde_json::to_value(clause.severity)
            .ok()
            .and_then(|word| word.as_str().map(str::to_owned))
            .unwrap_or_default();
        lines.push(harmless(&format!("  severity    {severity}{controls}")));
        lines.extend(history.own.iter().map(|own| {
            let words =
                format!("{} = {} for this node alone, {}", own.property, own.value, own_value_words(own));
            harmless(&format!("  its own     {words}"))
        }));
        lines.extend(clause.change_windows.iter().map(|hours| {
            format!("  corrected   only {hours}, by its assignment, within the node's change window")
        }));
        lines.push(format!(
            "  outcome     {}{}",
            clause.outcome.words(),
            clause.since.map(|since| format!(" since {}", time(since))).unwrap_or_default()
        ));
        if let Some(reason) = &clause.reason {
            lines.push(format!("  because     {}", harmless(reason)));
        }
    }
    if let Some(condition) = history.excluded_by {
        lines
            .push(format!("  excluded    its condition does not hold on this node: {}", harmless(condition)));
    }
    if let Some(left) = history.left_behind {
        let origins: Vec<String> = left
            .origins
            .iter()
            .map(|origin| format!("{}@{}/{}", origin.kit, origin.version, origin.baseline))
            .collect();
        lines.push(format!(
            "  left behind desired until {} by {}",
            time(left.wanted_until),
            harmless(&origins.join(", "))
        ));
    }
    let by_itself = history.episodes.iter().filter(|episode| episode.drill.is_none());
    let past = by_itself.map(|episode| {
        let corrected = episode.closed_at.filter(|_| episode.closed_as == Some(ClosedAs::Corrected));
        (episode.in_line_until, episode.detected_at, corrected)
    });
    lines
        .extend(recurrence(past.collect()).map(|recurrence| format!("  came back   {}", recurrence.words())));
    match history.episodes.len() {
        0 => lines.push("  drift       none".to_owned()),
        all => lines.push(format!("  drift       {}, the latest:", count(all, "episode", "episodes"))),
    }
    let mut latest = history.episodes.clone();
    latest.sort_by_key(|episode| std::cmp::Reverse(episode.detected_at));
    lines.extend(latest.into_iter().take(MAX_EPISODES).map(episode_line));
    lines.join("\n")
}

fn episode_line(episode: &Episode) -> String {
    let end = match (episode.closed_at, episode.closed_as) {
        (Some(at), Some(how)) => format!("{} at {}", how.words(), time(at)),
        (Some(at), None) => format!("ended at {}", time(at)),
        (None, _) => "still open".to_owned(),
    };
    let drill = episode.drill.map(|no| format!(", drill D{no}")).unwrap_or_default();
    format!("    {}{drill}, {end}", episode.window().words().write_dated())
}
