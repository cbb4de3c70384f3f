//! The figures of all nodes at the end of each day, kept so that a chart is not counted again; and the days that are to be counted again.

use super::compliance::{CountedRow, KeptRow};
use crate::clock::zone;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff_sqlx::{Date as SqlDate, Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{PgConnection, PgExecutor, QueryBuilder};
use std::collections::BTreeMap;

/// Figures of this many days are kept; those of earlier ones are counted when somebody asks.
pub const DAYS_KEPT: i32 = 92;

/// The dimension and the key of all clauses together.
pub const ALL: (&str, &str) = ("all", "");

/// This many figures are stored by one statement.
const AT_ONCE: usize = 1_000;

/// Returns the end of a day, in the zone in which days end now.
pub fn end_of(day: Date) -> Timestamp {
    end_in(day, zone().clone())
}

/// Returns the end of a day in UTC.
pub fn end_in_utc(day: Date) -> Timestamp {
    end_in(day, TimeZone::UTC)
}

fn end_in(day: Date, zone: TimeZone) -> Timestamp {
    let end = day.tomorrow().and_then(|next| next.to_zoned(zone));
    end.map_or(Timestamp::MAX, |end| end.timestamp())
}

/// The figures of a day.
#[derive(Debug, sqlx::FromRow)]
pub struct DayRow {
    /// The day.
    pub day: SqlDate,
    /// What was counted at its end.
    #[sqlx(flatten)]
    pub counted: CountedRow,
}

/// Marks days, from one until another, whose figures may be others now.
pub async fn mark(db: impl PgExecutor<'_>, from: Date, until: Date) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/day_figure/mark.sql"))
        .bind(from.to_sqlx())
        .bind(until.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Returns the marks: id and day.
pub async fn marks(db: impl PgExecutor<'_>) -> sqlx::Result<Vec<(i64, SqlDate)>> {
    sqlx::query_as(include_str!("sql/day_figure/marks.sql")).fetch_all(db).await
}

/// Removes marks.
pub async fn unmark(db: impl PgExecutor<'_>, ids: &[i64]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/day_figure/unmark.sql")).bind(ids).execute(db).await.map(|_| ())
}

/// Returns when the first node came to the fleet.
pub async fn first_moment(db: impl PgExecutor<'_>) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar(include_str!("sql/day_figure/first_moment.sql")).fetch_one(db).await
}

/// Returns when the days from one until another ended that were ever counted, marked ones too: another zone since then moves none of them.
pub async fn ends(
    db: impl PgExecutor<'_>,
    from: Date,
    until: Date,
) -> sqlx::Result<BTreeMap<Date, Timestamp>> {
    let rows: Vec<(SqlDate, SqlTimestamp)> = sqlx::query_as(include_str!("sql/day_figure/ends.sql"))
        .bind(from.to_sqlx())
        .bind(until.to_sqlx())
        .fetch_all(db)
        .await?;
    Ok(rows.into_iter().map(|(day, ends_at)| (day.to_jiff(), ends_at.to_jiff())).collect())
}

/// Returns whether nobody else counts days until the transaction ends.
pub async fn one_at_a_time(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/day_figure/one_at_a_time.sql")).fetch_one(db).await
}

/// Returns the figures of the days from one until another that are kept and not marked: of all clauses, or of those that are asked about.
pub async fn between(
    db: impl PgExecutor<'_>,
    from: Date,
    until: Date,
    (dimension, key): (&str, &str),
) -> sqlx::Result<Vec<DayRow>> {
    sqlx::query_as(include_str!("sql/day_figure/between.sql"))
        .bind(from.to_sqlx())
        .bind(until.to_sqlx())
        .bind(dimension)
        .bind(key)
        .fetch_all(db)
        .await
}

/// Forgets the figures of days.
pub async fn forget(db: impl PgExecutor<'_>, days: &[Date]) -> sqlx::Result<()> {
    let days: Vec<SqlDate> = days.iter().map(|day| day.to_sqlx()).collect();
    sqlx::query(include_str!("sql/day_figure/forget.sql")).bind(days).execute(db).await.map(|_| ())
}

/// Keeps figures of days, each with when its day ended.
pub async fn keep(db: &mut PgConnection, rows: &[(Date, Timestamp, KeptRow)]) -> sqlx::Result<()> {
    for some in rows.chunks(AT_ONCE) {
        let mut query = QueryBuilder::new(
            "insert into day_figure (day, ends_at, dimension, key, compliant, in_doubt, noncompliant, conceded, unexamined, unknown,
                nodes_compliant, nodes_deviating, nodes_critical, nodes_conceded, nodes_not_known) ",
        );
        query.push_values(some, |mut values, (day, ends_at, KeptRow { dimension, counted: row })| {
            values.push_bind(day.to_sqlx()).push_bind(ends_at.to_sqlx()).push_bind(dimension);
            values.push_bind(row.key.as_deref().unwrap_or_default());
            let counts = [
                row.compliant,
                row.in_doubt,
                row.noncompliant,
                row.conceded,
                row.unexamined,
                row.unknown,
                row.nodes_compliant,
                row.nodes_deviating,
                row.nodes_critical,
                row.nodes_conceded,
                row.nodes_not_known,
            ];
            for count in counts {
                values.push_bind(count);
            }
        });
        query.build().persistent(false).execute(&mut *db).await?;
    }
    Ok(())
}
