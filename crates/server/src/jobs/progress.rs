//! How far long work is, for those who wait for it.

use crate::store::{activity, notice};
use constans_wire::activity::Activity;
use sqlx::PgPool;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// Activity is told of so often, and not at all if it ends before.
const EVERY: Duration = Duration::from_secs(1);

/// Tells how far work is; that it ended is told when this is dropped.
pub struct Progress {
    db: PgPool,
    id: Uuid,
    activity: Activity,
    told_at: Instant,
    is_told: bool,
}

impl Progress {
    /// Begins work of somebody.
    pub fn begin(db: &PgPool, who: &str, what: String) -> Self {
        let activity = Activity { what, who: who.to_owned(), done: 0, total: 0, began: crate::clock::now() };
        Self { db: db.clone(), id: Uuid::now_v7(), activity, told_at: Instant::now(), is_told: false }
    }

    /// Notes how much is done. Nobody waits for this: it is left out while no connection is free.
    pub async fn reached(&mut self, done: usize, total: usize) {
        (self.activity.done, self.activity.total) = (done, total);
        if self.told_at.elapsed() < EVERY {
            return;
        }
        self.told_at = Instant::now();
        if let Some(mut db) = self.db.try_acquire() {
            self.is_told = true;
            let told = activity::update(&mut *db, self.id, &self.activity).await;
            if let Err(error) = told.and(notice::tell(&mut *db, notice::ACTIVITIES).await) {
                tracing::warn!(%error, "the progress of an activity was not stored");
            }
        }
    }
}

impl Drop for Progress {
    fn drop(&mut self) {
        if let (true, Ok(runtime)) = (self.is_told, tokio::runtime::Handle::try_current()) {
            let (db, id) = (self.db.clone(), self.id);
            runtime.spawn(async move {
                if let Err(error) = activity::end(&db, id).await.and(notice::tell(&db, notice::ACTIVITIES).await) {
                    tracing::warn!(%error, "the end of an activity was not stored");
                }
            });
        }
    }
}
