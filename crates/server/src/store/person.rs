//! Persons: their roles, passwords, one-time links and sessions.

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
pub async fn by_session_unused(
    db: impl PgExecutor<'_>,
    digest: &[u8],
    idle_secs: i64,
) -> sqlx::Result<Option<PersonRow>> {
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
    Ok(sqlx::query_scalar::<_, Option<String>>("select password from person where name = $1")
        .bind(name)
        .fetch_optional(db)
        .await?
        .flatten())
}

/// Sets a person's password, and ends all sessions and clients' tokens that began with another.
pub async fn set_password(db: &mut PgConnection, name: &str, hash: &str) -> sqlx::Result<()> {
    sqlx::query("delete from session where person = $1").bind(name).execute(&mut *db).await?;
    sqlx::query("delete from token where person = $1 and made_for = 'client'")
        .bind(name)
        .execute(&mut *db)
        .await?;
    sqlx::query("update person set password = $2 where name = $1")
        .bind(name)
        .bind(hash)
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns a person's roles.
pub async fn roles(db: impl PgExecutor<'_>, name: &str) -> sqlx::Result<Option<Vec<String>>> {
    sqlx::query_scalar("select roles from person where name = $1 and removed_at is null")
        .bind(name)
        .fetch_optional(db)
        .await
}

/// Returns whether anybody is an administrator.
pub async fn has_administrator(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar("select exists (select 1 from person where 'administrator' = any(roles))")
        .fetch_one(db)
        .await
}

/// Gives a person another role, making the person if needed; one who was removed is back. Returns whether that changes anything.
pub async fn grant(db: impl PgExecutor<'_>, name: &str, role: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "insert into person (name, roles, created_at) values ($1, array[$2], $3)
         on conflict (name) do update set roles = array_append(person.roles, $2), removed_at = null where not $2 = any(person.roles)",
    )
    .bind(name)
    .bind(role)
    .bind(sql_now())
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Takes a role from a person. Returns whether that changes anything.
pub async fn take(db: impl PgExecutor<'_>, name: &str, role: &str) -> sqlx::Result<bool> {
    let done =
        sqlx::query("update person set roles = array_remove(roles, $2) where name = $1 and $2 = any(roles)")
            .bind(name)
            .bind(role)
            .execute(db)
            .await?;
    Ok(done.rows_affected() > 0)
}

/// Returns the names of all administrators. They stay what they are until the transaction ends.
pub async fn locked_administrators(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar("select name from person where 'administrator' = any(roles) order by name for update")
        .fetch_all(db)
        .await
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
    sqlx::query(
        "update one_time_link set expires_at = $2 where person = $1 and used_at is null and expires_at > $2",
    )
    .bind(name)
    .bind(sql_now())
    .execute(&mut *db)
    .await?;
    sqlx::query_as(
        "with person as (update person set roles = '{}', password = null, removed_at = $2 where name = $1),
             ended_session as (delete from session where person = $1 returning 1),
             ended_token as (delete from token where person = $1 returning 1),
             ended_invitation as (update invitation set withdrawn_at = $2, withdrawn_by = $3
                 where made_by = $1 and withdrawn_at is null and uses_left > 0 and expires_at > $2 returning 1)
         select (select count(*) from ended_session) as sessions, (select count(*) from ended_token) as tokens,
             (select count(*) from ended_invitation) as invitations",
    )
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

/// Returns all persons who were not removed, by name; at most 10,000.
pub async fn list(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<ListedRow>> {
    sqlx::query_as(
        "select name, roles, created_at, password is not null as has_password,
             (select count(*) from session where person = p.name and expires_at > $1) as sessions,
             (select count(*) from token where person = p.name and (expires_at is null or expires_at > $1)) as tokens,
             greatest((select max(last_at) from session where person = p.name), (select max(last_at) from token where person = p.name)) as last_at
         from person p where removed_at is null order by name limit 10000",
    )
    .bind(sql_now())
    .fetch_all(db)
    .await
}

/// Adds a one-time link for a person, or for whoever is to be the first administrator. Older ones for the same end.
pub async fn add_link(
    db: &mut PgConnection,
    person: Option<&str>,
    digest: &[u8],
    hours: i32,
) -> sqlx::Result<()> {
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
    sqlx::query_scalar(
        "select person from one_time_link where digest = $1 and used_at is null and expires_at > $2",
    )
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
    sqlx::query("update one_time_link set used_at = $2 where digest = $1")
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
    sqlx::query("delete from sign_in_failure where at < $1 - interval '1 day'")
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    sqlx::query("insert into sign_in_failure (name, address, at) values ($1, $2, $3)")
        .bind(name)
        .bind(address)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}
