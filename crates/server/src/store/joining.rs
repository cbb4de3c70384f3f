//! Joining requests.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
use sqlx::PgExecutor;
use uuid::Uuid;

/// A joining request and its result.
#[derive(Debug, sqlx::FromRow)]
pub struct RequestRow {
    /// Its id.
    pub id: Uuid,
    /// The invitation that it came with; none for a known node that asks again.
    pub invitation: Option<Uuid>,
    /// The known node that sent the request.
    pub known_node: Option<Uuid>,
    /// The SHA-256 of the node's public key.
    pub spki_digest: Vec<u8>,
    /// The requested name of the node.
    pub name: String,
    /// The certificate request, PEM.
    pub request: String,
    /// Where it came from.
    pub address: String,
    /// What the machine reported about itself.
    pub about: Value,
    /// When it was first requested.
    pub requested_at: SqlTimestamp,
    /// `approved`, `denied`, or none yet.
    pub decision: Option<String>,
    /// Why it was denied.
    pub because: Option<String>,
    /// The node that it became.
    pub node: Option<Uuid>,
    /// The labels from the invitation.
    pub labels: Option<Value>,
    /// Who made the invitation.
    pub made_by: Option<String>,
    /// Since when the known node is revoked, if it is.
    pub revoked_at: Option<SqlTimestamp>,
}

const COLUMNS: &str =
    "r.id, r.invitation, r.known_node, r.spki_digest, r.name, r.request, r.address, r.about, r.requested_at, r.decision, r.because, r.node, i.labels, i.made_by, n.revoked_at
     from joining_request r left join invitation i on i.id = r.invitation left join node n on n.id = r.known_node";

/// Returns the last request of this key. It is locked until the transaction ends.
pub async fn by_key(db: impl PgExecutor<'_>, spki: &[u8]) -> sqlx::Result<Option<RequestRow>> {
    sqlx::query_as(sqlx::AssertSqlSafe(format!(
        "select {COLUMNS} where r.spki_digest = $1 order by r.requested_at desc limit 1 for update of r"
    )))
    .bind(spki)
    .fetch_optional(db)
    .await
}

/// Returns one request. It is locked until the transaction ends.
pub async fn by_id(db: impl PgExecutor<'_>, id: Uuid) -> sqlx::Result<Option<RequestRow>> {
    sqlx::query_as(sqlx::AssertSqlSafe(format!("select {COLUMNS} where r.id = $1 for update of r")))
        .bind(id)
        .fetch_optional(db)
        .await
}

impl RequestRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.requested_at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of the requests that nobody has decided yet, the oldest first.
pub async fn waiting(db: impl PgExecutor<'_>, range: &PageRange) -> sqlx::Result<Vec<RequestRow>> {
    let statement = format!(
        "select {COLUMNS} where r.decision is null and ($1::timestamptz is null or (r.requested_at, r.id::text) > ($1, $2::text))
         order by r.requested_at, r.id::text limit $3"
    );
    range.bind(sqlx::query_as(sqlx::AssertSqlSafe(statement))).fetch_all(db).await
}

/// Returns how many requests nobody has decided yet.
pub async fn count_waiting(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/joining/count_waiting.sql")).fetch_one(db).await
}

/// A request to be added.
pub struct NewRow<'a> {
    /// Its id.
    pub id: Uuid,
    /// The invitation that it came with.
    pub invitation: Option<Uuid>,
    /// The known node that sent the request.
    pub known_node: Option<Uuid>,
    /// The SHA-256 of the node's public key.
    pub spki: &'a [u8],
    /// The requested name of the node.
    pub name: &'a str,
    /// The certificate request, PEM.
    pub request: &'a str,
    /// Where it came from.
    pub address: &'a str,
    /// What the machine reported about itself.
    pub about: &'a Value,
}

/// Adds a request.
pub async fn add(db: impl PgExecutor<'_>, row: &NewRow<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/joining/add.sql"))
        .bind(row.id)
        .bind(row.invitation)
        .bind(row.spki)
        .bind(row.name)
        .bind(row.request)
        .bind(row.address)
        .bind(row.about)
        .bind(row.known_node)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes that a request was approved and which node it became.
pub async fn approve(db: impl PgExecutor<'_>, id: Uuid, node: Uuid, by: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/joining/approve.sql"))
        .bind(id)
        .bind(node)
        .bind(by)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes that a request was denied and why.
pub async fn deny(db: impl PgExecutor<'_>, id: Uuid, because: &str, by: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/joining/deny.sql"))
        .bind(id)
        .bind(because)
        .bind(by)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}
