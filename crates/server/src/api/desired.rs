//! The desired state as one document, for version control.

use super::change::{ask, draft_of, repeated};
use super::group::{Around, check_form};
use super::stage::{check_releases, check_requirements};
use crate::body::JsonBody;
use crate::change::documents::read_documents;
use crate::here::Here;
use crate::problem::{Answer, ApiError};
use crate::trust::{Allowed, DesiredImport, MayAsk, NodeRead};
use constans_core::change::{DocumentEdit, DocumentKey, WholeDocument};
use constans_wire::desired::ImportDesired;
use constans_wire::kit::Changed;
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::Value;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeMap;
use std::sync::Arc;

/// This many stages and groups a document has at most.
const MAX_STAGES: usize = 100;
const MAX_GROUPS: usize = 1_000;

/// Stages with what they serve, and groups with what they give.
#[utoipa::path(tag = "changes", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = WholeDocument)))]
#[get("/api/desired")]
pub async fn export(_caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<WholeDocument> {
    let documents = read_documents(&mut *db.acquire().await?).await?;
    let whole = WholeDocument::of(&documents);
    whole.map(Json).map_err(|because| ApiError::stored("desired state", &because))
}

/// Makes the desired state as a document says, as one change: what it does not have goes, what is so already stays untouched.
#[utoipa::path(tag = "changes", security(("token" = ["desired.import"]), ("session" = ["desired.import"]), ("token" = ["change.request"]), ("session" = ["change.request"])), request_body = ImportDesired, responses((status = 200, body = Changed)))]
#[post("/api/desired", data = "<wanted>")]
pub async fn import(
    wanted: JsonBody<ImportDesired>,
    caller: MayAsk<DesiredImport>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let asker = &caller.asker;
    if let Some(changed) = repeated(db, here, asker).await? {
        return Ok(Json(changed));
    }
    let ImportDesired { document, how } = &wanted.0;
    if document.stages.len() > MAX_STAGES || document.groups.len() > MAX_GROUPS {
        let most = format!("at most {MAX_STAGES} stages and {MAX_GROUPS} groups");
        return Err(ApiError::invalid("document", most));
    }
    let mut connection = db.acquire().await?;
    let documents = read_documents(&mut connection).await?;
    let edits =
        document.edits(&documents).map_err(|wrong| ApiError::invalid("document", wrong.join("\n")))?;
    if edits.is_empty() {
        return Err(ApiError::Conflict {
            message: "the desired state is as the document says already".to_owned(),
            hint: "nothing to do".to_owned(),
        });
    }
    check(&mut connection, here, document, &edits).await?;
    drop(connection);
    let what = format!("import the desired state: {}", titles(&edits));
    ask(db, here, &draft_of("desired", what, edits, how, asker)).await
}

/// This many documents are named in what a change is called.
const MAX_TITLES: usize = 5;

fn titles(edits: &[DocumentEdit]) -> String {
    let mut named: Vec<String> = edits.iter().take(MAX_TITLES).map(DocumentEdit::title).collect();
    if edits.len() > MAX_TITLES {
        named.push(format!("{} more", edits.len() - MAX_TITLES));
    }
    named.join(", ")
}

/// Checks what is edited as strictly as if it were edited by itself.
async fn check(
    db: &mut PgConnection,
    here: &Here,
    document: &WholeDocument,
    edits: &[DocumentEdit],
) -> Result<(), ApiError> {
    let is_edited = |key: DocumentKey| edits.iter().any(|edit| edit.key == key);
    for stage in &document.stages {
        let served: BTreeMap<String, String> = stage
            .serves
            .iter()
            .filter_map(|release| release.split_once('@'))
            .map(|(kit, version)| (kit.to_owned(), version.to_owned()))
            .collect();
        let of_stage = |edit: &&DocumentEdit| matches!(&edit.key, DocumentKey::Served { stage: of, .. } if *of == stage.name);
        let new: Vec<String> = edits
            .iter()
            .filter(of_stage)
            .filter_map(|edit| match (&edit.key, edit.after.as_ref().and_then(Value::as_str)) {
                (DocumentKey::Served { kit, .. }, Some(version)) => Some(format!("{kit}@{version}")),
                _ => None,
            })
            .collect();
        check_releases(&mut *db, &new).await?;
        if edits.iter().any(|edit| of_stage(&edit)) {
            check_requirements(&mut *db, &stage.name, &served, &new).await?;
        }
    }
    let stages: Vec<String> = document.stages.iter().map(|stage| stage.name.clone()).collect();
    let around = Around::read(&mut *db, Some(stages)).await?;
    for group in &document.groups {
        // A stage that goes may be one that a group names which is not edited itself.
        if is_edited(DocumentKey::Group(group.name.clone())) || is_edited(DocumentKey::Stages) {
            check_form(group)?;
            let findings = around.find(&mut *db, here, group).await?;
            if findings.iter().any(|finding| finding.is_error) {
                return Err(ApiError::Group { of: format!("the group {}", group.name), findings });
            }
        }
    }
    Ok(())
}
