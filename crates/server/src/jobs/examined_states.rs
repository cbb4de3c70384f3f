//! Notes which nodes were examined as they are wanted, some seconds after their reports: whoever counts the fleet need not look at each
//! of them.

use crate::store::history;
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(20);
/// So many nodes are noted by one statement, so that nobody waits long for their rows.
const AT_ONCE: u64 = 2_000;
const PAUSE: Duration = Duration::from_millis(50);

/// Goes on noting.
pub async fn keep_noted(db: PgPool) {
    loop {
        tokio::time::sleep(EVERY).await;
        if let Err(error) = note_all(&db).await {
            tracing::warn!(%error, "which nodes were examined is not noted yet");
        }
    }
}

/// Notes all that can be noted now.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn note_all(db: &PgPool) -> sqlx::Result<()> {
    while history::note_examined(db, AT_ONCE).await? == AT_ONCE {
        tokio::time::sleep(PAUSE).await;
    }
    Ok(())
}
