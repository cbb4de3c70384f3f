//! Keeps who was refused what, from where: gathered for some seconds, so that a thousand equal requests cost one row.

use crate::store::refused_request::{self, Refused};
use sqlx::PgPool;
use std::collections::HashMap;
use std::time::Duration;
use tokio::sync::mpsc::{Receiver, Sender, channel};

/// This many wait to be kept; what comes beyond that is in the log and in the metrics alone.
const MAX_WAITING: usize = 4_096;
/// This many different ones are kept each time.
const MAX_AT_ONCE: usize = 500;
const GATHERED_FOR: Duration = Duration::from_secs(2);

/// Takes refusals to be kept.
#[derive(Clone)]
pub struct RefusedRequests(Sender<Refused>);

impl RefusedRequests {
    /// Begins to keep them.
    pub fn begin(db: PgPool) -> Self {
        let (sender, receiver) = channel(MAX_WAITING);
        tokio::spawn(keep(db, receiver));
        Self(sender)
    }

    /// Takes one, without waiting.
    pub fn add(&self, refused: Refused) {
        let _ = self.0.try_send(refused);
    }
}

async fn keep(db: PgPool, mut receiver: Receiver<Refused>) {
    while let Some(first) = receiver.recv().await {
        tokio::time::sleep(GATHERED_FOR).await;
        let mut counted = HashMap::from([(first, 1)]);
        while let Ok(next) = receiver.try_recv() {
            if counted.len() < MAX_AT_ONCE || counted.contains_key(&next) {
                *counted.entry(next).or_insert(0) += 1;
            }
        }
        let kept = async {
            let mut transaction = db.begin().await?;
            for (refused, times) in &counted {
                refused_request::add(&mut transaction, refused, *times).await?;
            }
            refused_request::forget_old(&mut transaction).await?;
            transaction.commit().await
        };
        if let Err(error) = kept.await {
            let error: sqlx::Error = error;
            tracing::warn!(%error, refused = counted.len(), "refused requests were not kept");
        }
    }
}
