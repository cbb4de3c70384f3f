//! When a connection was last used: one that asks for nothing is ended.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::time::{Instant, sleep_until};

struct Use {
    requests: usize,
    last: Instant,
}

/// The use of a caller's connection.
#[derive(Clone)]
pub(super) struct Activity(Arc<Mutex<Use>>);

/// A request that is under way, from its head to the end of its answer.
pub(super) struct Busy(Activity);

impl Activity {
    pub fn begin() -> Self {
        Self(Arc::new(Mutex::new(Use { requests: 0, last: Instant::now() })))
    }

    pub fn busy(&self) -> Busy {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).requests += 1;
        Busy(self.clone())
    }

    /// Returns once no request was under way for this long.
    pub async fn idle_for(&self, longest: Duration) {
        loop {
            let due = {
                let used = self.0.lock().unwrap_or_else(PoisonError::into_inner);
                if used.requests == 0 { used.last + longest } else { Instant::now() + longest }
            };
            if due <= Instant::now() {
                return;
            }
            sleep_until(due).await;
        }
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        let mut used = self.0.0.lock().unwrap_or_else(PoisonError::into_inner);
        used.requests -= 1;
        used.last = Instant::now();
    }
}
