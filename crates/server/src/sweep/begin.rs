//! Sweeps that begin at an hour: their nodes are woken when it has come.

use crate::jobs::waker::Waker;
use crate::store::notice::SWEEPS;
use crate::store::{recovery, sweep, wake};
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(5);

/// Goes on waking nodes for sweeps whose time to begin has come.
pub async fn keep_beginning(db: PgPool, waker: Waker) {
    loop {
        match begin(&db).await {
            Ok(false) => tokio::time::sleep(EVERY).await,
            Ok(true) => waker.wake(SWEEPS),
            Err(error) => {
                tracing::warn!(%error, "the nodes of a sweep are not woken for it yet");
                tokio::time::sleep(EVERY).await;
            }
        }
    }
}

/// Wakes the nodes of one sweep whose time to begin has come. Returns whether there was one.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn begin(db: &PgPool) -> sqlx::Result<bool> {
    let mut transaction = db.begin().await?;
    if recovery::since(&mut *transaction).await?.is_some() {
        return Ok(false);
    }
    let Some((no, who, because)) = sweep::to_begin(&mut *transaction).await? else { return Ok(false) };
    let nodes = sweep::open_nodes(&mut *transaction, no).await?;
    wake::add(&mut transaction, &who, Some(&format!("S{no}: {because}")), &nodes).await?;
    transaction.commit().await?;
    Ok(true)
}
