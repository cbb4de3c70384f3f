//! The documents of desired state, as they are and with the edits of a change.

use super::publish::kit_of;
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::{group, node, release, stage};
use constans_core::change::{DocumentEdit, DocumentKey, NodeDocument, StageEntry};
use constans_core::group::Group;
use constans_core::kit::Kit;
use serde_json::{Value, json};
use sqlx::PgConnection;
use std::collections::BTreeMap;
use std::sync::Arc;
use uuid::Uuid;

/// The documents, each under its key.
pub type Documents = BTreeMap<DocumentKey, Value>;

/// Reads all documents as they are now.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn read_documents(db: &mut PgConnection) -> Result<Documents, ApiError> {
    let group =
        |body: Value| (DocumentKey::Group(body["name"].as_str().unwrap_or_default().to_owned()), body);
    let served = |(stage, kit, version): (String, String, String)| {
        (DocumentKey::Served { stage, kit }, json!(version))
    };
    let stages = (DocumentKey::Stages, json!(stage::all(&mut *db).await?));
    let groups = group::all(&mut *db).await?.into_iter().map(group);
    Ok(std::iter::once(stages)
        .chain(groups)
        .chain(stage::served(db).await?.into_iter().map(served))
        .collect())
}

/// Reads all documents as they are now, and those of the nodes that edits are about.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn read_documents_of(db: &mut PgConnection, edits: &[DocumentEdit]) -> Result<Documents, ApiError> {
    let mut documents = read_documents(&mut *db).await?;
    let nodes = nodes_of(edits);
    if !nodes.is_empty() {
        documents.extend(
            node::documents(db, &nodes)
                .await?
                .into_iter()
                .map(|(id, body)| (DocumentKey::Node(id.to_string()), json!(body))),
        );
    }
    Ok(documents)
}

/// Returns the nodes that edits are about.
pub fn nodes_of(edits: &[DocumentEdit]) -> Vec<Uuid> {
    edits.iter().filter_map(|edit| edit.key.node()?.parse().ok()).collect()
}

/// Stores edits from now on, as those of a change.
///
/// # Errors
///
/// Returns why the database refuses them.
pub async fn store_edits(
    db: &mut PgConnection,
    edits: &[DocumentEdit],
    by: &str,
    change: i64,
) -> sqlx::Result<()> {
    for edit in edits {
        match &edit.key {
            DocumentKey::Stages => stage::set(&mut *db, &StageEntry::all(edit.after.as_ref())).await?,
            DocumentKey::Group(name) => group::set(&mut *db, name, edit.after.as_ref(), by, change).await?,
            DocumentKey::Served { stage, kit } => {
                stage::serve(&mut *db, stage, kit, edit.after.as_ref().and_then(Value::as_str), by, change)
                    .await?;
            }
            DocumentKey::Node(_) => {}
        }
    }
    let (mut edited, mut retired) = (Vec::new(), Vec::new());
    for edit in edits {
        let Some(id) = edit.key.node().and_then(|id| id.parse::<Uuid>().ok()) else { continue };
        match edit.after.clone().map(serde_json::from_value::<NodeDocument>) {
            Some(after) => edited.push((id, after.map_err(|error| sqlx::Error::Decode(error.into()))?)),
            None => retired.push(id),
        }
    }
    if !edited.is_empty() {
        node::edit(&mut *db, &edited).await?;
    }
    if !retired.is_empty() {
        node::retire(db, &retired, change).await?;
    }
    Ok(())
}

/// Returns the names of the stages of their document.
pub fn stages_of(document: Option<&Value>) -> Vec<String> {
    StageEntry::all(document).into_iter().map(|stage| stage.name).collect()
}

/// Reads groups as they are stored. One that cannot be read stops what goes by groups: without it, nodes would be given
/// something else.
///
/// # Errors
///
/// Returns which cannot be read.
pub fn read_groups(stored: Vec<Value>) -> Result<Vec<Group>, ApiError> {
    let name = |body: &Value| body["name"].as_str().unwrap_or_default().to_owned();
    stored.into_iter().map(|body| read_stored(|| format!("group {}", name(&body)), body.clone())).collect()
}

/// The releases that stages serve, and their kits as they were read.
#[derive(Default)]
pub struct Served {
    /// The version of each kit in each stage.
    pub versions: BTreeMap<String, BTreeMap<String, String>>,
    /// The kits by name and version.
    pub kits: BTreeMap<(String, String), Arc<Kit>>,
}

/// Reads the releases that documents serve.
///
/// # Errors
///
/// Returns why the database does not answer, or which release cannot be read.
pub async fn read_served(
    db: &mut PgConnection,
    here: &Here,
    documents: &Documents,
) -> Result<Served, ApiError> {
    let mut all = Served::default();
    for (key, version) in documents {
        let (DocumentKey::Served { stage, kit }, Some(version)) = (key, version.as_str()) else { continue };
        all.versions.entry(stage.clone()).or_default().insert(kit.clone(), version.to_owned());
        let key = (kit.clone(), version.to_owned());
        if !all.kits.contains_key(&key)
            && let Some(row) = release::find(&mut *db, kit, version).await?
            && let Some(kit) = kit_of(db, here, &row).await?
        {
            all.kits.insert(key, kit);
        }
    }
    Ok(all)
}
