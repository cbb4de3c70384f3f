//! Effective states: each clause is stored once for the whole fleet, and a state is the list of its clauses.

use crate::clock::sql_now;
use constans_core::digest::Digest;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// The state `s` as its JSON document.
macro_rules! body {
    () => {
        "json_build_object('clauses', coalesce((select json_agg(c.body order by listed.place)
             from unnest(s.clauses) with ordinality as listed (id, place) join clause c on c.id = listed.id), '[]'), 'digest', s.digest)"
    };
}

/// A clause that may not be stored yet.
pub struct NewClause {
    /// Its digest.
    pub digest: Digest,
    /// Itself, as JSON.
    pub body: String,
    /// The contents and sealed values that it names.
    pub names: Vec<String>,
    /// Whether compliance counts it: not if it only reacts.
    pub is_counted: bool,
}

/// Stores clauses that are not stored yet.
pub async fn store_clauses(db: &mut PgConnection, clauses: &[&NewClause]) -> sqlx::Result<()> {
    // In one order, so that two who store the same ones do not wait for each other.
    let bodies: Vec<&str> = clauses.iter().map(|clause| clause.body.as_str()).collect();
    for of_clauses in [
        include_str!("sql/effective_state/store_clauses_insert_clause_address.sql"),
        include_str!("sql/effective_state/store_clauses_insert_desired_clause.sql"),
    ] {
        sqlx::query(of_clauses).bind(&bodies).execute(&mut *db).await?;
    }
    sqlx::query(include_str!("sql/effective_state/store_clauses_insert_clause.sql"))
        .bind(clauses.iter().map(|clause| clause.digest.as_str()).collect::<Vec<_>>())
        .bind(&bodies)
        .bind(clauses.iter().map(|clause| clause.is_counted).collect::<Vec<_>>())
        .execute(&mut *db)
        .await?;
    let (named_by, names): (Vec<&str>, Vec<&str>) = clauses
        .iter()
        .flat_map(|clause| clause.names.iter().map(|name| (clause.digest.as_str(), name.as_str())))
        .unzip();
    sqlx::query(include_str!("sql/effective_state/store_clauses_insert_clause_content.sql"))
        .bind(named_by)
        .bind(names)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the ids of stored clauses, each with its digest.
pub async fn clause_ids(db: impl PgExecutor<'_>, digests: &[&str]) -> sqlx::Result<Vec<(String, i64)>> {
    sqlx::query_as(include_str!("sql/effective_state/clause_ids.sql")).bind(digests).fetch_all(db).await
}

/// Stores a state once for the whole fleet; its clauses are stored already.
pub async fn store(
    db: impl PgExecutor<'_>,
    digest: &str,
    clauses: &[i64],
    releases: &[String],
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/effective_state/store.sql"))
        .bind(digest)
        .bind(clauses)
        .bind(releases)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns an effective state by its digest.
pub async fn by_digest(db: impl PgExecutor<'_>, digest: &str) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar(concat!("select ", body!(), " from effective_state s where s.digest = $1"))
        .bind(digest)
        .fetch_optional(db)
        .await
}

/// Returns a node's own effective state by its digest; none if it is another node's.
pub async fn own(db: impl PgExecutor<'_>, node: Uuid, digest: &str) -> sqlx::Result<Option<Value>> {
    sqlx::query_scalar(concat!(
        "select ",
        body!(),
        " from effective_state s join node_wanted w on w.state = s.id where w.node = $1 and s.digest = $2"
    ))
    .bind(node)
    .bind(digest)
    .fetch_optional(db)
    .await
}

/// Returns the states that were wanted of a node, that an enforcing run of it applied, and that are no longer desired: the
/// oldest first, each with the moment until which it was wanted; at most the last 100.
pub async fn past(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Vec<(Value, SqlTimestamp)>> {
    sqlx::query_as(concat!(
        "select body, until_at from (select ",
        body!(),
        " as body, c.ended_at as until_at from change_node n join change c on c.no = n.change and c.status = 'handed_out' join effective_state s on s.id = n.before_state
             where n.node = $1 and n.state is distinct from n.before_state
                 and (exists (select 1 from run r where r.node = $1 and r.state = s.digest and r.mode = 'enforce')
                     or exists (select 1 from run_span p where p.node = $1 and p.state = s.digest and p.mode = 'enforce'))
             order by c.ended_at desc, c.no desc limit 100) last
         order by until_at"
    ))
    .bind(node)
    .fetch_all(db)
    .await
}

/// Returns contents that a node's own state names; none if it names none so. What is concealed is withheld while two
/// machines were seen with this identity.
pub async fn own_content(db: impl PgExecutor<'_>, node: Uuid, name: &str) -> sqlx::Result<Option<Vec<u8>>> {
    sqlx::query_scalar(include_str!("sql/effective_state/own_content.sql"))
        .bind(node)
        .bind(name)
        .fetch_optional(db)
        .await
}

/// Returns the releases that effective states are made of, by digest.
pub async fn releases(
    db: impl PgExecutor<'_>,
    digests: &[String],
) -> sqlx::Result<Vec<(String, Vec<String>)>> {
    sqlx::query_as(include_str!("sql/effective_state/releases.sql")).bind(digests).fetch_all(db).await
}

/// Returns the ids of stored states, each with its digest.
pub async fn ids(db: impl PgExecutor<'_>, digests: &[&str]) -> sqlx::Result<Vec<(String, i64)>> {
    sqlx::query_as(include_str!("sql/effective_state/ids.sql")).bind(digests).fetch_all(db).await
}
