//! Long texts of reports, each stored once by its digest.

use crate::clock::sql_now;
use sqlx::PgExecutor;
use std::collections::BTreeMap;

/// Stores texts that are not stored yet.
pub async fn store(db: impl PgExecutor<'_>, texts: &BTreeMap<String, String>) -> sqlx::Result<()> {
    if texts.is_empty() {
        return Ok(());
    }
    let (digests, bodies): (Vec<&str>, Vec<&str>) =
        texts.iter().map(|(digest, body)| (digest.as_str(), body.as_str())).unzip();
    sqlx::query(include_str!("sql/report_text/store.sql"))
        .bind(digests)
        .bind(bodies)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns texts by their digests.
pub async fn find(db: impl PgExecutor<'_>, digests: &[String]) -> sqlx::Result<Vec<(String, String)>> {
    sqlx::query_as(include_str!("sql/report_text/find.sql")).bind(digests).fetch_all(db).await
}
