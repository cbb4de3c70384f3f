//! Tokens of programs and clients.

use super::cursor::{Cursor, PageRange};
use super::person::PersonRow;
use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use sqlx::PgExecutor;
use uuid::Uuid;

/// Returns the person whose token has this digest and holds still; notes now and then that it is used.
pub async fn person(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(include_str!("sql/token/person.sql")).bind(digest).bind(sql_now()).fetch_optional(db).await
}

/// A token to be added.
pub struct NewRow<'a> {
    /// Its id.
    pub id: Uuid,
    /// Whose it is.
    pub person: &'a str,
    /// Its name.
    pub name: &'a str,
    /// `program` or `client`.
    pub made_for: &'a str,
    /// The digest of what is shown.
    pub digest: &'a [u8],
    /// After this many seconds it ends.
    pub for_secs: Option<i64>,
}

/// Adds a token; returns when it ends.
pub async fn add(db: impl PgExecutor<'_>, row: &NewRow<'_>) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar(include_str!("sql/token/add.sql"))
        .bind(row.id)
        .bind(row.digest)
        .bind(row.person)
        .bind(row.name)
        .bind(row.made_for)
        .bind(row.for_secs.map(|secs| secs as f64))
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Takes a token away that a caller shows.
pub async fn remove(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/token/remove.sql")).bind(digest).execute(db).await.map(|_| ())
}

/// A token, without its secret.
#[derive(Debug, sqlx::FromRow)]
pub struct TokenRow {
    /// Its id.
    pub id: Uuid,
    /// Whose it is.
    pub person: String,
    /// Its name.
    pub name: String,
    /// `program` or `client`.
    pub made_for: String,
    /// When it was made.
    pub created_at: SqlTimestamp,
    /// End of its validity.
    pub expires_at: Option<SqlTimestamp>,
    /// Last use, to a quarter of an hour.
    pub last_at: Option<SqlTimestamp>,
}

impl TokenRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.created_at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of the tokens that hold, of one person or of all, the oldest first.
pub async fn list(
    db: impl PgExecutor<'_>,
    range: &PageRange,
    person: Option<&str>,
) -> sqlx::Result<Vec<TokenRow>> {
    range
        .bind(sqlx::query_as(include_str!("sql/token/list.sql")))
        .bind(person)
        .bind(sql_now())
        .fetch_all(db)
        .await
}

/// Returns whether a person has a token for a program with this name that holds.
pub async fn is_named(db: impl PgExecutor<'_>, person: &str, name: &str) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/token/is_named.sql"))
        .bind(person)
        .bind(name)
        .bind(sql_now())
        .fetch_one(db)
        .await
}

/// Takes a token away, if it is this person's or anyone's; returns it.
pub async fn withdraw(
    db: impl PgExecutor<'_>,
    id: Uuid,
    person: Option<&str>,
) -> sqlx::Result<Option<TokenRow>> {
    sqlx::query_as(include_str!("sql/token/withdraw.sql")).bind(id).bind(person).fetch_optional(db).await
}
