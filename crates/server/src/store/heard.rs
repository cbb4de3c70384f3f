//! Check-ins, kept as spans: an unbroken row of kept promises is one row.

use constans_core::standing::{Hearing, Promise, USUAL_CUT_OFF, hearing};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::PgConnection;
use uuid::Uuid;

#[derive(sqlx::FromRow)]
struct LastRow {
    id: i64,
    last_at: SqlTimestamp,
    promised_at: SqlTimestamp,
}

/// Notes a check-in at `now`: it lengthens the node's last span if it came as promised, else it begins another. Returns
/// whether another began.
pub async fn note(db: &mut PgConnection, node: Uuid, now: Timestamp, promised_at: Timestamp, clock_off_ms: i64) -> sqlx::Result<bool> {
    let last: Option<LastRow> = sqlx::query_as("select id, last_at, promised_at from heard where node = $1 order by id desc limit 1 for update")
        .bind(node)
        .fetch_optional(&mut *db)
        .await?;
    let kept = last.as_ref().filter(|last| {
        let promise = Promise { heard_at: last.last_at.to_jiff(), next_at: last.promised_at.to_jiff() };
        hearing(Some(promise), USUAL_CUT_OFF, SignedDuration::ZERO, now) == Hearing::OnTime
    });
    let query = match kept {
        Some(last) => {
            let gap_ms = i64::try_from(now.duration_since(last.last_at.to_jiff()).as_millis()).unwrap_or(i64::MAX);
            sqlx::query(
                "update heard set last_at = $2, count = count + 1, largest_gap_ms = greatest(largest_gap_ms, $3), promised_at = $4, clock_off_ms = $5 where id = $1",
            )
            .bind(last.id)
            .bind(now.to_sqlx())
            .bind(gap_ms)
        }
        None => sqlx::query(
            "insert into heard (node, first_at, last_at, count, largest_gap_ms, promised_at, clock_off_ms) values ($1, $2, $2, 1, $3, $4, $5)",
        )
        .bind(node)
        .bind(now.to_sqlx())
        .bind(0_i64),
    };
    query.bind(promised_at.to_sqlx()).bind(clock_off_ms).execute(db).await.map(|_| kept.is_none())
}
