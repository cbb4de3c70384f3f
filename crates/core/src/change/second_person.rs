//! Which changes a second person has to approve.

use super::stages::StageEntry;
use super::{DocumentEdit, DocumentKey};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// Returns what asks for a second person, as `the group gates`, of edits of these documents. A group asks for it if it did before or
/// does after; a stage, if what it serves or it itself is edited. So nobody takes that off alone.
pub fn asks_for_second_person(
    documents: &BTreeMap<DocumentKey, Value>,
    edits: &[DocumentEdit],
) -> BTreeSet<String> {
    let stages = StageEntry::all(documents.get(&DocumentKey::Stages));
    let is_protected = |stage: &str| stages.iter().any(|entry| entry.name == stage && entry.second_person);
    let mut asks = BTreeSet::new();
    for edit in edits {
        let either = || edit.before.iter().chain(&edit.after);
        match &edit.key {
            DocumentKey::Group(name) if either().any(|body| body["second_person"] == true) => {
                asks.extend([format!("the group {name}")]);
            }
            DocumentKey::Served { stage, .. } if is_protected(stage) => {
                asks.extend([format!("the stage {stage}")]);
            }
            DocumentKey::Stages => {
                let [before, after] =
                    [&edit.before, &edit.after].map(|value| StageEntry::all(value.as_ref()));
                let lost = before.into_iter().filter(|entry| entry.second_person && !after.contains(entry));
                asks.extend(lost.map(|entry| format!("the stage {}", entry.name)));
            }
            _ => {}
        }
    }
    asks
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_protected_group_or_stage_asks_also_before_it_is_so_no_longer() {
        let stages = json!(["harbour", { "name": "open-water", "second_person": true }]);
        let documents = BTreeMap::from([(DocumentKey::Stages, stages.clone())]);
        let asks = |key: DocumentKey, before: Value, after: Value| {
            asks_for_second_person(
                &documents,
                &[DocumentEdit { key, before: Some(before), after: Some(after) }],
            )
            .into_iter()
            .collect::<Vec<_>>()
        };
        let group =
            |is_protected: bool| if is_protected { json!({ "second_person": true }) } else { json!({}) };
        let gates = || DocumentKey::Group("gates".into());
        assert_eq!(asks(gates(), group(false), group(false)), [""; 0]);
        assert_eq!(asks(gates(), group(true), group(false)), ["the group gates"]);
        assert_eq!(asks(gates(), group(false), group(true)), ["the group gates"]);
        let served = |stage: &str| DocumentKey::Served { stage: stage.into(), kit: "quay-base".into() };
        assert_eq!(asks(served("harbour"), json!("1.0.0"), json!("1.1.0")), [""; 0]);
        assert_eq!(asks(served("open-water"), json!("1.0.0"), json!("1.1.0")), ["the stage open-water"]);
        assert_eq!(
            asks(DocumentKey::Stages, stages.clone(), json!(["harbour", "open-water"])),
            ["the stage open-water"]
        );
        assert_eq!(asks(DocumentKey::Stages, stages.clone(), json!(["harbour"])), ["the stage open-water"]);
        let moved = json!([{ "name": "open-water", "second_person": true }, "harbour"]);
        assert_eq!(asks(DocumentKey::Stages, stages, moved), [""; 0]);
    }
}
