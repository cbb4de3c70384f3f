//! The document of a group: set, and the terms of its assignments in words.

use crate::change::{ChangeOptions, confirmed, print_changed};
use crate::error::{ClientError, harmless_lines};
use crate::server::Server;
use constans_core::group::{Assignment, Group, GroupFinding};
use constans_terminal::harmless;
use constans_wire::kit::Changed;
use serde_json::{Value, json};
use std::path::Path;

/// Says that a group's document cannot be read.
pub fn unreadable(file: &str, because: &str) -> ClientError {
    ClientError::new(
        format!("{file}: {because}"),
        "a group's document has name, priority, filter, nodes, stage, second_person, [[assignments]], [parameters], [settings]",
    )
}

/// Sets a group by the text of its document; only the group of this name, if one is expected.
pub async fn set_document(
    server: &Server,
    document: &Path,
    text: &str,
    options: &ChangeOptions,
    expected: Option<&str>,
) -> Result<(), ClientError> {
    let file = document.display().to_string();
    let group: Group = toml::from_str(text).map_err(|error| unreadable(&file, &error.to_string()))?;
    if let Some(expected) = expected.filter(|expected| *expected != group.name) {
        return Err(ClientError::new(
            format!("{file}: the name is {}, and the group is {expected}", harmless(&group.name)),
            "a group keeps its name; make another one with `constans group set FILE`",
        ));
    }
    let answered: Result<Changed, ClientError> =
        server.put(&format!("/api/groups?{}", options.query()), &group).await;
    // What the check warns of may be why clauses are taken: it comes before the question.
    let warnings: Vec<GroupFinding> = match &answered {
        Ok(changed) => changed.findings.clone(),
        Err(error) if error.unconfirmed_change().is_some() => error.findings().to_vec(),
        Err(_) => Vec::new(),
    };
    warnings.iter().for_each(|finding| {
        anstream::eprintln!("{}", harmless_lines(&finding.explain(&file, text)));
    });
    let changed = confirmed(server, answered).await.map_err(|error| error.in_document(&file, text))?;
    print_changed(server, &format!("the group {} is set", group.name), &changed);
    Ok(())
}

/// Returns the settings of an assignment for its clauses, after a comma each.
pub fn terms(assignment: &Assignment) -> String {
    let word = |value: Value| value.as_str().unwrap_or_default().to_owned();
    let mut all: Vec<String> = Vec::new();
    all.extend(assignment.severity.map(|severity| format!("severity {}", word(json!(severity)))));
    all.extend(assignment.on_drift.map(|on_drift| format!("on_drift {}", word(json!(on_drift)))));
    all.extend(assignment.on_rollout.map(|on_rollout| format!("on_rollout {}", word(json!(on_rollout)))));
    if !assignment.satisfies.is_empty() {
        all.push(format!("satisfies {}", assignment.satisfies.iter().cloned().collect::<Vec<_>>().join(" ")));
    }
    if !assignment.change_window.is_empty() {
        all.push(format!(
            "corrected only {}",
            assignment.change_window.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")
        ));
    }
    all.iter().map(|term| format!(", {term}")).collect()
}
