//! `constans kit uses`: where a baseline is used.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::nearest::nearest_word;
use constans_core::settings::NODE_ITSELF;
use constans_terminal::{count, harmless};
use constans_wire::group::BaselineListed;

/// Arguments of `kit uses`.
#[derive(Debug, Args)]
pub struct UsesArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// A kit or one of its baselines, for example kiosk-floor/kiosk-lockdown
    #[arg(value_name = "KIT[/BASELINE]")]
    baseline: String,
}

/// Shows by which assignments nodes are given a baseline, also by others that include it.
pub async fn run(arguments: &UsesArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let wanted = &arguments.baseline;
    let mut all: Vec<BaselineListed> = server.get("/api/baselines").await?;
    let names: Vec<String> = all.iter().flat_map(|one| [one.kit.clone(), name_of(one)]).collect();
    all.retain(|one| one.kit == *wanted || name_of(one) == *wanted);
    if all.is_empty() {
        let near = nearest_word(wanted, names.iter().map(String::as_str));
        let hint = near.map_or_else(
            || "constans kit list shows what is published".to_owned(),
            |near| format!("did you mean `{near}`?"),
        );
        return Err(ClientError::new(format!("no published kit or baseline is called {wanted}"), hint));
    }
    if !server.says_json(&all) {
        all.iter().for_each(|one| println!("{}", shown(one)));
    }
    Ok(())
}

fn name_of(one: &BaselineListed) -> String {
    format!("{}/{}", one.kit, one.baseline)
}

fn shown(one: &BaselineListed) -> String {
    let name = name_of(one);
    let mut lines = vec![format!("{name}   {}", harmless(&one.summary))];
    for given in &one.given_by {
        let nodes = count(usize::try_from(given.nodes).unwrap_or(usize::MAX), "node", "nodes");
        let by = if given.group == NODE_ITSELF {
            "by themselves".to_owned()
        } else {
            format!("by the group {}", given.group)
        };
        let through =
            if given.assigned == name { String::new() } else { format!(", included by {}", given.assigned) };
        lines.push(format!("   {nodes} {by}{through}"));
    }
    let without: Vec<&str> = one
        .assigned_by
        .iter()
        .filter(|group| !one.given_by.iter().any(|given| given.group == **group))
        .map(String::as_str)
        .collect();
    if !without.is_empty() {
        lines.push(format!(
            "   assigned to no node by {}: it has none, or their stage serves no release",
            without.join(", ")
        ));
    }
    if one.given_by.is_empty() && without.is_empty() {
        lines.push("   used nowhere".to_owned());
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::json;

    #[test]
    fn a_baseline_shows_who_is_given_it_and_through_which_others() {
        let whole = json!({
            "kit": "quay-base", "version": "1.4.0", "baseline": "login", "summary": "Who may sign in", "clauses": 6, "severity": "high",
            "assigned_by": ["everyone", "gates"], "given_by": [
                { "group": "everyone", "assigned": "quay-base/login", "nodes": 206 },
                { "group": "kiosks", "assigned": "kiosk-floor/kiosk-lockdown", "nodes": 1 },
                { "group": "this node", "assigned": "quay-base/login", "nodes": 2 }],
        });
        let one = |over| shown(&answered(whole.clone(), &over));
        insta::assert_snapshot!(one(json!({})), @"
        quay-base/login   Who may sign in
           206 nodes by the group everyone
           1 node by the group kiosks, included by kiosk-floor/kiosk-lockdown
           2 nodes by themselves
           assigned to no node by gates: it has none, or their stage serves no release
        ");
        insta::assert_snapshot!(one(json!({ "assigned_by": [], "given_by": [] })), @"
        quay-base/login   Who may sign in
           used nowhere
        ");
    }
}
