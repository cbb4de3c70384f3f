//! Chains the audit trail by digest, in the order in which its entries were committed. Never within the act that is recorded: acts
//! would wait for each other.

use crate::store::audit::{self, EntryRow};
use constans_core::audit::{AuditEntry, chained};
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(1);

/// Goes on chaining.
pub async fn keep_chained(db: PgPool) {
    loop {
        tokio::time::sleep(EVERY).await;
        if let Err(error) = chain_next(&db).await {
            tracing::warn!(%error, "the audit trail is not chained yet");
        }
    }
}

async fn chain_next(db: &PgPool) -> sqlx::Result<()> {
    let mut transaction = db.begin().await?;
    if !audit::try_chain(&mut *transaction).await? {
        return Ok(());
    }
    let (mut place, mut digest) = audit::last(&mut *transaction).await?.unwrap_or_default();
    let mut links = Vec::new();
    for row in audit::unchained(&mut transaction).await? {
        digest = chained(&digest, &entry_of(&row));
        links.push((row.id, digest.clone()));
    }
    if links.is_empty() {
        return Ok(());
    }
    place += 1;
    audit::chain(&mut *transaction, place, &links).await?;
    transaction.commit().await
}

fn entry_of(row: &EntryRow) -> AuditEntry {
    AuditEntry {
        id: row.id,
        at_micros: row.at.to_jiff().as_microsecond(),
        who: row.who.clone(),
        did: row.did.clone(),
        subject: row.subject.clone(),
        detail: row.detail.clone(),
    }
}
