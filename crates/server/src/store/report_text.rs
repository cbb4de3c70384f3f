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
    sqlx::query("insert into report_text (digest, body, added_at) select *, $3 from unnest($1::text[], $2::text[]) on conflict do nothing")
        .bind(digests)
        .bind(bodies)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns texts by their digests.
pub async fn find(db: impl PgExecutor<'_>, digests: &[String]) -> sqlx::Result<Vec<(String, String)>> {
    sqlx::query_as("select digest, body from report_text where digest = any($1)")
        .bind(digests)
        .fetch_all(db)
        .await
}
