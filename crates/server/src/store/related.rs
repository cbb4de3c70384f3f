//! What nodes had on record of the time in which something drifted.

use crate::clock::sql_now;
use constans_core::run::RelatedRecords;
use sqlx::types::Json;
use sqlx::{PgExecutor, types::Uuid};

/// Stores what a run gathered, by the address of the clause that drifted.
pub async fn store(
    db: impl PgExecutor<'_>,
    node: Uuid,
    run: Uuid,
    gathered: &[(String, Json<RelatedRecords>)],
) -> sqlx::Result<()> {
    if gathered.is_empty() {
        return Ok(());
    }
    let (addresses, bodies): (Vec<&str>, Vec<&Json<RelatedRecords>>) =
        gathered.iter().map(|(address, body)| (address.as_str(), body)).unzip();
    sqlx::query(include_str!("sql/related/store.sql"))
        .bind(node)
        .bind(run)
        .bind(addresses)
        .bind(bodies)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns what a run gathered, by address, as far as it is still kept.
pub async fn of_run(
    db: impl PgExecutor<'_>,
    node: Uuid,
    run: Uuid,
) -> sqlx::Result<Vec<(String, Json<RelatedRecords>)>> {
    sqlx::query_as(include_str!("sql/related/of_run.sql")).bind(node).bind(run).fetch_all(db).await
}
