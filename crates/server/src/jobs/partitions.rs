//! The partitions of runs, made ahead of need by the month: no report ever waits for one.

use crate::clock;
use crate::store::run;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use sqlx::PgPool;
use std::time::Duration;

/// How often it is looked whether another month comes near.
const EVERY: Duration = Duration::from_secs(10);
/// This many months are there at any time, beginning with the present one.
const MONTHS: i32 = 4;

/// Makes the partitions of this month and of those to come.
///
/// # Errors
///
/// Returns why the database did not make them.
pub async fn make_ahead(db: &PgPool) -> sqlx::Result<()> {
    let this = month_of(clock::now());
    let mut transaction = db.begin().await?;
    for later in 0..MONTHS {
        let month = this.saturating_add(jiff::Span::new().months(later));
        run::make_partition(&mut transaction, month, month.saturating_add(jiff::Span::new().months(1)))
            .await?;
    }
    transaction.commit().await
}

/// Goes on making them ahead.
pub async fn keep_ahead(db: PgPool) {
    let mut made = month_of(clock::now());
    loop {
        tokio::time::sleep(EVERY).await;
        let this = month_of(clock::now());
        if this == made {
            continue;
        }
        match make_ahead(&db).await {
            Ok(()) => made = this,
            Err(error) => tracing::warn!(%error, "the partitions of the coming months are not made yet"),
        }
    }
}

fn month_of(at: Timestamp) -> Date {
    at.to_zoned(TimeZone::UTC).date().first_of_month()
}
