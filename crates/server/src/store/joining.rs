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
    /// Who decided, or made the rule that did.
    pub decided_by: Option<String>,
    /// When.
    pub decided_at: Option<SqlTimestamp>,
    /// The admission rule that let it in.
    pub rule: Option<i64>,
    /// What the node is called now that it became, unless that is retired.
    pub node_name: Option<String>,
    /// The admission rule that it fits although it waits.
    pub waits_for_rule: Option<i64>,
    /// Why it waits.
    pub waits_because: Option<String>,
}

const COLUMNS: &str =
    "r.id, r.invitation, r.known_node, r.spki_digest, r.name, r.request, r.address, r.about, r.requested_at, r.decision, r.because, r.node, i.labels, i.made_by, n.revoked_at,
        r.decided_by, r.decided_at, r.rule, became.name as node_name, r.waits_for_rule, r.waits_because
     from joining_request r left join invitation i on i.id = r.invitation left join node n on n.id = r.known_node
        left join node became on became.id = r.node and became.retired_at is null";

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
    /// Its place in the list: of waiting ones by when they were requested, of others by when they were decided.
    pub fn cursor(&self) -> Cursor {
        let at = self.decided_at.unwrap_or(self.requested_at);
        Cursor { at: at.to_jiff(), key: self.id.to_string() }
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

/// Returns a page of the requests that were decided so, `approved` or `denied`, the newest decision first.
pub async fn decided(
    db: impl PgExecutor<'_>,
    decision: &str,
    range: &PageRange,
) -> sqlx::Result<Vec<RequestRow>> {
    let statement = format!(
        "select {COLUMNS} where r.decision = $4 and ($1::timestamptz is null or (r.decided_at, r.id::text) < ($1, $2::text))
         order by r.decided_at desc, r.id::text desc limit $3"
    );
    range.bind(sqlx::query_as(sqlx::AssertSqlSafe(statement))).bind(decision).fetch_all(db).await
}

/// Returns the nodes that have these names: name, since when it is of the fleet, fingerprint of its newest key, last contact, since when
/// it is revoked.
pub async fn name_users(db: impl PgExecutor<'_>, names: &[String]) -> sqlx::Result<Vec<NameUserRow>> {
    sqlx::query_as(include_str!("sql/joining/name_users.sql")).bind(names).fetch_all(db).await
}

/// A node that has a name that is claimed.
#[derive(Debug, sqlx::FromRow)]
pub struct NameUserRow {
    /// The name.
    pub name: String,
    /// Since when it is of the fleet.
    pub joined_at: SqlTimestamp,
    /// The SHA-256 of its newest key.
    pub spki_digest: Option<Vec<u8>>,
    /// When it checked in last.
    pub last_contact: Option<SqlTimestamp>,
    /// Since when it is revoked.
    pub revoked_at: Option<SqlTimestamp>,
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

/// Notes that a request was approved, by whom or by whose admission rule, and which node it became.
pub async fn approve(
    db: impl PgExecutor<'_>,
    id: Uuid,
    node: Uuid,
    by: &str,
    rule: Option<i64>,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/joining/approve.sql"))
        .bind(id)
        .bind(node)
        .bind(by)
        .bind(sql_now())
        .bind(rule)
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
