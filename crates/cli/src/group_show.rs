//! A group in words.

use crate::group_document::terms;
use constans_core::group::{AssignmentView, GivenBy, GroupMembers, ParameterView, SettingView};
use constans_terminal::{count, harmless, time};
use constans_wire::group::GroupShown;
use serde_json::Value;
use std::fmt::Write as _;

/// This many names are written before the rest is only counted.
const MAX_NAMES: usize = 8;

/// Returns a group with all that it gives its nodes.
pub fn shown_whole(shown: &GroupShown) -> String {
    let group = &shown.group;
    let mut text =
        format!("{}  priority {} (a higher one is put over a lower one)", group.name, group.priority);
    if let Some(stage) = &group.stage {
        let _ = write!(text, "  stage {}", harmless(stage));
    }
    if group.second_person {
        text += "  changes need a second person";
    }
    text += "\n";
    if let Some(changed) = &shown.changed {
        let because = changed.because.as_ref().map(|why| format!(": {}", harmless(why))).unwrap_or_default();
        let _ = writeln!(
            text,
            "changed by C{}, {}, {}{because}",
            changed.no,
            harmless(&changed.who),
            time(changed.at)
        );
    }
    text += "\n";
    members(&mut text, group.filter.as_deref(), &shown.members);
    text += "\nassigned, in this order\n";
    if shown.view.assignments.is_empty() {
        text += "  nothing\n";
    }
    for (at, (assignment, view)) in group.assignments.iter().zip(&shown.view.assignments).enumerate() {
        let _ = writeln!(
            text,
            "  {} {}/{}  {}{}",
            at + 1,
            view.kit,
            view.baseline,
            count(number(view.clauses), "clause", "clauses"),
            terms(assignment)
        );
        releases(&mut text, view);
    }
    if !shown.view.parameters.is_empty() {
        text += "\nparameters\n";
    }
    shown.view.parameters.iter().for_each(|parameter| self::parameter(&mut text, parameter));
    text += "\nsettings\n";
    settings(&mut text, &shown.view.settings);
    text
}

fn number(count: u64) -> usize {
    usize::try_from(count).unwrap_or(usize::MAX)
}

fn members(text: &mut String, filter: Option<&str>, members: &GroupMembers) {
    match filter {
        Some(filter) => drop(writeln!(text, "nodes    {} where {}", members.nodes, harmless(filter))),
        None => drop(writeln!(text, "nodes    {}", members.nodes)),
    }
    if !members.names.is_empty() {
        let _ = writeln!(text, "         {}", some(&members.names, members.nodes));
    }
    if !members.only_named.is_empty() {
        let named = some(&members.only_named, members.only_named.len() as u64);
        let _ = writeln!(text, "         by name only: {named}");
    }
    if !members.no_nodes.is_empty() {
        let missing = some(&members.no_nodes, members.no_nodes.len() as u64);
        let _ = writeln!(text, "         named, and no nodes: {missing}");
    }
    for node in members.undecidable_nodes.iter().take(MAX_NAMES) {
        let _ = writeln!(
            text,
            "         {} cannot be told: it did not report {}",
            harmless(&node.name),
            harmless(&node.missing.join(", "))
        );
    }
    let left = number(members.undecidable).saturating_sub(MAX_NAMES);
    if left > 0 {
        let _ = writeln!(text, "         and {left} more cannot be told");
    }
}

fn some(names: &[String], of: u64) -> String {
    let listed: Vec<String> = names.iter().take(MAX_NAMES).map(|name| harmless(name)).collect();
    let more = number(of).saturating_sub(listed.len());
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{more}", listed.join(", "))
}

fn releases(text: &mut String, view: &AssignmentView) {
    for served in &view.served {
        let nodes = count(number(served.nodes), "node", "nodes");
        let _ = match &served.version {
            Some(version) => writeln!(text, "      {version} in {} for {nodes}", harmless(&served.stage)),
            None => writeln!(
                text,
                "      nothing in {}, whose {nodes} cannot be resolved: constans stage serve {} {}@VERSION",
                harmless(&served.stage),
                harmless(&served.stage),
                view.kit
            ),
        };
    }
    let is_served =
        |version: &String| view.served.iter().any(|served| served.version.as_ref() == Some(version));
    match &view.newest {
        Some(newest) if !is_served(newest) => drop(writeln!(text, "      {newest} is the newest release")),
        None => text.push_str("      no release of it is published\n"),
        Some(_) => {}
    }
    for also in &view.also_by {
        let nodes = count(number(also.nodes), "node", "nodes");
        let _ = writeln!(text, "      assigned by {} too, to {nodes} of these", harmless(&also.group));
    }
}

fn value(value: &Value) -> String {
    harmless(&value.to_string())
}

fn others(text: &mut String, below: &[GivenBy], above: &[GivenBy]) {
    let over = above.iter().map(|given| (given, "is put over it by"));
    for (given, how) in over.chain(below.iter().map(|given| (given, "below it by"))) {
        let _ = writeln!(
            text,
            "      {} {how} {} (priority {}), for {}",
            harmless(&given.words),
            harmless(&given.group),
            given.priority,
            count(number(given.nodes), "node", "nodes")
        );
    }
}

fn parameter(text: &mut String, parameter: &ParameterView) {
    let _ = match (&parameter.value, &parameter.default) {
        (Some(given), _) => writeln!(text, "  {} = {}", parameter.name, value(given)),
        (None, Some(default)) => writeln!(text, "  {} = {}, the default", parameter.name, value(default)),
        (None, None) => writeln!(text, "  {} has no value here and no default", parameter.name),
    };
    if parameter.is_declared {
        let note = parameter.note.as_ref().map(|note| format!(": {}", harmless(note))).unwrap_or_default();
        let default = match (&parameter.value, &parameter.default) {
            (Some(_), Some(default)) => format!("; the default is {}", value(default)),
            _ => String::new(),
        };
        let _ = writeln!(text, "      takes {}{default}{note}", harmless(&parameter.takes));
    } else {
        text.push_str("      is not declared by the newest release\n");
    }
    others(text, &parameter.below, &parameter.above);
}

fn settings(text: &mut String, settings: &[SettingView]) {
    let is_set = |setting: &&SettingView| {
        setting.words.is_some() || !setting.below.is_empty() || !setting.above.is_empty()
    };
    for setting in settings.iter().filter(is_set) {
        let _ = match &setting.words {
            Some(words) => {
                let until = setting.until.map(|until| format!(", until {}", time(until))).unwrap_or_default();
                writeln!(text, "  {:<19}{}{until}", setting.word, harmless(words))
            }
            None => writeln!(text, "  {:<19}not set here; usually {}", setting.word, setting.usual),
        };
        others(text, &setting.below, &setting.above);
    }
    let usual: Vec<&str> =
        settings.iter().filter(|setting| !is_set(setting)).map(|setting| setting.word.as_str()).collect();
    if !usual.is_empty() {
        let _ = writeln!(text, "  as usual, since no group of these nodes sets it: {}", usual.join(", "));
    }
}
