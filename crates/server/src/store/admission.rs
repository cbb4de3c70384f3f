//! Admission rules, and the requests that are held against them.

use super::cursor::{Cursor, PageRange};
use crate::clock::sql_now;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// A rule to be made.
pub struct NewRow<'a> {
    /// Which machines it fits, without its table.
    pub body: &'a Value,
    /// Where they are placed.
    pub placement: &'a Value,
    /// How many it lets in at most.
    pub at_most: Option<i32>,
    /// The reason.
    pub because: &'a str,
    /// Who makes it.
    pub made_by: &'a str,
    /// Until when it holds.
    pub until: Timestamp,
    /// The machines of its table, by name.
    pub table: &'a [(String, Value)],
}

/// Makes a rule, and has all requests that wait held against it. Returns its number.
pub async fn add(db: &mut PgConnection, new: &NewRow<'_>) -> sqlx::Result<i64> {
    let no = sqlx::query_scalar(include_str!("sql/admission/add.sql"))
        .bind(new.body)
        .bind(!new.table.is_empty())
        .bind(new.placement)
        .bind(new.at_most)
        .bind(new.because)
        .bind(new.made_by)
        .bind(sql_now())
        .bind(new.until.to_sqlx())
        .fetch_one(&mut *db)
        .await?;
    let (names, bodies): (Vec<&String>, Vec<&Value>) =
        new.table.iter().map(|(name, body)| (name, body)).unzip();
    sqlx::query(include_str!("sql/admission/add_machines.sql"))
        .bind(no)
        .bind(names)
        .bind(bodies)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/admission/judge_all_again.sql")).execute(db).await?;
    Ok(no)
}

/// A rule as it is kept.
#[derive(Debug, sqlx::FromRow)]
pub struct RuleRow {
    /// Its number.
    pub no: i64,
    /// Which machines it fits, without its table.
    pub body: Value,
    /// How many machines its table has.
    pub table_rows: i64,
    /// Where they are placed.
    pub placement: Value,
    /// How many it lets in at most.
    pub at_most: Option<i32>,
    /// How many it has let in.
    pub let_in: i64,
    /// Whether each machine of its table has its key.
    pub has_all_keys: bool,
    /// The reason.
    pub because: String,
    /// Who made it.
    pub made_by: String,
    /// The roles of that person now.
    pub roles: Vec<String>,
    /// When it was made.
    pub made_at: SqlTimestamp,
    /// Until when it holds.
    pub until_at: SqlTimestamp,
    /// When it was ended before its time.
    pub ended_at: Option<SqlTimestamp>,
    /// By whom.
    pub ended_by: Option<String>,
}

const RULES: &str = "select r.no, r.body, coalesce(t.rows, 0) as table_rows, r.placement, r.at_most, coalesce(t.has_all_keys, false) as has_all_keys,
        (select count(*) from joining_request j where j.rule = r.no and j.decision = 'approved') as let_in,
        r.because, r.made_by, coalesce(case when p.removed_at is null then p.roles end, '{}') as roles, r.made_at, r.until_at, r.ended_at, r.ended_by
     from admission_rule r left join person p on p.name = r.made_by
        left join lateral (select count(*) as rows, bool_and(m.body ? 'key') as has_all_keys from admission_machine m where m.rule = r.no) t on true";

/// Returns the newest rules, those in force first; at most 200.
pub async fn list(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<RuleRow>> {
    sqlx::query_as(AssertSqlSafe(format!(
        "{RULES} order by r.ended_at is null and r.until_at > $1 desc, r.no desc limit 200"
    )))
    .bind(sql_now())
    .fetch_all(db)
    .await
}

/// Returns a rule.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<RuleRow>> {
    sqlx::query_as(AssertSqlSafe(format!("{RULES} where r.no = $1"))).bind(no).fetch_optional(db).await
}

/// Returns the machines of a rule's table, by name.
pub async fn machines(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<Value>> {
    sqlx::query_scalar(include_str!("sql/admission/machines.sql")).bind(no).fetch_all(db).await
}

/// Returns the names of a rule's table that it did not let in yet, in their order.
pub async fn expected(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/admission/expected.sql")).bind(no).fetch_all(db).await
}

/// A rule in force, as a machine is held against it.
#[derive(Debug, sqlx::FromRow)]
pub struct CandidateRow {
    /// Its number.
    pub no: i64,
    /// Which machines it fits, without its table.
    pub body: Value,
    /// Whether it has a table.
    pub has_table: bool,
    /// The machine of its table that has the name.
    pub machine: Option<Value>,
    /// Where machines are placed.
    pub placement: Value,
    /// How many it lets in at most.
    pub at_most: Option<i32>,
    /// How many it has let in.
    pub let_in: i64,
    /// Who made it.
    pub made_by: String,
}

/// Returns the rules in force, the oldest first, each with the machine of its table that has a name. They are locked until the
/// transaction ends, so that two at once let in no more than they may.
pub async fn candidates(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Vec<CandidateRow>> {
    sqlx::query_as(include_str!("sql/admission/candidates.sql"))
        .bind(name)
        .bind(sql_now())
        .fetch_all(db)
        .await
}

/// Returns how many rules are in force.
pub async fn count_open(db: impl PgExecutor<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/admission/count_open.sql")).bind(sql_now()).fetch_one(db).await
}

/// Ends a rule that is in force; returns whether there was one.
pub async fn end(db: impl PgExecutor<'_>, no: i64, by: &str) -> sqlx::Result<bool> {
    let ended: i64 = sqlx::query_scalar(include_str!("sql/admission/end.sql"))
        .bind(no)
        .bind(by)
        .bind(sql_now())
        .fetch_one(db)
        .await?;
    Ok(ended > 0)
}

/// Returns requests that wait and were not held against the rules that are in force, the oldest first; at most 200.
pub async fn to_judge(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<Uuid>> {
    sqlx::query_scalar(include_str!("sql/admission/to_judge.sql")).fetch_all(db).await
}

/// Notes that a request was held against the rules; and which one it fits although it waits, and why.
pub async fn set_judged(
    db: impl PgExecutor<'_>,
    request: Uuid,
    waits: Option<(i64, &str)>,
) -> sqlx::Result<()> {
    let (rule, because) = waits.unzip();
    sqlx::query(include_str!("sql/admission/set_judged.sql"))
        .bind(request)
        .bind(rule)
        .bind(because)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns whether a request with this key or this name was denied.
pub async fn was_refused(db: impl PgExecutor<'_>, spki: &[u8], name: &str) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/admission/was_refused.sql"))
        .bind(spki)
        .bind(name)
        .fetch_one(db)
        .await
}

/// A machine that a rule let in.
#[derive(Debug, sqlx::FromRow)]
pub struct LetInRow {
    /// The request.
    pub id: Uuid,
    /// The name by which it asked.
    pub name: String,
    /// What the node is called now, unless it is retired.
    pub node: Option<String>,
    /// The SHA-256 of its public key.
    pub spki_digest: Vec<u8>,
    /// Where it asked from.
    pub address: String,
    /// When it was let in.
    pub at: SqlTimestamp,
}

impl LetInRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        Cursor { at: self.at.to_jiff(), key: self.id.to_string() }
    }
}

/// Returns a page of the machines that a rule let in, the newest first.
pub async fn let_in(db: impl PgExecutor<'_>, range: &PageRange, no: i64) -> sqlx::Result<Vec<LetInRow>> {
    range.bind(sqlx::query_as(include_str!("sql/admission/let_in.sql"))).bind(no).fetch_all(db).await
}

/// Returns names and newest keys of nodes that have one of these names, or fit one of these patterns as `like` has them, and that have
/// one of these keys; any where that is not given. At most 20,000.
pub async fn known_nodes(
    db: impl PgExecutor<'_>,
    names: Option<&[String]>,
    patterns: &[String],
    keys: Option<&[Vec<u8>]>,
) -> sqlx::Result<Vec<(String, Vec<u8>)>> {
    sqlx::query_as(include_str!("sql/admission/known_nodes.sql"))
        .bind(names)
        .bind(patterns)
        .bind(keys)
        .fetch_all(db)
        .await
}
