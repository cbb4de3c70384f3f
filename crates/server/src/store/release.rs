//! Releases and the contents that they are made of.

use super::cursor::{Cursor, PageRange};
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
    sqlx::query_scalar(include_str!("sql/release/lacking.sql")).bind(names).fetch_all(db).await
}

/// Stores contents under their name, once.
pub async fn store_content(
    db: impl PgExecutor<'_>,
    name: &str,
    bytes: &[u8],
    sealed: bool,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/release/store_content.sql"))
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
    sqlx::query_as(include_str!("sql/release/contents.sql")).bind(names).fetch_all(db).await
}

/// Returns one release.
pub async fn find(db: impl PgExecutor<'_>, kit: &str, version: &str) -> sqlx::Result<Option<ReleaseRow>> {
    sqlx::query_as(include_str!("sql/release/find.sql")).bind(kit).bind(version).fetch_optional(db).await
}

impl ReleaseRow {
    /// Its place among all releases.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.published_at.to_jiff(), key: format!("{}@{}", self.kit, self.version) }
    }

    /// Its place among the releases of its kit.
    pub fn cursor_of_kit(&self) -> Cursor {
        Cursor { at: self.published_at.to_jiff(), key: self.version.clone() }
    }
}

/// Returns a page of all releases, the newest first.
pub async fn all(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<ReleaseRow>> {
    range.bind(sqlx::query_as(include_str!("sql/release/all.sql"))).fetch_all(db).await
}

/// Returns a page of the releases of one kit, the newest first.
pub async fn of_kit(db: impl PgExecutor<'_>, range: &PageRange, kit: &str) -> sqlx::Result<Vec<ReleaseRow>> {
    range.bind(sqlx::query_as(include_str!("sql/release/of_kit.sql"))).bind(kit).fetch_all(db).await
}

/// Returns kit, version and requirements of all releases that were not withdrawn: what requirements are solved by.
pub async fn solvable(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(String, String, Value)>> {
    sqlx::query_as(include_str!("sql/release/solvable.sql")).fetch_all(db).await
}

/// Withdraws a release, once.
pub async fn withdraw(
    db: impl PgExecutor<'_>,
    kit: &str,
    version: &str,
    by: &str,
    because: &str,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/release/withdraw.sql"))
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
    sqlx::query_as(include_str!("sql/release/sizes.sql")).bind(names).fetch_all(db).await
}

/// Adds a release.
pub async fn add(db: impl PgExecutor<'_>, row: &ReleaseRow) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/release/add.sql"))
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
