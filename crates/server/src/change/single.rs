//! What alters the desired state of one node only: its approval, what it reports about itself.

use super::documents::read_documents;
use super::resolver::Resolver;
use crate::here::Here;
use crate::problem::ApiError;
use crate::store::change::{self, NewChange};
use crate::store::{fleet, wanted};
use constans_core::change::Impact;
use serde_json::json;
use sqlx::{Connection as _, PgConnection, PgPool};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Why the desired state of one node is resolved again.
pub struct Occasion<'a> {
    /// Its kind: `join` or `reported`.
    pub kind: &'a str,
    /// What happened, in words.
    pub what: &'a str,
    /// Who did it.
    pub who: &'a str,
}

/// Resolves one node, in a transaction that has the shared lock of the desired state, and gives it what it comes to, as a
/// change of its own if that differs.
///
/// # Errors
///
/// Returns why documents or the node could not be read or stored.
pub async fn resolve_single(
    db: &mut PgConnection,
    here: &Here,
    node: Uuid,
    occasion: &Occasion<'_>,
) -> Result<(), ApiError> {
    let documents = read_documents(&mut *db).await?;
    let mut resolver = Resolver::new(&mut *db, here, documents, None).await?;
    resolve_one(db, here, &mut resolver, node, occasion).await
}

/// The same by documents that are read already.
///
/// # Errors
///
/// Returns why the node could not be read or stored.
pub async fn resolve_one(
    db: &mut PgConnection,
    here: &Here,
    resolver: &mut Resolver,
    node: Uuid,
    occasion: &Occasion<'_>,
) -> Result<(), ApiError> {
    let began = Instant::now();
    wanted::lock_node(&mut *db, node).await?;
    let before = wanted::node_views(&mut *db, &[node]).await?;
    let rows = resolver.resolve(&mut *db, here, before).await?;
    let altered = rows.into_iter().next().filter(|row| row.is_altered);
    wanted::set_resolved(&mut *db, node, altered.is_some()).await?;
    here.metrics.resolving.observe(began.elapsed().as_secs_f64());
    let Some(row) = altered else { return Ok(()) };
    let fleet = fleet::read(&mut *db).await?;
    let impact = json!(Impact { nodes: u64::from(row.is_new), ..Impact::default() });
    let new = NewChange {
        kind: occasion.kind,
        what: occasion.what,
        who: occasion.who,
        because: None,
        edits: &json!([]),
        although_unusable: true,
        is_preview: false,
        is_request: false,
        confirmed: None,
        goes_back: None,
        epoch: fleet.epoch,
        status: "handed_out",
        request_key: None,
        rollout: None,
        of_rollout: None,
    };
    let no = change::add(&mut *db, &new).await?;
    change::set_nodes(&mut *db, no, &[row], &[]).await?;
    change::hand_out(&mut *db, no, fleet.epoch).await?;
    Ok(change::set_impact(db, no, &impact).await?)
}

/// How often it is looked for nodes whose word about themselves came during a hand-out.
const EVERY: Duration = Duration::from_secs(1);

/// Resolves nodes whose word about themselves came while a hand-out went on.
pub async fn resolve_pending(db: PgPool, here: std::sync::Arc<Here>) {
    loop {
        tokio::time::sleep(EVERY).await;
        if let Err(error) = resolve_all_pending(&db, &here).await {
            tracing::warn!(%error, "what nodes said about themselves is not resolved yet");
        }
    }
}

async fn resolve_all_pending(db: &PgPool, here: &Here) -> Result<(), ApiError> {
    for node in wanted::pending(db).await? {
        let mut connection = db.acquire().await?;
        let mut transaction = connection.begin().await?;
        if !fleet::try_share(&mut *transaction).await? {
            return Ok(());
        }
        let occasion = Occasion {
            kind: "reported",
            what: "the node reported something else about itself",
            who: "the node",
        };
        resolve_single(&mut transaction, here, node, &occasion).await?;
        transaction.commit().await?;
    }
    Ok(())
}
