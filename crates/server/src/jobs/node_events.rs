//! Notes as events what no check-in or report shows: nodes that fall silent and check in again, certificates that end. Removes what was
//! noticed of nodes when it is old. Counts all events for the metrics of this process.

use super::waker::Waker;
use crate::clock;
use crate::metrics::{EventKind, Metrics};
use crate::store::event::{self, EventChoice, EventCursor};
use jiff::SignedDuration;
use jiff_sqlx::ToSqlx as _;
use sqlx::PgPool;
use std::sync::Arc;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(10);
/// The number of events that are read at once to be counted.
const READ_AT_ONCE: i64 = 1_000;

/// Goes on noting and counting. Several processes may: a row is noted by one of them, and each counts all.
pub async fn keep_noted(db: PgPool, days_kept: u32, waker: Waker, metrics: Arc<Metrics>) {
    let mut counted = None;
    loop {
        match note(&db, days_kept).await {
            Ok(0) => {}
            Ok(_) => waker.wake("nodes"),
            Err(error) => tracing::warn!(%error, "events of nodes are not noted yet"),
        }
        match count(&db, counted.clone(), &metrics).await {
            Ok(last) => counted = Some(last),
            Err(error) => tracing::warn!(%error, "events are not counted yet"),
        }
        tokio::time::sleep(EVERY).await;
    }
}

async fn note(db: &PgPool, days_kept: u32) -> sqlx::Result<u64> {
    let noted = event::note_silent(db).await?
        + event::note_checked_in_again(db).await?
        + event::note_ending(db).await?;
    event::prune(db, (clock::now() - SignedDuration::from_hours(24 * i64::from(days_kept))).to_sqlx())
        .await?;
    Ok(noted)
}

/// Counts the events after a place, and returns the last place; without one nothing is counted that happened before.
async fn count(db: &PgPool, after: Option<EventCursor>, metrics: &Metrics) -> sqlx::Result<EventCursor> {
    let Some(mut last) = after else {
        return Ok(event::last(db).await?.unwrap_or_else(EventCursor::first));
    };
    let all = EventChoice { node: None, with_acts: true };
    loop {
        let rows = event::after(db, &last, all, READ_AT_ONCE).await?;
        let is_end = i64::try_from(rows.len()).is_ok_and(|read| read < READ_AT_ONCE);
        if let Some(row) = rows.last() {
            last = row.cursor();
        }
        for row in rows {
            metrics.events.get_or_create(&EventKind { kind: row.kind }).inc();
        }
        if is_end {
            return Ok(last);
        }
    }
}
