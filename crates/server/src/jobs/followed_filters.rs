//! Filters that are followed: which nodes concessions cover and scopes of controls select, brought up to date. Concessions that end soon
//! are announced.

use super::waker::Waker;
use crate::followed::{nodes_of, put_in_scopes};
use crate::problem::ApiError;
use crate::store::{audit, concession, control};
use serde_json::json;
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(60);
/// Who announces in the audit trail.
const SERVER: &str = "the server";

/// Goes on following and announcing.
pub async fn keep_following(db: PgPool, waker: Waker) {
    loop {
        match follow(&db).await {
            Ok(false) => {}
            Ok(true) => waker.wake("nodes"),
            Err(error) => {
                tracing::warn!(%error, "which nodes concessions cover and scopes select is not up to date yet");
            }
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Has each concession cover, and each scope select, the nodes that match its filter now, and announces concessions that end soon.
/// Returns whether anything is other than before.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn follow(db: &PgPool) -> Result<bool, ApiError> {
    let mut is_altered = follow_scopes(db).await?;
    for (no, filter) in concession::followed(db).await? {
        let mut transaction = db.begin().await?;
        let nodes = match nodes_of(&mut transaction, &filter).await {
            Ok(nodes) => nodes,
            // It covers what it covered; the others go on.
            Err(error @ ApiError::Filter { .. }) => {
                tracing::warn!(%error, "the filter of D{no} cannot be evaluated");
                continue;
            }
            Err(error) => return Err(error),
        };
        if concession::cover(&mut transaction, no, &nodes).await? > 0 {
            concession::follow_freeze(&mut *transaction, no).await?;
            is_altered = true;
        }
        transaction.commit().await?;
    }
    let mut transaction = db.begin().await?;
    for row in concession::announce(&mut *transaction).await? {
        let detail = json!({
            "concession": row.no, "clauses": row.clauses, "until": row.until_at.to_jiff(), "asked_by": row.asked_by, "approved_by": row.decided_by,
        });
        audit::add(
            &mut *transaction,
            SERVER,
            "announced that a concession ends soon",
            &format!("D{}", row.no),
            &detail,
        )
        .await?;
        is_altered = true;
    }
    transaction.commit().await?;
    Ok(is_altered)
}

async fn follow_scopes(db: &PgPool) -> Result<bool, ApiError> {
    let mut transaction = db.begin().await?;
    // Who sets the catalogue meanwhile puts nodes into its scopes.
    control::lock(&mut *transaction).await?;
    let altered = put_in_scopes(&mut transaction).await?;
    transaction.commit().await?;
    Ok(altered > 0)
}
