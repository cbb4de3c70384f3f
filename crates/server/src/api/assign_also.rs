//! Baselines that groups are assigned by the change that serves their kits.

use super::group::find;
use crate::change::documents::read_documents;
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use constans_core::change::{DocumentEdit, DocumentKey, GroupEdit, TermsEdit};
use constans_core::group::Group;
use constans_wire::kit::AssignAlso;
use serde_json::json;
use sqlx::PgConnection;
use std::collections::BTreeSet;

/// This many assignments are made with a release at once.
const MAX_ASSIGNED: usize = 100;

/// Returns the edits by which groups are assigned baselines; of those that assign them already nothing is edited.
pub(super) async fn assigning_edits(
    db: &mut PgConnection,
    here: &Here,
    assign: &[AssignAlso],
) -> Result<Vec<DocumentEdit>, ApiError> {
    if assign.len() > MAX_ASSIGNED {
        return Err(ApiError::invalid(
            "assign",
            format!("at most {MAX_ASSIGNED} baselines are assigned at once"),
        ));
    }
    let names: BTreeSet<&String> = assign.iter().map(|one| &one.group).collect();
    let mut documents = read_documents(&mut *db).await?;
    let mut edits = Vec::new();
    for name in names {
        let missing = || ApiError::Missing { what: "group", name: name.clone() };
        let key = DocumentKey::Group(name.clone());
        let body = documents.remove(&key).ok_or_else(missing)?;
        let before: Group = read_stored(|| format!("group {name}"), body.clone())?;
        let new = assign.iter().filter(|one| one.group == *name && !before.assigns(&one.kit, &one.baseline));
        let new: Vec<GroupEdit> = new
            .map(|AssignAlso { kit, baseline, .. }| GroupEdit::Assign {
                kit: kit.clone(),
                baseline: baseline.clone(),
                terms: TermsEdit::default(),
                place: None,
            })
            .collect();
        if new.is_empty() {
            continue;
        }
        let after = before.edited(&new).map_err(|error| ApiError::invalid("assign", error.to_string()))?;
        let findings = find(&mut *db, here, &after).await?;
        if findings.iter().any(|finding| finding.is_error) {
            return Err(ApiError::Group { of: format!("the group {name}"), findings });
        }
        edits.push(DocumentEdit { key, before: Some(body), after: Some(json!(after)) });
    }
    Ok(edits)
}
