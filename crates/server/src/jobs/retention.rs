//! Deletes what is too old to be kept, in steps: what a moment that is still kept needs stays, and so does what proves it.

use crate::clock;
use crate::learned::tree_of;
use crate::store::day_figure::{DAYS_KEPT, end_in_utc};
use crate::store::retention::{self, AT_ONCE, Old};
use constans_core::evidence::hex;
use jiff::tz::TimeZone;
use jiff::{SignedDuration, ToSpan as _};
use sqlx::PgPool;
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(600);
/// Between two steps, so that others get on.
const PAUSE: Duration = Duration::from_millis(50);
/// So long jobs are kept that ended.
const JOBS_KEPT: SignedDuration = SignedDuration::from_hours(90 * 24);

/// So long it is kept which nodes were asked to check in at once or tested; that they were asked is in the audit trail.
const WAKES_KEPT: SignedDuration = SignedDuration::from_hours(7 * 24);
/// So long drills are kept.
const DRILLS_KEPT: SignedDuration = SignedDuration::from_hours(400 * 24);
/// So long is kept what nodes told of their runs to who followed them; what they came to is in their reports.
const FOLLOWED_KEPT: SignedDuration = SignedDuration::from_hours(1);
/// So long is kept what nodes told in inspections; that they were asked is in the audit trail.
const TOLD_KEPT: SignedDuration = SignedDuration::from_hours(24);

/// For how many days things are kept.
#[derive(Debug, Clone, Copy)]
pub struct DaysKept {
    /// The history: any moment of it can be asked about.
    pub history: u32,
    /// What nodes had on record when something drifted.
    pub related_records: u32,
}

/// Goes on deleting.
pub async fn keep_tidy(db: PgPool, kept: DaysKept) {
    loop {
        if let Err(error) = delete_old(&db, kept).await {
            tracing::warn!(%error, "what is too old is not deleted yet");
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Deletes all that is older. Returns how many rows.
///
/// Days are deleted from only once they are chained, and only if the rows are those that were chained: what somebody altered stays to
/// be looked at.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn delete_old(db: &PgPool, kept: DaysKept) -> sqlx::Result<u64> {
    let now = clock::now();
    let first = now.to_zoned(TimeZone::UTC).date().saturating_sub(i64::from(kept.history).days());
    let related_kept = SignedDuration::from_hours(24 * i64::from(kept.related_records));
    let mut deleted = 0;
    while chained_leaves(db, first).await? {}
    let until = retention::last_deleted(db).await?.map(end_in_utc);
    for old in Old::ALL {
        let before = match (old, until) {
            (Old::Jobs, _) => now - JOBS_KEPT,
            (Old::RelatedRecords, _) => now - related_kept,
            (Old::Inspections, _) => now - TOLD_KEPT,
            (Old::Drills, _) => now - DRILLS_KEPT,
            (Old::Followed, _) => now - FOLLOWED_KEPT,
            (Old::Wakes | Old::SelfTests, _) => now - WAKES_KEPT,
            (_, Some(until)) => until,
            (_, None) => continue,
        };
        loop {
            let rows = retention::delete(db, old, before).await?;
            deleted += rows;
            if rows < AT_ONCE {
                break;
            }
            tokio::time::sleep(PAUSE).await;
        }
    }
    if let Some(until) = until {
        deleted += forget_left_nodes(db, until).await?;
        let mut transaction = db.begin().await?;
        if retention::try_lock(&mut *transaction).await? {
            let month = until.to_zoned(TimeZone::UTC).date().first_of_month();
            for name in retention::drop_partitions(&mut transaction, month).await? {
                tracing::info!(name, "a month of runs was dropped");
            }
            transaction.commit().await?;
        }
    }
    Ok(deleted)
}

/// Deletes what is kept of nodes that left before a moment, and has the states deleted that nothing has any more. Returns how many nodes.
async fn forget_left_nodes(db: &PgPool, until: jiff::Timestamp) -> sqlx::Result<u64> {
    let mut nodes = 0;
    loop {
        let mut transaction = db.begin().await?;
        let of_some = retention::delete_of_left(&mut transaction, until).await?;
        if of_some == 0 {
            return Ok(nodes);
        }
        let states = retention::note_unused_states(&mut *transaction, until).await?;
        transaction.commit().await?;
        tracing::info!(nodes = of_some, states, "what was kept of nodes that left long ago is deleted");
        nodes += of_some;
        tokio::time::sleep(PAUSE).await;
    }
}

/// Keeps the leaves of some days before a day in place of their rows. Returns whether there may be more.
async fn chained_leaves(db: &PgPool, before: jiff::civil::Date) -> sqlx::Result<bool> {
    let mut transaction = db.begin().await?;
    if !retention::try_lock(&mut *transaction).await? {
        return Ok(false);
    }
    let without_figures = clock::now().to_zoned(TimeZone::UTC).date().saturating_sub(DAYS_KEPT.days());
    let days = retention::next_days(&mut *transaction, before, without_figures).await?;
    for (day, rows, root) in &days {
        let tree = tree_of(&mut transaction, *day).await?;
        if hex(&tree.root()) != *root || i64::try_from(tree.len()) != Ok(*rows) {
            tracing::error!(%day, "the history was altered: nothing from this day on is deleted");
            transaction.commit().await?;
            return Ok(false);
        }
        retention::keep_leaves(&mut *transaction, *day, &tree.leaves().concat()).await?;
    }
    transaction.commit().await?;
    Ok(!days.is_empty())
}
