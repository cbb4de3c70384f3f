//! Telling every process of the server, and through them the open pages, that something changed.

use sqlx::PgExecutor;

/// The channel.
pub const CHANNEL: &str = "constans";
/// The topic of long work: it changes nothing yet.
pub const ACTIVITIES: &str = "activities";

/// The topic of sweeps: how far nodes are.
pub const SWEEPS: &str = "sweeps";

/// Tells what changed: `nodes`, `joining`, `kits`, `groups`, or [`ACTIVITIES`]. Never within a transaction that writes: PostgreSQL
/// commits those that notify one after the other. `jobs::waker` does it after them.
pub async fn tell(db: impl PgExecutor<'_>, what: &str) -> sqlx::Result<()> {
    tell_on(db, CHANNEL, what).await
}

/// Tells something on a channel.
pub async fn tell_on(db: impl PgExecutor<'_>, channel: &str, what: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/notice/tell.sql")).bind(channel).bind(what).execute(db).await.map(|_| ())
}
