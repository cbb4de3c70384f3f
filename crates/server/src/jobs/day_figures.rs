//! The figures of days that are over, kept up to date: counted once, and again if a later report may have altered them.

use crate::clock;
use crate::store::compliance::{KeptRow, Moment, count_to_keep};
use crate::store::day_figure::{self, ALL, DAYS_KEPT, end_in_utc, end_of};
use crate::store::retention;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan as _};
use sqlx::PgPool;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(60);
/// This many days are counted by one statement.
const AT_ONCE: usize = 8;

/// Goes on keeping them up to date.
pub async fn keep_up_to_date(db: PgPool) {
    loop {
        match bring_up_to_date(&db).await {
            Ok(days) if days == AT_ONCE => continue,
            Ok(_) => {}
            Err(error) => tracing::warn!(%error, "the figures of past days are not up to date yet"),
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Counts some of the days that are over and not kept, or marked, the last ones first. Returns how many.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn bring_up_to_date(db: &PgPool) -> sqlx::Result<usize> {
    let mut transaction = db.begin().await?;
    if !day_figure::one_at_a_time(&mut *transaction).await? {
        return Ok(0);
    }
    // What is marked after this is counted the next time.
    let mut marks: BTreeMap<Date, Vec<i64>> = BTreeMap::new();
    for (id, day) in day_figure::marks(&mut *transaction).await? {
        marks.entry(day.to_jiff()).or_default().push(id);
    }
    let Some(first) = day_figure::first_moment(&mut *transaction).await? else { return Ok(0) };
    let now = clock::now();
    let day_of = |at: Timestamp| at.to_zoned(clock::zone().clone()).date();
    let today = day_of(now);
    let oldest = day_of(first.to_jiff()).max(today.saturating_sub(DAYS_KEPT.days()));
    // Of days whose history is deleted the figures stay as they are.
    let deleted = retention::last_deleted(&mut *transaction).await?;
    let oldest = deleted.map_or(oldest, |day| oldest.max(day_of(end_in_utc(day))));
    let kept: BTreeSet<Date> = day_figure::between(&mut *transaction, oldest, today, ALL)
        .await?
        .into_iter()
        .map(|row| row.day.to_jiff())
        .collect();
    let days: Vec<Date> = std::iter::successors(today.yesterday().ok(), |day| day.yesterday().ok())
        .take_while(|day| *day >= oldest)
        .filter(|day| !kept.contains(day))
        .take(AT_ONCE)
        .collect();
    let known_ends = day_figure::ends(&mut *transaction, oldest, today).await?;
    let ends: Vec<(Date, Timestamp)> =
        days.iter().map(|day| (*day, known_ends.get(day).copied().unwrap_or_else(|| end_of(*day)))).collect();
    let moments: Vec<Moment> =
        ends.iter().map(|(_, at)| Moment { at: *at, known_at: now, is_now: false }).collect();
    if !days.is_empty() {
        day_figure::forget(&mut *transaction, &days).await?;
        let rows: Vec<(Date, Timestamp, KeptRow)> = count_to_keep(&mut *transaction, &moments)
            .await?
            .into_iter()
            .filter_map(|row| {
                let (day, at) = *ends.get(usize::try_from(row.counted.moment).ok()?)?;
                Some((day, at, row))
            })
            .collect();
        day_figure::keep(&mut transaction, &rows).await?;
    }
    let is_done = |day: &Date| *day < oldest || days.contains(day);
    let done: Vec<i64> = marks.into_iter().filter(|(day, _)| is_done(day)).flat_map(|(_, ids)| ids).collect();
    day_figure::unmark(&mut *transaction, &done).await?;
    transaction.commit().await?;
    Ok(days.len())
}
