//! `constans node compare-settings` and `constans node would-get`.

use crate::compliance::address;
use crate::error::ClientError;
use crate::server::Server;
use constans_core::group::{LayeredValue, NodeLayers};
use constans_core::settings::{DifferingSetting, setting_words};
use constans_terminal::{count, harmless, time};
use constans_wire::explained::{SettingsComparison, WouldBeNode, WouldGet};
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// Prints in which settings nodes differ, and which did not acknowledge them yet.
pub async fn compare_settings(server: &Server, filter: Option<&str>) -> Result<(), ClientError> {
    let asked = address("/api/settings-comparison", [("filter", filter.map(str::to_owned))]);
    let compared: SettingsComparison = server.get(&asked).await?;
    if !server.says_json(&compared) {
        anstream::print!("{}", harmless_lines(&compared_text(&compared)));
    }
    Ok(())
}

/// Prints what a node would get, whether there is one or not.
pub async fn would_get(
    server: &Server,
    name: &str,
    labels: BTreeMap<String, String>,
    like: Option<String>,
) -> Result<(), ClientError> {
    let asked = WouldBeNode { name: name.to_owned(), labels, like };
    let got: WouldGet = server.post("/api/would-get", &asked).await?;
    if !server.says_json(&got) {
        anstream::print!("{}", harmless_lines(&would_get_text(&asked, &got)));
    }
    Ok(())
}

fn harmless_lines(text: &str) -> String {
    text.lines().fold(String::new(), |all, line| all + &harmless(line) + "\n")
}

fn nodes(number: u64) -> String {
    count(usize::try_from(number).unwrap_or(usize::MAX), "node", "nodes")
}

fn compared_text(compared: &SettingsComparison) -> String {
    let mut text = match (compared.nodes, compared.differing.len()) {
        (0, _) => "no node has settings yet\n".to_owned(),
        (some, 0) => format!("{}: all settings are the same\n", nodes(some)),
        (some, differing) => {
            format!("{} differ in {}\n", nodes(some), count(differing, "setting", "settings"))
        }
    };
    for DifferingSetting { word, values } in &compared.differing {
        let _ = writeln!(text, "{word}:");
        for one in values {
            let more = one.nodes.saturating_sub(one.names.len() as u64);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let from = one.from.join(", ");
            let _ = writeln!(
                text,
                "  {}, {}: {}   {}{more}",
                one.value,
                from,
                nodes(one.nodes),
                one.names.join(" ")
            );
        }
    }
    if !compared.same.is_empty() && !compared.differing.is_empty() {
        let _ = writeln!(text, "the same on all: {}", compared.same.join("; "));
    }
    if compared.undecidable > 0 {
        let _ =
            writeln!(text, "not compared, without a field of the filter: {}", nodes(compared.undecidable));
    }
    match compared.unacknowledged_nodes {
        0 if compared.nodes > 0 => text.push_str("all have acknowledged what is given to them\n"),
        0 => {}
        waiting => {
            let _ = writeln!(text, "not acknowledged yet by {}:", nodes(waiting));
        }
    }
    for node in &compared.unacknowledged {
        let next = node
            .next_check_in
            .map_or_else(|| "it never checked in".to_owned(), |at| format!("next check-in by {}", time(at)));
        let _ = writeln!(text, "  {}  handed out {}; {next}", node.node, time(node.since));
    }
    let more = compared.unacknowledged_nodes.saturating_sub(compared.unacknowledged.len() as u64);
    if more > 0 {
        let _ = writeln!(text, "  and {more} more");
    }
    text
}

fn would_get_text(asked: &WouldBeNode, got: &WouldGet) -> String {
    let labels: Vec<String> = asked.labels.iter().map(|(key, value)| format!("{key}={value}")).collect();
    let labels = if labels.is_empty() { "without labels".to_owned() } else { labels.join(" ") };
    let mut text = format!("{} ({labels}) would get, nothing is stored:\n", asked.name);
    let _ = writeln!(text, "stage {}, groups {}", got.stage, got.groups.join(", "));
    for baseline in &got.baselines {
        let _ = match &baseline.version {
            Some(version) => writeln!(text, "baseline {} {version}", baseline.baseline),
            None => writeln!(text, "baseline {}: its stage serves no release of the kit", baseline.baseline),
        };
    }
    if got.baselines.is_empty() {
        text.push_str("no baseline: no group of it assigns one\n");
    }
    for group in &got.undecidable {
        let hint = if asked.like.is_none() { "; --like NODE takes what another node reports" } else { "" };
        let _ = writeln!(text, "group {group} cannot be evaluated: it reports no field of its filter{hint}");
    }
    if let Some(because) = &got.unusable {
        let _ = writeln!(text, "its desired state cannot be resolved: {because}");
    }
    let settings: Vec<String> = got
        .settings
        .iter()
        .filter(|setting| setting.from != "default")
        .map(|setting| format!("{} {}", setting.word, setting.value))
        .collect();
    if !settings.is_empty() {
        let _ = writeln!(text, "settings: {}", settings.join("; "));
    }
    for (name, value) in &got.parameters {
        let _ = writeln!(text, "parameter {name} = {}   from {}", value.value, value.from.words());
    }
    let _ = writeln!(text, "{}:", count(got.clauses.len(), "clause", "clauses"));
    let width = got.clauses.iter().map(|clause| clause.address.chars().count()).max().unwrap_or(0).min(60);
    for clause in &got.clauses {
        let _ = writeln!(text, "  {:<width$}  {}", clause.address, clause.from.join(", "));
    }
    for excluded in &got.excluded {
        let _ = writeln!(text, "  excluded: {}, where {}", excluded.address, excluded.condition);
    }
    text
}

/// Writes the layers of a value that are replaced by higher ones, one in a line.
pub fn replaced_lines(layers: &NodeLayers, name: &str) -> Vec<String> {
    let is_setting = layers.settings.iter().any(|one| one.name == name);
    let all = layers.settings.iter().chain(&layers.parameters);
    all.filter(|one| one.name == name).flat_map(|one| of_value(one, is_setting)).collect()
}

fn of_value(one: &LayeredValue, is_setting: bool) -> Vec<String> {
    let replaced = one.layers.iter().take(one.counts_from).rev();
    replaced
        .map(|layer| {
            let value =
                if is_setting { setting_words(&one.name, &layer.value) } else { layer.value.to_string() };
            format!("in place of {value}, {}", layer.layer.words())
        })
        .collect()
}

/// Says until when a node has a setting, if that ends by itself.
pub fn setting_end(layers: &NodeLayers, words: &[&str]) -> String {
    let set = layers.settings.iter().find(|one| words.contains(&one.name.as_str()));
    let until = set.and_then(|one| one.layers.get(one.counts_from)?.until);
    until.map_or_else(String::new, |until| format!(", until {}", time(until)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn what_differs_is_told_with_its_nodes_and_who_did_not_acknowledge_it() {
        let compared: SettingsComparison = serde_json::from_value(json!({
            "nodes": 43, "undecidable": 1, "same": ["grace: none"],
            "differing": [{ "word": "mode", "values": [
                { "value": "enforce", "from": ["the group kiosks"], "nodes": 42, "names": ["gate-auken-1", "kiosk-auken-1"] },
                { "value": "observe", "from": ["this node"], "nodes": 1, "names": ["till-auken-1"] },
            ] }],
            "unacknowledged": [{ "node": "kiosk-tern-1", "since": "2026-11-23T06:40:00Z", "next_check_in": "2026-11-23T06:50:00Z" }],
            "unacknowledged_nodes": 1,
        }))
        .unwrap();
        insta::assert_snapshot!(compared_text(&compared), @"
        43 nodes differ in 1 setting
        mode:
          enforce, the group kiosks: 42 nodes   gate-auken-1 kiosk-auken-1 and 40 more
          observe, this node: 1 node   till-auken-1
        the same on all: grace: none
        not compared, without a field of the filter: 1 node
        not acknowledged yet by 1 node:
          kiosk-tern-1  handed out 2026-11-23 06:40:00 UTC; next check-in by 2026-11-23 06:50:00 UTC
        ");
    }
}
