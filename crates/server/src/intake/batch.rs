//! Batcher: what comes while a statement runs is done by the next one, all together. One statement for many nodes costs
//! little more than one for one node, and one commit is waited for instead of many.

use sqlx::PgPool;
use std::collections::{HashMap, HashSet};
use std::future::Future;
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

/// This many are done by one statement at most.
const MAX_BATCH: usize = 256;

/// What nodes send, and what one statement can store of many of them.
pub trait Batched: Sized + Send + Sync + 'static {
    /// The result of one.
    type Done: Send + 'static;

    /// Returns the node that sent it.
    fn node(&self) -> Uuid;

    /// Takes in what is plain of these, each of another node, and returns by node its result.
    fn take(
        db: &PgPool,
        all: &[Self],
    ) -> impl Future<Output = sqlx::Result<HashMap<Uuid, Self::Done>>> + Send;
}

/// Where what nodes send is gathered.
pub struct Batcher<T: Batched> {
    waiting: mpsc::Sender<Waiting<T>>,
}

struct Waiting<T: Batched> {
    sent: T,
    answer: oneshot::Sender<Option<T::Done>>,
}

impl<T: Batched> Batcher<T> {
    /// Begins to gather.
    pub fn begin(db: PgPool) -> Self {
        let (waiting, queue) = mpsc::channel(MAX_BATCH);
        tokio::spawn(go_on(db, queue));
        Self { waiting }
    }

    /// Returns how many wait.
    pub fn waiting(&self) -> usize {
        self.waiting.max_capacity() - self.waiting.capacity()
    }

    /// Takes in what a node sent together with what others send, if it is plain. If it is not, or if that fails, nothing was
    /// promised of it, and it is to be stored by itself.
    pub async fn take(&self, sent: T) -> Option<T::Done> {
        let (answer, answered) = oneshot::channel();
        self.waiting.send(Waiting { sent, answer }).await.ok()?;
        answered.await.ok()?
    }
}

async fn go_on<T: Batched>(db: PgPool, mut queue: mpsc::Receiver<Waiting<T>>) {
    let mut waiting = Vec::new();
    while queue.recv_many(&mut waiting, MAX_BATCH).await > 0 {
        let mut seen = HashSet::new();
        // A second one of the same node is dropped; its sender then processes it alone.
        let (all, answers): (Vec<T>, Vec<_>) = waiting
            .drain(..)
            .filter(|waiting| seen.insert(waiting.sent.node()))
            .map(|waiting| (waiting.sent, waiting.answer))
            .unzip();
        let mut done = match T::take(&db, &all).await {
            Ok(done) => done,
            Err(error) => {
                tracing::warn!(%error, together = all.len(), "storing reports one by one after a failed batch");
                HashMap::new()
            }
        };
        for (sent, answer) in all.iter().zip(answers) {
            // Who no longer waits has gone.
            let _ = answer.send(done.remove(&sent.node()));
        }
    }
}
