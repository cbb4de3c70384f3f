//! Placing new nodes in groups that name their members.

use crate::change::documents::Documents;
use crate::problem::ApiError;
use constans_core::change::{DocumentEdit, DocumentKey, asks_for_second_person};
use constans_core::nearest::nearest_word;
use serde_json::{Value, json};
use std::collections::BTreeSet;

/// Returns the edits by which groups name these nodes; nothing for groups that name them already.
///
/// # Errors
///
/// Returns which group there is not, or which one is changed by two people only.
pub fn naming(
    documents: &Documents,
    groups: &[String],
    names: &BTreeSet<String>,
) -> Result<Vec<DocumentEdit>, ApiError> {
    let mut edits = Vec::new();
    for group in groups.iter().collect::<BTreeSet<_>>() {
        let key = DocumentKey::Group(group.clone());
        let Some(body) = documents.get(&key) else { return Err(no_group(documents, group)) };
        let named =
            body["nodes"].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned);
        let before: BTreeSet<String> = named.collect();
        if names.is_subset(&before) {
            continue;
        }
        let mut after = body.clone();
        after["nodes"] = json!(before.union(names).collect::<BTreeSet<_>>());
        edits.push(DocumentEdit { key, before: Some(body.clone()), after: Some(after) });
    }
    match asks_for_second_person(documents, &edits).into_iter().next() {
        Some(asks) => Err(ApiError::Conflict {
            message: format!("changes of {asks} need a second person, so that nobody is placed in it here"),
            hint: "approve without it; then request the change: constans group members GROUP --add NODE"
                .to_owned(),
        }),
        None => Ok(edits),
    }
}

fn no_group(documents: &Documents, wanted: &str) -> ApiError {
    let known = documents.keys().filter_map(|key| match key {
        DocumentKey::Group(name) => Some(name.as_str()),
        _ => None,
    });
    let near =
        nearest_word(wanted, known).map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
    ApiError::invalid("groups", format!("there is no group {wanted}{near}"))
}
