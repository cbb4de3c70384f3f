//! Invitations.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::PgExecutor;
use uuid::Uuid;

/// An invitation to be made.
pub struct NewRow<'a> {
    /// Its id.
    pub id: Uuid,
    /// The digest of its secret.
    pub secret_digest: &'a [u8],
    /// The labels that it gives.
    pub labels: &'a Value,
    /// How many nodes may use it.
    pub uses: i32,
    /// Who makes it.
    pub made_by: &'a str,
    /// End of its validity.
    pub expires_at: Timestamp,
}

/// Adds an invitation.
pub async fn add(db: impl PgExecutor<'_>, row: &NewRow<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/invitation/add.sql"))
        .bind(row.id)
        .bind(row.secret_digest)
        .bind(row.labels)
        .bind(row.uses)
        .bind(row.made_by)
        .bind(row.expires_at.to_sqlx())
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// What an invitation allows at this moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InvitationStatus {
    /// It may be used.
    Open,
    /// There is none with this id and secret.
    Unknown,
    /// Its time is over.
    Expired,
    /// It was used as often as it may be.
    UsedUp,
    /// Someone withdrew it.
    Withdrawn,
}

/// Returns what an invitation allows. Its row is locked until the transaction ends.
pub async fn status(
    db: impl PgExecutor<'_>,
    id: Uuid,
    secret_digest: &[u8],
) -> sqlx::Result<InvitationStatus> {
    let row: Option<(bool, bool, i32)> = sqlx::query_as(include_str!("sql/invitation/status.sql"))
        .bind(id)
        .bind(secret_digest)
        .bind(sql_now())
        .fetch_optional(db)
        .await?;
    Ok(match row {
        None => InvitationStatus::Unknown,
        Some((true, ..)) => InvitationStatus::Withdrawn,
        Some((false, true, _)) => InvitationStatus::Expired,
        Some((false, false, 0)) => InvitationStatus::UsedUp,
        Some((false, false, _)) => InvitationStatus::Open,
    })
}

/// Counts one use.
pub async fn use_once(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/invitation/use_once.sql")).bind(id).execute(db).await.map(|_| ())
}

/// An invitation, without its secret.
#[derive(Debug, sqlx::FromRow)]
pub struct InvitationRow {
    /// Its id.
    pub id: Uuid,
    /// The labels that it gives.
    pub labels: Value,
    /// How many nodes may use it in all.
    pub uses: i32,
    /// How many may still.
    pub uses_left: i32,
    /// Who created it.
    pub made_by: String,
    /// When.
    pub made_at: SqlTimestamp,
    /// End of its validity.
    pub expires_at: SqlTimestamp,
}

impl InvitationRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.made_at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of the invitations that may still be used, the newest first.
pub async fn open(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<InvitationRow>> {
    range.bind(sqlx::query_as(include_str!("sql/invitation/open.sql"))).bind(sql_now()).fetch_all(db).await
}

/// Withdraws an invitation that may still be used; returns whether there was one.
pub async fn withdraw(db: impl PgExecutor<'_>, id: Uuid, by: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/invitation/withdraw.sql"))
        .bind(id)
        .bind(by)
        .bind(sql_now())
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Returns whether there is or was an invitation with this id.
pub async fn exists(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/invitation/exists.sql")).bind(id).fetch_one(db).await
}
