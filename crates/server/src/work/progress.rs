//! How far long work is, for those who wait for it.

use crate::store::{notice, work};
use constans_wire::work::Work;
use sqlx::PgPool;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Work is told of so often, and not at all if it ends before.
const EVERY: Duration = Duration::from_secs(1);

/// Tells how far work is; that it ended is told when this is dropped.
pub struct Progress {
    db: PgPool,
    id: Uuid,
    work: Work,
    told_at: Instant,
    is_told: bool,
}

impl Progress {
    /// Begins work of somebody.
    pub fn begin(db: &PgPool, who: &str, what: String) -> Self {
        let work = Work { what, who: who.to_owned(), done: 0, total: 0, began: crate::clock::now() };
        Self { db: db.clone(), id: Uuid::now_v7(), work, told_at: Instant::now(), is_told: false }
    }

    /// Notes how much is done. Nobody waits for this: it is left out while no connection is free.
    pub async fn reached(&mut self, done: usize, total: usize) {
        (self.work.done, self.work.total) = (done, total);
        if self.told_at.elapsed() < EVERY {
            return;
        }
        self.told_at = Instant::now();
        if let Some(mut db) = self.db.try_acquire() {
            self.is_told = true;
            let told = work::tell(&mut *db, self.id, &self.work).await;
            if let Err(error) = told.and(notice::tell(&mut *db, notice::WORK).await) {
                tracing::warn!(%error, "how far work is could not be told");
            }
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let (true, Ok(runtime)) = (self.is_told, tokio::runtime::Handle::try_current()) {
            let (db, id) = (self.db.clone(), self.id);
            runtime.spawn(async move {
                if let Err(error) = work::end(&db, id).await.and(notice::tell(&db, notice::WORK).await) {
                    tracing::warn!(%error, "that work ended could not be told");
                }
            });
        }
    }
}
