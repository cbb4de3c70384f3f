//! The one row of the fleet, and the lock under which desired state is handed out.

use sqlx::{PgConnection, PgExecutor};

/// The lock of the desired state: exclusive for a hand-out, shared for what alters single nodes.
const DESIRED_STATE: i64 = 0x6465_7369_7265_6421;

/// The fleet.
#[derive(Debug, Clone, PartialEq, Eq, sqlx::FromRow)]
pub struct FleetRow {
    /// Rises with each hand-out.
    pub rev: i64,
    /// The version of the resolving code that was used last.
    pub resolver: i32,
    /// The epoch of generations.
    pub epoch: i64,
    /// What this transaction sees, as PostgreSQL writes it.
    pub snapshot: String,
}

/// Reads the fleet together with the snapshot of the reading.
pub async fn read(db: impl PgExecutor<'_>) -> sqlx::Result<FleetRow> {
    sqlx::query_as(include_str!("sql/fleet/read.sql")).fetch_one(db).await
}

/// Waits at most 200 ms for the exclusive lock; attempts at the shared one meanwhile are refused. The transaction failed
/// if it is not had.
pub async fn lock(db: &mut PgConnection) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/fleet/lock_wait_200_ms.sql")).execute(&mut *db).await?;
    lock_patiently(&mut *db).await?;
    sqlx::query(include_str!("sql/fleet/lock_wait_5_s.sql")).execute(db).await.map(|_| ())
}

/// Waits for the exclusive lock as long as for any.
pub async fn lock_patiently(db: &mut PgConnection) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/fleet/lock_patiently.sql"))
        .bind(DESIRED_STATE)
        .execute(db)
        .await
        .map(|_| ())
}

/// Waits for the shared lock.
pub async fn share(db: impl PgExecutor<'_>) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/fleet/share.sql")).bind(DESIRED_STATE).execute(db).await.map(|_| ())
}

/// Takes the shared lock unless someone hands out, or waits to. Returns whether it is had.
pub async fn try_share(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/fleet/try_share.sql")).bind(DESIRED_STATE).fetch_one(db).await
}

/// Raises the revision, and notes the version of the resolving code. Under the exclusive lock only.
pub async fn raise(db: impl PgExecutor<'_>, resolver: i32) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/fleet/raise.sql")).bind(resolver).execute(db).await.map(|_| ())
}

/// Begins an epoch: what was prepared before holds no longer, and every node counts as edited.
pub async fn begin_epoch(db: &mut PgConnection, epoch: i64) -> sqlx::Result<()> {
    // Also a database that is restored a second time, to before the first, begins a later epoch of its transactions.
    sqlx::query(include_str!("sql/fleet/begin_epoch_update_fleet.sql"))
        .bind(epoch)
        .bind(crate::clock::now().as_second())
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/fleet/begin_epoch_update_node.sql")).execute(db).await.map(|_| ())
}
