//! The packages by which the agent is installed, and the files that install them.

use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::PgExecutor;

/// A package, without its contents.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct PackageRow {
    /// Its SHA-256, in hexadecimal digits.
    pub sha256: String,
    /// Its version.
    pub version: String,
    /// `deb` or `rpm`.
    pub format: String,
    /// The processors that it is for.
    pub architecture: String,
    /// The oldest C library that it works with.
    pub glibc: String,
    /// Its size.
    pub bytes: i64,
    /// Who added it.
    pub added_by: String,
    /// When.
    pub added_at: SqlTimestamp,
}

/// A package to be added.
pub struct NewPackage<'a> {
    /// Its SHA-256, in hexadecimal digits.
    pub sha256: &'a str,
    /// Its version.
    pub version: &'a str,
    /// `deb` or `rpm`.
    pub format: &'a str,
    /// The processors that it is for.
    pub architecture: &'a str,
    /// The oldest C library that it works with.
    pub glibc: &'a str,
    /// The file.
    pub contents: &'a [u8],
    /// Who adds it.
    pub added_by: &'a str,
}

/// Waits until nobody else adds or removes packages, and lets nobody until the transaction ends.
pub async fn lock(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/agent_package/lock.sql")).execute(db).await.map(|_| ())
}

/// Adds a package.
pub async fn add(db: impl PgExecutor<'_>, package: &NewPackage<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/agent_package/add.sql"))
        .bind(package.sha256)
        .bind(package.version)
        .bind(package.format)
        .bind(package.architecture)
        .bind(package.glibc)
        .bind(package.contents)
        .bind(package.added_by)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns all packages: at most three versions of each format and architecture.
pub async fn list(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<PackageRow>> {
    sqlx::query_as(include_str!("sql/agent_package/list.sql")).fetch_all(db).await
}

/// Returns the versions of the agent that nodes have, as they reported.
pub async fn running(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/agent_package/running.sql")).fetch_all(db).await
}

/// Returns the file of a package.
pub async fn contents(db: impl PgExecutor<'_>, sha256: &str) -> sqlx::Result<Option<Vec<u8>>> {
    sqlx::query_scalar(include_str!("sql/agent_package/contents.sql")).bind(sha256).fetch_optional(db).await
}

/// Removes a package; returns whether there was one.
pub async fn remove(db: impl PgExecutor<'_>, sha256: &str) -> sqlx::Result<bool> {
    let removed = sqlx::query(include_str!("sql/agent_package/remove.sql")).bind(sha256).execute(db).await?;
    Ok(removed.rows_affected() > 0)
}

/// Keeps what a line fetches, by its SHA-256, with the packages that it names.
pub async fn keep_installer(
    db: impl PgExecutor<'_>,
    sha256: &str,
    contents: &str,
    packages: &[String],
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/agent_package/keep_installer.sql"))
        .bind(sha256)
        .bind(contents)
        .bind(packages)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns what a line fetches.
pub async fn installer(db: impl PgExecutor<'_>, sha256: &str) -> sqlx::Result<Option<String>> {
    sqlx::query_scalar(include_str!("sql/agent_package/installer.sql")).bind(sha256).fetch_optional(db).await
}

/// Forgets what lines fetch that name packages which are no longer there.
pub async fn forget_installers(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/agent_package/forget_installers.sql")).execute(db).await.map(|_| ())
}
