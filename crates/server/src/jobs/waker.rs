//! Wakes the open pages of all processes of the server when nodes reported something new: after the transaction, and at most four times a
//! second, since PostgreSQL commits transactions that notify one after the other. What is lost when the process ends between is
//! made up for by the next.

use crate::store::notice;
use sqlx::PgPool;
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::sync::Notify;

const PAUSE: Duration = Duration::from_millis(250);

/// Wakes them.
#[derive(Clone)]
pub struct Waker(Arc<Waiting>);

#[derive(Default)]
struct Waiting {
    topics: Mutex<BTreeSet<&'static str>>,
    something: Notify,
}

impl Waker {
    /// Begins to wake them.
    pub fn begin(db: PgPool) -> Self {
        let waiting = Arc::new(Waiting::default());
        tokio::spawn(wake(db, waiting.clone()));
        Self(waiting)
    }

    /// Tells what changed, without waiting.
    pub fn wake(&self, topic: &'static str) {
        self.0.topics.lock().unwrap_or_else(PoisonError::into_inner).insert(topic);
        self.0.something.notify_one();
    }
}

async fn wake(db: PgPool, waiting: Arc<Waiting>) {
    loop {
        waiting.something.notified().await;
        let topics = std::mem::take(&mut *waiting.topics.lock().unwrap_or_else(PoisonError::into_inner));
        for topic in topics {
            if let Err(error) = notice::tell(&db, topic).await {
                tracing::warn!(%error, "open pages were not woken");
            }
        }
        tokio::time::sleep(PAUSE).await;
    }
}
