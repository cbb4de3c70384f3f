//! Releases and the contents that they are made of.

use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
use sqlx::PgExecutor;

/// A published release.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ReleaseRow {
    /// The kit.
    pub kit: String,
    /// Its version.
    pub version: String,
    /// Over all its files.
    pub digest: String,
    /// What it is for.
    pub summary: String,
    /// The kits that it requires, with SemVer requirements.
    pub requires: Value,
    /// Pairs of path and content name.
    pub files: Value,
    /// Who published it.
    pub published_by: String,
    /// When.
    pub published_at: SqlTimestamp,
    /// When it was withdrawn.
    #[sqlx(default)]
    pub withdrawn_at: Option<SqlTimestamp>,
    /// Who did it.
    #[sqlx(default)]
    pub withdrawn_by: Option<String>,
    /// Why.
    #[sqlx(default)]
    pub withdrawn_because: Option<String>,
}

/// Returns which of these contents are not stored.
pub async fn lacking(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar("select distinct name from unnest($1::text[]) as name where not exists (select 1 from content where content.name = name.name)")
        .bind(names)
        .fetch_all(db)
        .await
}

/// Stores contents under their name, once.
pub async fn store_content(
    db: impl PgExecutor<'_>,
    name: &str,
    bytes: &[u8],
    sealed: bool,
) -> sqlx::Result<()> {
    sqlx::query("insert into content (name, bytes, sealed, added_at) values ($1, $2, $3, $4) on conflict (name) do nothing")
        .bind(name)
        .bind(bytes)
        .bind(sealed)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns contents by their names.
pub async fn contents(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<(String, Vec<u8>)>> {
    sqlx::query_as("select name, bytes from content where name = any($1)").bind(names).fetch_all(db).await
}

/// Returns one release.
pub async fn find(db: impl PgExecutor<'_>, kit: &str, version: &str) -> sqlx::Result<Option<ReleaseRow>> {
    sqlx::query_as("select * from release where kit = $1 and version = $2")
        .bind(kit)
        .bind(version)
        .fetch_optional(db)
        .await
}

/// Returns all releases, the newest first; at most 1,000.
pub async fn all(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<ReleaseRow>> {
    sqlx::query_as("select * from release order by published_at desc limit 1000").fetch_all(db).await
}

/// Returns the releases of one kit, the newest first; at most 1,000.
pub async fn of_kit(db: impl PgExecutor<'_>, kit: &str) -> sqlx::Result<Vec<ReleaseRow>> {
    sqlx::query_as("select * from release where kit = $1 order by published_at desc limit 1000")
        .bind(kit)
        .fetch_all(db)
        .await
}

/// Returns kit, version and requirements of all releases that were not withdrawn: what requirements are solved by.
pub async fn solvable(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, String, Value)>> {
    sqlx::query_as("select kit, version, requires from release where withdrawn_at is null")
        .fetch_all(db)
        .await
}

/// Withdraws a release, once.
pub async fn withdraw(
    db: impl PgExecutor<'_>,
    kit: &str,
    version: &str,
    by: &str,
    because: &str,
) -> sqlx::Result<()> {
    sqlx::query(
        "update release set withdrawn_at = $5, withdrawn_by = $3, withdrawn_because = $4
         where kit = $1 and version = $2 and withdrawn_at is null",
    )
    .bind(kit)
    .bind(version)
    .bind(by)
    .bind(because)
    .bind(sql_now())
    .execute(db)
    .await
    .map(|_| ())
}

/// Returns the sizes of contents by their names.
pub async fn sizes(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<(String, i64)>> {
    sqlx::query_as("select name, octet_length(bytes)::bigint from content where name = any($1)")
        .bind(names)
        .fetch_all(db)
        .await
}

/// Adds a release.
pub async fn add(db: impl PgExecutor<'_>, row: &ReleaseRow) -> sqlx::Result<()> {
    sqlx::query(
        "insert into release (kit, version, digest, summary, requires, files, published_by, published_at) values ($1, $2, $3, $4, $5, $6, $7, $8)",
    )
    .bind(&row.kit)
    .bind(&row.version)
    .bind(&row.digest)
    .bind(&row.summary)
    .bind(&row.requires)
    .bind(&row.files)
    .bind(&row.published_by)
    .bind(row.published_at)
    .execute(db)
    .await
    .map(|_| ())
}
