//! Waking nodes: agents keep a request that this process holds in its door, without a connection to Rocket, until the node is to
//! check in. Whoever asks for that stores a wake; every process hears of its number and looks for its own nodes.
//!
//! None is missed: a request is entered first, then the newest wake of its node is read, then it waits.

mod holds;

use crate::callers::ShownCertificate;
use crate::clock;
use crate::intake::batch::{Batched, Batcher};
use crate::metrics::Metrics;
use crate::problem::ApiError;
use crate::store::wake::{self, NewHold, WAKES};
use constans_wire::check_in::Problem;
use constans_wire::wake::{NO_PLACE, WaitAnswer};
use holds::Holds;
use jiff::{SignedDuration, Timestamp, Unit};
use sqlx::PgPool;
use sqlx::postgres::PgListener;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};
use tokio::sync::{oneshot, watch};
use uuid::Uuid;

/// A request is held for this long, more or less a tenth.
const HELD_FOR: Duration = Duration::from_secs(240);
/// Between two writings of who left.
const LEAVE_PAUSE: Duration = Duration::from_millis(500);
/// This many who left are written together.
const LEAVE_TOGETHER: usize = 10_000;
/// How often it is looked whether those who were woken have come.
const LOOK_EVERY: Duration = Duration::from_millis(250);

impl Batched for NewHold {
    type Done = i64;

    fn node(&self) -> Uuid {
        self.node
    }

    async fn take(db: &PgPool, all: &[Self]) -> sqlx::Result<HashMap<Uuid, i64>> {
        wake::register(db, all).await
    }
}

/// The requests that this process holds.
pub struct Waking {
    db: PgPool,
    holds: Mutex<Holds>,
    together: Batcher<NewHold>,
    left: UnboundedSender<(Uuid, Timestamp)>,
    stop: watch::Sender<bool>,
    metrics: Arc<Metrics>,
}

/// Why a request is not held.
pub enum NotHeld {
    /// This process holds as many as it can.
    NoPlace,
    /// The server stops.
    Stopping,
    /// The node is not admitted, or it could not be found out whether it is.
    Refused(ApiError),
}

impl NotHeld {
    /// Returns the problem as it is sent.
    pub fn problem(&self) -> Problem {
        let (kind, title) = match self {
            Self::NoPlace => (NO_PLACE, "the server holds as many requests as it can"),
            Self::Stopping => ("stopping", "the server stops"),
            Self::Refused(error) => return error.problem(),
        };
        Problem {
            kind: kind.to_owned(),
            title: title.to_owned(),
            status: 503,
            hint: None,
            detail: None,
            change: None,
            findings: Vec::new(),
        }
    }
}

/// The place of a request, until it is answered.
struct Place<'w> {
    waking: &'w Waking,
    node: Uuid,
    no: u64,
    until: Timestamp,
    is_answered: bool,
}

impl Drop for Place<'_> {
    fn drop(&mut self) {
        let was_there = self.waking.holds().leave(self.node, self.no);
        self.waking.metrics.held.set(self.waking.holds().count() as i64);
        if was_there && !self.is_answered {
            // Its connection broke.
            let _ = self.waking.left.send((self.node, self.until));
        }
    }
}

impl Waking {
    /// Begins to hold requests, `most` at a time, where so many others can be under way.
    pub fn begin(db: PgPool, most: usize, requests: usize, metrics: Arc<Metrics>) -> Arc<Self> {
        let (left, leaving) = unbounded_channel();
        let (stop, _) = watch::channel(false);
        let together = Batcher::begin(db.clone());
        let holds = Mutex::new(Holds::new(most, requests));
        let waking = Arc::new(Self { db: db.clone(), holds, together, left, stop, metrics });
        tokio::spawn(listen(waking.clone()));
        tokio::spawn(go_on(waking.clone()));
        tokio::spawn(note_leaving(db, leaving));
        waking
    }

    /// Holds a request until the node is to check in, or the time is over. `after` is the newest wake that the node knows.
    ///
    /// # Errors
    ///
    /// Returns why it is not held.
    pub async fn hold(&self, shown: &ShownCertificate, after: i64) -> Result<WaitAnswer, NotHeld> {
        let (woken, mut is_woken) = oneshot::channel();
        let mut stop = self.stop.subscribe();
        if *stop.borrow_and_update() {
            return Err(NotHeld::Stopping);
        }
        let no = self.holds().enter(shown.node, woken).ok_or(NotHeld::NoPlace)?;
        let held_for = HELD_FOR.mul_f64(0.9 + 0.2 * fastrand::f64());
        let until = clock::now() + SignedDuration::try_from(held_for).unwrap_or_default();
        // As the database has it, so that it is found again.
        let until = until.round(Unit::Millisecond).unwrap_or(until);
        let mut place = Place { waking: self, node: shown.node, no, until, is_answered: false };
        self.metrics.held.set(self.holds().count() as i64);
        let new = NewHold { node: shown.node, spki: shown.spki.clone(), until };
        let newest = match self.together.take(new).await {
            Some(newest) => newest,
            None => self.alone(shown, until).await.map_err(NotHeld::Refused)?,
        };
        let wake = if newest == after {
            tokio::select! {
                // Another request of this node came in its place if there is none.
                wake = &mut is_woken => wake.ok(),
                () = tokio::time::sleep(held_for) => None,
                _ = stop.changed() => return Err(NotHeld::Stopping),
            }
        } else {
            Some(newest)
        };
        place.is_answered = true;
        Ok(WaitAnswer { wake })
    }

    /// Registers a request that was not registered together with others: finds out why, or does it.
    async fn alone(&self, shown: &ShownCertificate, until: Timestamp) -> Result<i64, ApiError> {
        let node = shown.caller(&self.db).await?.id;
        let new = NewHold { node, spki: shown.spki.clone(), until };
        let newest = wake::register(&self.db, &[new]).await?;
        newest.get(&node).copied().ok_or(ApiError::Unknown("certificate"))
    }

    /// A node checked in: if it was woken, the next one may be.
    pub fn checked_in(&self, node: Uuid) {
        self.holds().checked_in(node, Instant::now());
    }

    /// Lets all requests go: the server stops.
    pub fn stop(&self) {
        self.stop.send_replace(true);
    }

    /// Returns the database.
    pub fn db(&self) -> &PgPool {
        &self.db
    }

    fn holds(&self) -> MutexGuard<'_, Holds> {
        self.holds.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Wakes those of this process that a wake is for; all that were woken, if it is not known which wake there was.
    async fn wake(&self, wake: Option<i64>) -> sqlx::Result<()> {
        let waiting = self.holds().waiting();
        if !waiting.is_empty() {
            let woken = wake::of_waiting(&self.db, &waiting, wake).await?;
            self.holds().wake(woken, Instant::now());
        }
        Ok(())
    }
}

/// Hears of wakes from all processes of the server.
async fn listen(waking: Arc<Waking>) {
    loop {
        if let Ok(mut listener) = PgListener::connect_with(&waking.db).await
            && listener.listen(WAKES).await.is_ok()
            // What was told before is not heard.
            && waking.wake(None).await.is_ok()
        {
            // `None`: the connection broke, and was made again; what was told meanwhile is not known.
            while let Ok(told) = listener.try_recv().await {
                let wake = told.and_then(|told| told.payload().parse().ok());
                if let Err(error) = waking.wake(wake).await {
                    tracing::warn!(%error, "nodes were not woken");
                    break;
                }
            }
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}

/// Goes on waking when nodes that were woken do not come.
async fn go_on(waking: Arc<Waking>) {
    loop {
        tokio::time::sleep(LOOK_EVERY).await;
        waking.holds().go_on(Instant::now());
    }
}

async fn note_leaving(db: PgPool, mut leaving: UnboundedReceiver<(Uuid, Timestamp)>) {
    let mut gone = Vec::new();
    while leaving.recv_many(&mut gone, LEAVE_TOGETHER).await > 0 {
        if let Err(error) = wake::leave(&db, &gone).await {
            tracing::warn!(%error, nodes = gone.len(), "that nodes cannot be woken is not noted");
        }
        gone.clear();
        // Those who leave meanwhile are noted together.
        tokio::time::sleep(LEAVE_PAUSE).await;
    }
}
