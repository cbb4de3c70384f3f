//! Marks: what each check-in must show, so that two machines with one identity are told apart.

use constans_wire::check_in::Held;
use sqlx::{PgConnection, PgExecutor};
use uuid::Uuid;

/// The marks of one node.
#[derive(Debug, sqlx::FromRow)]
pub struct MarkRow {
    /// The one given last.
    pub current: Uuid,
    /// The one that was shown for it.
    pub before: Option<Uuid>,
    /// Whether two machines were seen with this identity.
    pub is_double: bool,
}

/// Returns a node's marks. They are locked until the transaction ends.
pub async fn of(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<MarkRow>> {
    sqlx::query_as("select current, before, double_since is not null as is_double from node_mark where node = $1 for update")
        .bind(node)
        .fetch_optional(db)
        .await
}

/// Gives a new mark beside the one that was shown, and notes whether two machines were seen, and what the node has.
///
/// The one that was shown stays good: the answer may be lost. The one given before, if it was not shown, does not: whoever
/// shows it later is another machine than the one that was here now.
pub async fn give(db: impl PgExecutor<'_>, node: Uuid, mark: Uuid, shown: Option<Uuid>, is_double: bool, has: Option<&Held>) -> sqlx::Result<()> {
    sqlx::query(
        "insert into node_mark (node, current, double_since, has_epoch, has_counter, has_state, before) values ($1, $2, case when $3 then now() end, $4, $5, $6, $7)
         on conflict (node) do update set before = excluded.before, current = excluded.current,
             has_epoch = excluded.has_epoch, has_counter = excluded.has_counter, has_state = excluded.has_state,
             double_since = case when $3 then coalesce(node_mark.double_since, now()) else node_mark.double_since end",
    )
    .bind(node)
    .bind(mark)
    .bind(is_double)
    .bind(has.map(|has| has.generation.epoch))
    .bind(has.map(|has| has.generation.counter))
    .bind(has.map(|has| &has.digest))
    .bind(shown)
    .execute(db)
    .await
    .map(|_| ())
}

/// Says that a person has decided: whoever checks in next is the node. Returns whether there was anything to decide.
pub async fn settle(db: &mut PgConnection, node: Uuid) -> sqlx::Result<bool> {
    let done = sqlx::query("delete from node_mark where node = $1 and double_since is not null").bind(node).execute(db).await?;
    Ok(done.rows_affected() > 0)
}

/// Forgets the marks of a node that comes back on a new machine.
pub async fn forget(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<()> {
    sqlx::query("delete from node_mark where node = $1").bind(node).execute(db).await.map(|_| ())
}
