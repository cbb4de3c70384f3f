//! Notes as events what no check-in or report says: nodes that fall silent and check in again, certificates that end. Removes what was
//! noticed of nodes when it is old.

use super::waker::Waker;
use crate::clock;
use crate::store::event;
use jiff::SignedDuration;
use jiff_sqlx::ToSqlx as _;
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(10);
/// How long what was noticed of nodes is kept; what people did stays.
const KEPT_DAYS: i64 = 400;

/// Goes on noting. Several processes may: a row is noted by one of them.
pub async fn keep_noted(db: PgPool, waker: Waker) {
    loop {
        match note(&db).await {
            Ok(0) => {}
            Ok(_) => waker.wake("nodes"),
            Err(error) => tracing::warn!(%error, "events of nodes are not noted yet"),
        }
        tokio::time::sleep(EVERY).await;
    }
}

async fn note(db: &PgPool) -> sqlx::Result<u64> {
    let noted = event::note_silent(db).await?
        + event::note_checked_in_again(db).await?
        + event::note_ending(db).await?;
    event::prune(db, (clock::now() - SignedDuration::from_hours(24 * KEPT_DAYS)).to_sqlx()).await?;
    Ok(noted)
}
