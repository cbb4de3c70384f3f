//! What nodes have by themselves and what groups set for a time: when it is over, a change takes it away.

use super::documents::read_groups;
use super::draft::{Draft, queue};
use super::resolver::read_overlays;
use crate::clock::now;
use crate::here::Here;
use crate::problem::ApiError;
use crate::store::{change, group, node, recovery};
use constans_core::change::{Confirmed, DocumentEdit, DocumentKey, NodeDocument};
use constans_core::rollout::overlapping;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::sync::Arc;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(15);
/// Who asks for the change.
const SERVER: &str = "the server";
/// This many groups and nodes are edited by one change.
const MAX_DOCUMENTS: usize = 1_000;

/// Goes on ending values whose time is over.
pub async fn keep_ending(db: PgPool, here: Arc<Here>) {
    loop {
        match end(&db).await {
            Ok(false) => {}
            Ok(true) => here.nudge.nudge(),
            Err(error) => {
                tracing::warn!(%error, "what was given for a time that is over is not taken away yet");
            }
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Queues a change that takes away the values and settings whose time is over. Returns whether there are any.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn end(db: &PgPool) -> Result<bool, ApiError> {
    let mut transaction = db.begin().await?;
    if recovery::since(&mut *transaction).await?.is_some()
        || change::is_editing_nodes(&mut *transaction, SERVER).await?
    {
        return Ok(false);
    }
    let now = now();
    let groups = read_groups(group::with_ends(&mut *transaction).await?)?.into_iter().filter_map(|before| {
        let after = before.ended(now)?;
        Some(edit(DocumentKey::Group(before.name.clone()), json!(before), json!(after)))
    });
    let nodes = node::with_ending_values(&mut *transaction).await?.into_iter().filter_map(|(id, before)| {
        let after = NodeDocument { own: before.own.ended(now)?, ..before.clone() };
        Some(edit(DocumentKey::Node(id.to_string()), json!(before), json!(after)))
    });
    // Until a rollout is over, nothing else edits its documents.
    let overlays = read_overlays(&mut transaction).await?;
    let is_free = |edit: &DocumentEdit| overlapping(std::slice::from_ref(edit), &overlays).is_none();
    let ended: Vec<DocumentEdit> = groups.chain(nodes).filter(is_free).take(MAX_DOCUMENTS).collect();
    if ended.is_empty() {
        return Ok(false);
    }
    let what = match ended.as_slice() {
        [one] => format!("end what the {} was given for a time", one.title()),
        several => format!("end what {} groups and nodes were given for a time", several.len()),
    };
    let draft = Draft {
        kind: "node",
        what,
        who: SERVER,
        because: Some("the time for which it was given is over"),
        edits: ended,
        // A node that cannot be resolved without them is shown as such; the others are not kept waiting for it.
        although_unusable: true,
        is_preview: false,
        is_request: false,
        // Who gave them said until when.
        confirmed: Some(Confirmed { takes_from: u64::MAX, ..Confirmed::default() }),
        goes_back: None,
        unless_changed_after: None,
        request_key: None,
        rollout: None,
        of_rollout: None,
    };
    queue(&mut transaction, &draft).await?;
    transaction.commit().await?;
    Ok(true)
}

fn edit(key: DocumentKey, before: Value, after: Value) -> DocumentEdit {
    DocumentEdit { key, before: Some(before), after: Some(after) }
}
