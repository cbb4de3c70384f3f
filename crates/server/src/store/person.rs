//! Persons: their tokens, passwords, one-time links and sessions.

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

/// Returns the person whose token has this digest and holds still.
pub async fn by_token(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(
        "select person.name, person.roles from token join person on person.name = token.person
         where token.digest = $1 and (token.expires_at is null or token.expires_at > $2)",
    )
    .bind(digest)
    .bind(sql_now())
    .fetch_optional(db)
    .await
}

/// Returns the person whose session has this digest, holds still and was used lately; notes that it is used.
pub async fn by_session(db: impl PgExecutor<'_>, digest: &[u8], idle_secs: i64) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(
        "with used as (update session set last_at = $3 where digest = $1 and last_at < $3 - interval '5 minutes'
             and last_at > $3 - make_interval(secs => $2))
         select person.name, person.roles from session join person on person.name = session.person
         where digest = $1 and expires_at > $3 and last_at > $3 - make_interval(secs => $2)",
    )
    .bind(digest)
    .bind(idle_secs as f64)
    .bind(sql_now())
    .fetch_optional(db)
    .await
}

/// Returns the same, and does not note that it is used.
pub async fn by_session_unused(db: impl PgExecutor<'_>, digest: &[u8], idle_secs: i64) -> sqlx::Result<Option<PersonRow>> {
    sqlx::query_as(
        "select person.name, person.roles from session join person on person.name = session.person
         where digest = $1 and expires_at > $3 and last_at > $3 - make_interval(secs => $2)",
    )
    .bind(digest)
    .bind(idle_secs as f64)
    .bind(sql_now())
    .fetch_optional(db)
    .await
}

/// Returns the hash of a person's password; none if nobody is called so or the person has none.
pub async fn password(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<String>> {
    Ok(sqlx::query_scalar::<_, Option<String>>("select password from person where name = $1").bind(name).fetch_optional(db).await?.flatten())
}

/// Sets a person's password, and ends all sessions and clients' tokens that began with another.
pub async fn set_password(db: &mut PgConnection, name: &str, hash: &str) -> sqlx::Result<()> {
    sqlx::query("delete from session where person = $1").bind(name).execute(&mut *db).await?;
    sqlx::query("delete from token where person = $1 and made_for = 'client'").bind(name).execute(&mut *db).await?;
    sqlx::query("update person set password = $2 where name = $1").bind(name).bind(hash).execute(db).await.map(|_| ())
}

/// Returns a person's roles.
pub async fn roles(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Vec<String>>> {
    sqlx::query_scalar("select roles from person where name = $1").bind(name).fetch_optional(db).await
}

/// Returns whether anybody is an administrator.
pub async fn has_administrator(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar("select exists (select 1 from person where 'administrator' = any(roles))").fetch_one(db).await
}

/// Gives a person these roles, making the person if needed.
pub async fn give_roles(db: impl PgExecutor<'_>, name: &str, roles: &[&str]) -> sqlx::Result<()> {
    sqlx::query("insert into person (name, roles, created_at) values ($1, $2, $3) on conflict (name) do update set roles = excluded.roles")
        .bind(name)
        .bind(roles)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Adds a token; with a number of hours it ends after those.
pub async fn add_token(
    db: impl PgExecutor<'_>,
    person: &str,
    digest: &[u8],
    made_for: &str,
    hours: Option<i32>,
) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar(
        "insert into token (digest, person, made_for, expires_at, created_at) values ($1, $2, $3, $5::timestamptz + make_interval(hours => $4), $5) returning expires_at",
    )
    .bind(digest)
    .bind(person)
    .bind(made_for)
    .bind(hours)
    .bind(sql_now())
    .fetch_one(db)
    .await
}

/// Takes a token away.
pub async fn remove_token(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query("delete from token where digest = $1").bind(digest).execute(db).await.map(|_| ())
}

/// Adds a one-time link for a person, or for whoever is to be the first administrator. Older ones for the same end.
pub async fn add_link(db: &mut PgConnection, person: Option<&str>, digest: &[u8], hours: i32) -> sqlx::Result<()> {
    sqlx::query("update one_time_link set expires_at = $2 where person is not distinct from $1 and used_at is null and expires_at > $2")
        .bind(person)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query("insert into one_time_link (digest, person, expires_at, made_at) values ($1, $2, $4::timestamptz + make_interval(hours => $3), $4)")
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
    sqlx::query_scalar("select person from one_time_link where digest = $1 and used_at is null and expires_at > $2")
        .bind(digest)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Returns the same. Its row is locked until the transaction ends.
pub async fn locked_link(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<Option<Option<String>>> {
    sqlx::query_scalar("select person from one_time_link where digest = $1 and used_at is null and expires_at > $2 for update")
        .bind(digest)
        .bind(sql_now())
        .fetch_optional(db)
        .await
}

/// Notes that a link was used.
pub async fn use_link(db: impl PgExecutor<'_>, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query("update one_time_link set used_at = $2 where digest = $1").bind(digest).bind(sql_now()).execute(db).await.map(|_| ())
}

/// Begins a session, and takes away those that ended.
pub async fn begin_session(db: &mut PgConnection, person: &str, digest: &[u8], address: &str, secs: i64) -> sqlx::Result<()> {
    sqlx::query("delete from session where expires_at < $1").bind(sql_now()).execute(&mut *db).await?;
    sqlx::query("insert into session (digest, person, address, expires_at, made_at, last_at) values ($1, $2, $3, $5::timestamptz + make_interval(secs => $4), $5, $5)")
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
    sqlx::query("delete from session where digest = $1").bind(digest).execute(db).await.map(|_| ())
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
    sqlx::query_as(
        "select count(*) filter (where name = $1) as of_both, max(at) filter (where name = $1) as last_of_both,
             count(*) as of_address, max(at) as last_of_address
         from sign_in_failure where address = $2 and at > $3 - interval '15 minutes'",
    )
    .bind(name)
    .bind(address)
    .bind(sql_now())
    .fetch_one(db)
    .await
}

/// Notes a failure to sign in, and forgets old ones.
pub async fn note_failure(db: &mut PgConnection, name: &str, address: &str) -> sqlx::Result<()> {
    sqlx::query("delete from sign_in_failure where at < $1 - interval '1 day'").bind(sql_now()).execute(&mut *db).await?;
    sqlx::query("insert into sign_in_failure (name, address, at) values ($1, $2, $3)")
        .bind(name)
        .bind(address)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}
