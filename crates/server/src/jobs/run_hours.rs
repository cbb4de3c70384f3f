//! Adds what this process took in of runs to the figures of the hour, now and then: no two reports wait for one row.

use crate::store::run_hour;
use constans_core::run::Counts;
use sqlx::PgPool;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

const EVERY: Duration = Duration::from_secs(10);
/// What a report says of itself is believed up to so many clauses.
const MAX_CLAUSES: u64 = 100_000;

/// What was taken in since it was added last.
#[derive(Default)]
pub struct RunCounts {
    runs: AtomicU64,
    corrections: AtomicU64,
    failures: AtomicU64,
}

impl RunCounts {
    /// Counts a run.
    pub fn count(&self, counts: &Counts) {
        self.runs.fetch_add(1, Ordering::Relaxed);
        self.corrections.fetch_add(counts.corrected.min(MAX_CLAUSES), Ordering::Relaxed);
        self.failures.fetch_add(counts.failed.min(MAX_CLAUSES), Ordering::Relaxed);
    }

    fn take(&self) -> [u64; 3] {
        [&self.runs, &self.corrections, &self.failures].map(|count| count.swap(0, Ordering::Relaxed))
    }

    fn put_back(&self, counts: [u64; 3]) {
        for (count, more) in [&self.runs, &self.corrections, &self.failures].into_iter().zip(counts) {
            count.fetch_add(more, Ordering::Relaxed);
        }
    }
}

/// Goes on adding.
pub async fn keep_added(db: PgPool, counts: Arc<RunCounts>) {
    loop {
        tokio::time::sleep(EVERY).await;
        let taken = counts.take();
        if taken[0] == 0 {
            continue;
        }
        if let Err(error) = run_hour::add(&db, taken).await {
            counts.put_back(taken);
            tracing::warn!(%error, "the runs of this hour are not counted yet");
        }
    }
}
