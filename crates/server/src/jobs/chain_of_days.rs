//! Chains the days: what was learned on each that is over has one digest, noted in the database and in the protected folder.

use crate::clock;
use crate::learned::tree_of;
use crate::store::evidence;
use crate::trust::NotedDays;
use constans_core::evidence::{DayLink, hex};
use jiff::SignedDuration;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use sqlx::PgPool;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(60);
/// A day is chained so long after it ended, and not while a transaction is open that began before that: its rows may be of the day.
const GRACE: SignedDuration = SignedDuration::from_mins(10);
/// This many days are chained by one transaction.
const AT_ONCE: usize = 16;

/// Days whose digest is not the one that was noted outside of the database.
#[derive(Default)]
pub struct AlteredDays(Mutex<Vec<Date>>);

impl AlteredDays {
    fn set(&self, days: Vec<Date>) {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = days;
    }

    /// Returns what is to be said of them; nothing if there are none.
    pub fn problem(&self) -> Option<String> {
        let days = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let first = days.first()?;
        Some(format!(
            "the history that compliance is counted from was altered: the digest of {first}{} is not the one that was noted in the protected folder. constans evidence check says more",
            if days.len() > 1 { format!(" and of {} other days", days.len() - 1) } else { String::new() }
        ))
    }
}

/// Goes on chaining.
pub async fn keep_chained(db: PgPool, noted: NotedDays, altered: Arc<AlteredDays>) {
    loop {
        match chain_next(&db).await {
            Ok(AT_ONCE) => continue,
            Ok(_) => {}
            Err(error) => tracing::warn!(%error, "the days are not chained yet"),
        }
        match note(&db, &noted).await {
            Ok(days) => altered.set(days),
            Err(error) => {
                tracing::warn!(%error, "the chain of days is not noted in the protected folder yet");
            }
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// Chains some of the days that are over. Returns how many.
///
/// # Errors
///
/// Returns why the database did not.
pub async fn chain_next(db: &PgPool) -> sqlx::Result<usize> {
    let mut transaction = db.begin().await?;
    if !evidence::try_chain(&mut *transaction).await?
        || evidence::may_still_learn(&mut *transaction, GRACE.as_secs_f64()).await?
    {
        return Ok(0);
    }
    let last = evidence::days(&mut *transaction).await?.pop();
    let next = match &last {
        Some(link) => link.day.tomorrow().ok(),
        None => evidence::first_learned(&mut *transaction).await?,
    };
    let today = (clock::now() - GRACE).to_zoned(TimeZone::UTC).date();
    let days =
        std::iter::successors(next, |day| day.tomorrow().ok()).take_while(|day| *day < today).take(AT_ONCE);
    let (mut before, mut chained) = (last.map(|link| link.digest).unwrap_or_default(), 0);
    for day in days {
        let tree = tree_of(&mut transaction, day).await?;
        let link = DayLink::chained(&before, day, tree.len() as u64, hex(&tree.root()));
        evidence::add_day(&mut *transaction, &link).await?;
        before = link.digest;
        chained += 1;
    }
    transaction.commit().await?;
    Ok(chained)
}

/// Notes the chain in the protected folder. Returns the days that were noted otherwise before.
async fn note(db: &PgPool, noted: &NotedDays) -> std::io::Result<Vec<Date>> {
    let days = evidence::days(db).await.map_err(std::io::Error::other)?;
    let differing = noted.note(&days)?;
    for link in &differing {
        tracing::error!(day = %link.day, noted = link.digest, "the history was altered: this day was chained otherwise");
    }
    Ok(differing.into_iter().map(|link| link.day).collect())
}
