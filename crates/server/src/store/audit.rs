//! The audit trail: who did what, and when.

use crate::clock::sql_now;
use serde_json::Value;
use sqlx::PgExecutor;

/// Adds an entry. In the transaction of what was done: both are there or neither.
pub async fn add(db: impl PgExecutor<'_>, who: &str, did: &str, subject: &str, detail: &Value) -> sqlx::Result<()> {
    sqlx::query("insert into audit_trail (who, did, subject, detail, at) values ($1, $2, $3, $4, $5)")
        .bind(who)
        .bind(did)
        .bind(subject)
        .bind(detail)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}
