//! Persons: their roles, passwords, one-time links and sessions.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::{PgConnection, PgExecutor};

/// A person with roles.
#[derive(Debug, sqlx::FromRow)]
pub struct PersonRow {
    /// The name.
    pub name: String,
    /// The roles' words.
    pub roles: Vec<String>,
}

/// Returns the person whose session has this digest, holds still and was used recently; notes that it is used.
pub async fn by_session(
    db: impl PgExecutor<'_>,
    digest: &[u8],
    idle_secs: i64,
) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(include_str!("sql/person/by_session.sql"))
        .bind(digest)
        .bind(idle_secs as f64)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Returns the same, and does not note that it is used.
pub async fn by_session_unused(
    db: impl PgExecutor<'_>,
    digest: &[u8],
    idle_secs: i64,
) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(include_str!("sql/person/by_session_unused.sql"))
        .bind(digest)
        .bind(idle_secs as f64)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Returns the hash of a person's password; none if there is no such name or the person has none.
pub async fn password(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<String>> {
    Ok(sqlx::query_scalar::<_, Option<String>>(include_str!("sql/person/password.sql"))
        .bind(name)
        .fetch_optional(db)
        .await?
        .flatten())
}

/// Sets a person's password, and ends all sessions and clients' tokens that began with another.
pub async fn set_password(db: &mut PgConnection, name: &str, hash: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/set_password_delete_session.sql"))
        .bind(name)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/person/set_password_delete_token.sql"))
        .bind(name)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/person/set_password_update_person.sql"))
        .bind(name)
        .bind(hash)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns a person's roles.
pub async fn roles(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Vec<String>>> {
    sqlx::query_scalar(include_str!("sql/person/roles.sql")).bind(name).fetch_optional(db).await
}

/// Returns whether anyone is an administrator.
pub async fn has_administrator(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/person/has_administrator.sql")).fetch_one(db).await
}

/// Gives a person another role, making the person if needed; one who was removed is back. Returns whether that changes anything.
pub async fn grant(db: impl PgExecutor<'_>, name: &str, role: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/person/grant.sql"))
        .bind(name)
        .bind(role)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Takes a role from a person. Returns whether that changes anything.
pub async fn take(db: impl PgExecutor<'_>, name: &str, role: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/person/take.sql")).bind(name).bind(role).execute(db).await?;
    Ok(done.rows_affected() > 0)
}

/// Returns the names of all administrators. They stay what they are until the transaction ends.
pub async fn locked_administrators(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/person/locked_administrators.sql")).fetch_all(db).await
}

/// What ended with a person.
#[derive(Debug, Clone, Copy, PartialEq, Eq, sqlx::FromRow)]
pub struct EndedRow {
    /// Sessions of the console.
    pub sessions: i64,
    /// Tokens of programs and clients.
    pub tokens: i64,
    /// Open invitations.
    pub invitations: i64,
}

/// Removes a person: roles, password, sessions, tokens and open invitations end.
pub async fn remove(db: &mut PgConnection, name: &str, by: &str) -> sqlx::Result<EndedRow> {
    sqlx::query(include_str!("sql/person/remove_update_one_time_link.sql"))
        .bind(name)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query_as(include_str!("sql/person/remove_update_person.sql"))
        .bind(name)
        .bind(sql_now())
        .bind(by)
        .fetch_one(db)
        .await
}

/// A person with roles, sessions and tokens.
#[derive(Debug, sqlx::FromRow)]
pub struct ListedRow {
    /// The name.
    pub name: String,
    /// The roles' words.
    pub roles: Vec<String>,
    /// When the person was added.
    pub created_at: SqlTimestamp,
    /// Whether the person has a password.
    pub has_password: bool,
    /// Sessions that hold.
    pub sessions: i64,
    /// Valid tokens.
    pub tokens: i64,
    /// When the person or a token was last here, to some minutes.
    pub last_at: Option<SqlTimestamp>,
}

impl ListedRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.created_at.to_jiff(), key: self.name.clone() }
    }
}

/// Returns a page of the persons who were not removed, those first who were added first.
pub async fn list(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<ListedRow>> {
    range.bind(sqlx::query_as(include_str!("sql/person/list.sql"))).bind(sql_now()).fetch_all(db).await
}

/// Adds a one-time link for a person, or for the first administrator. Older ones for the same end.
pub async fn add_link(
    db: &mut PgConnection,
    person: Option<&str>,
    digest: &[u8],
    hours: i32,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/add_link_update_one_time_link.sql"))
        .bind(person)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/person/add_link_insert_one_time_link.sql"))
        .bind(digest)
        .bind(person)
        .bind(hours)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns for whom a link is that holds still; the inner none is the first administrator.
pub async fn link(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<Option<Option<String>>> {
    sqlx::query_scalar(include_str!("sql/person/link.sql"))
        .bind(digest)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Returns the same. Its row is locked until the transaction ends.
pub async fn locked_link(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<Option<Option<String>>> {
    sqlx::query_scalar(include_str!("sql/person/locked_link.sql"))
        .bind(digest)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Notes that a link was used.
pub async fn use_link(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/use_link.sql"))
        .bind(digest)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Begins a session, and takes away those that ended.
pub async fn begin_session(
    db: &mut PgConnection,
    person: &str,
    digest: &[u8],
    address: &str,
    secs: i64,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/begin_session_delete_session.sql"))
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/person/begin_session_insert_session.sql"))
        .bind(digest)
        .bind(person)
        .bind(address)
        .bind(secs as f64)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Ends a session.
pub async fn end_session(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/end_session.sql")).bind(digest).execute(db).await.map(|_| ())
}

/// Failures to sign in within the last 15 minutes.
#[derive(Debug, sqlx::FromRow)]
pub struct FailuresRow {
    /// Of this name from this address.
    pub of_both: i64,
    /// The last of those.
    pub last_of_both: Option<SqlTimestamp>,
    /// From this address.
    pub of_address: i64,
    /// The last of those.
    pub last_of_address: Option<SqlTimestamp>,
}

/// Counts failures to sign in within the last 15 minutes.
pub async fn failures(db: impl PgExecutor<'_>, name: &str, address: &str) -> sqlx::Result<FailuresRow> {
    sqlx::query_as(include_str!("sql/person/failures.sql"))
        .bind(name)
        .bind(address)
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Notes a failure to sign in, and forgets old ones.
pub async fn note_failure(db: &mut PgConnection, name: &str, address: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/person/note_failure_delete_sign_in_failure.sql"))
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/person/note_failure_insert_sign_in_failure.sql"))
        .bind(name)
        .bind(address)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}
