//! Persons and their tokens.

use sqlx::PgExecutor;

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
         where token.digest = $1 and (token.expires_at is null or token.expires_at > now())",
    )
    .bind(digest)
    .fetch_optional(db)
    .await
}

/// Gives a person these roles, making the person if needed.
pub async fn give_roles(db: impl PgExecutor<'_>, name: &str, roles: &[&str]) -> sqlx::Result<()> {
    sqlx::query("insert into person (name, roles) values ($1, $2) on conflict (name) do update set roles = excluded.roles")
        .bind(name)
        .bind(roles)
        .execute(db)
        .await
        .map(|_| ())
}

/// Adds a token.
pub async fn add_token(db: impl PgExecutor<'_>, person: &str, digest: &[u8]) -> sqlx::Result<()> {
    sqlx::query("insert into token (digest, person) values ($1, $2)").bind(digest).bind(person).execute(db).await.map(|_| ())
}
