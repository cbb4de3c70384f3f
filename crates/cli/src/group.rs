//! `constans group`.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::ClientError;
use crate::group_document::{set_document, terms, unreadable};
use crate::group_edit::{self, GroupEditCommand};
use crate::group_show::shown_whole;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::group::Group;
use constans_terminal::{count, time};
use constans_wire::group::{GroupListed, GroupShown};
use std::path::PathBuf;

/// Arguments of `group`.
#[derive(Debug, Args)]
pub struct GroupArguments {
    #[command(subcommand)]
    command: GroupCommand,
}

#[derive(Debug, Subcommand)]
enum GroupCommand {
    /// List the groups with their assignments, parameters and settings
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Show a group: its nodes, what it gives them, and what other groups put over that
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The group
        name: String,
    },
    /// Replace a group by a TOML document
    Set {
        #[command(flatten)]
        server: ServerArguments,
        /// The document
        #[arg(value_name = "FILE")]
        document: PathBuf,
        #[command(flatten)]
        options: ChangeOptions,
    },
    /// Remove a group: its nodes no longer receive what it gives
    Remove {
        #[command(flatten)]
        server: ServerArguments,
        /// The group
        name: String,
        #[command(flatten)]
        options: ChangeOptions,
    },
    #[command(flatten)]
    EditOne(GroupEditCommand),
}

/// Lists, shows or edits.
pub async fn run(arguments: &GroupArguments) -> Result<(), ClientError> {
    match &arguments.command {
        GroupCommand::List { server, which } => {
            let server = Server::open(server)?;
            let groups: Vec<GroupListed> = server.get_all(&which.address("/api/groups")).await?;
            if !server.says_json(&groups) {
                groups.iter().for_each(|listed| println!("{}", shown(&listed.group, listed.nodes)));
            }
            Ok(())
        }
        GroupCommand::EditOne(command) => group_edit::run(command).await,
        GroupCommand::Show { server, name } => {
            let server = Server::open(server)?;
            let shown: GroupShown = server.get(&group_edit::path(name)).await?;
            if !server.says_json(&shown) {
                anstream::print!("{}", shown_whole(&shown));
            }
            Ok(())
        }
        GroupCommand::Set { server, document, options } => {
            let file = document.display().to_string();
            let text =
                std::fs::read_to_string(document).map_err(|error| unreadable(&file, &error.to_string()))?;
            set_document(&Server::open(server)?, document, &text, options, None).await
        }
        GroupCommand::Remove { server, name, options } => {
            let server = Server::open(server)?;
            let path = format!("{}?{}", group_edit::path(name), options.query());
            let changed = confirmed(&server, server.delete(&path).await).await?;
            print_changed(&server, &format!("the group {name} is removed"), &changed);
            Ok(())
        }
    }
}

fn shown(group: &Group, nodes: u64) -> String {
    let nodes = count(usize::try_from(nodes).unwrap_or(usize::MAX), "node", "nodes");
    let mut lines = vec![format!("{}  {nodes}  priority {}", group.name, group.priority)];
    lines.extend(group.filter.as_ref().map(|filter| format!("  nodes where {filter}")));
    if !group.nodes.is_empty() {
        lines.push(format!("  named members  {}", group.nodes.iter().cloned().collect::<Vec<_>>().join(" ")));
    }
    if group.second_person {
        lines.push("  changes need a second person".to_owned());
    }
    lines.extend(group.stage.as_ref().map(|stage| format!("  stage {stage}")));
    lines.extend(group.assignments.iter().map(|assignment| {
        format!("  assigned {}/{}{}", assignment.kit, assignment.baseline, terms(assignment))
    }));
    lines.extend(group.parameters.iter().map(|(name, value)| format!("  {name} = {value}")));
    if group.settings != constans_core::settings::GroupSettings::default() {
        lines.push(format!("  settings {}", serde_json::to_string(&group.settings).unwrap_or_default()));
        let ends =
            group.settings_until.iter().map(|(word, end)| format!("  {word} until {}", time(end.until)));
        lines.extend(ends);
    }
    lines.join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_group_is_shown_with_the_terms_of_its_assignments() {
        let group: Group = serde_json::from_value(json!({
            "name": "kiosks", "priority": 20, "filter": "labels.role == 'kiosk'", "nodes": ["bridge-1"], "second_person": true,
            "stage": "harbour",
            "assignments": [
                { "kit": "quay-base", "baseline": "login" },
                { "kit": "kiosk-floor", "baseline": "kiosk-lockdown", "severity": "high", "on_drift": "report",
                  "on_rollout": "apply", "satisfies": ["SL-4"], "change_window": [{ "days": ["mon", "fri"], "from": "22:00", "until": "04:00" }] },
            ],
            "parameters": { "kiosk-floor/kiosk-lockdown.idle_seconds": 45 },
            "settings": { "mode": "enforce" },
        }))
        .unwrap();
        insta::assert_snapshot!(shown(&group, 121), @r#"
        kiosks  121 nodes  priority 20
          nodes where labels.role == 'kiosk'
          named members  bridge-1
          changes need a second person
          stage harbour
          assigned quay-base/login
          assigned kiosk-floor/kiosk-lockdown, severity high, on_drift report, on_rollout apply, satisfies SL-4, corrected only mon fri 22:00–04:00
          kiosk-floor/kiosk-lockdown.idle_seconds = 45
          settings {"mode":"enforce"}
        "#);
        let plain = Group { name: "everyone".to_owned(), ..Group::default() };
        insta::assert_snapshot!(shown(&plain, 1), @"everyone  1 node  priority 0");
    }
}
