//! When the server could hear, and when it could not.

use crate::clock::sql_now;
use sqlx::{PgConnection, PgExecutor};

/// Records that the server is reachable, and counts how often that was noted.
pub async fn note(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/uptime/note.sql")).bind(sql_now()).execute(db).await.map(|_| ())
}

/// Notes at a start how long the server was down, if that was longer than the interval at which it notes that it runs.
pub async fn note_start(db: &mut PgConnection, longer_than_secs: f64) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/uptime/note_start.sql"))
        .bind(longer_than_secs)
        .bind(sql_now())
        .execute(&mut *db)
        .await?;
    note(db).await
}
