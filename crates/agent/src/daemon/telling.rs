//! How far a run is, told to the server while it goes on.

use crate::server_link::Way;
use crate::state_dir::StateDir;
use crate::under_way::under_way;
use constans_wire::sweep::{SweepGoesOn, SweepProgress};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

/// A run that is over sooner tells nothing on its way.
const FIRST_TOLD_AFTER: Duration = Duration::from_millis(300);
/// How often it tells how far it is.
const TELL_EVERY: Duration = Duration::from_secs(1);

/// Tells the server how far a run is until it is dropped, and has the run stop if the server says so.
pub(super) struct Telling(tokio::task::JoinHandle<()>);

impl Telling {
    /// Begins, if this agent's folder says how far a run is.
    pub fn begin(
        state_dir: &StateDir,
        way: Way,
        url: String,
        stop: Arc<AtomicBool>,
        last_took: Option<Duration>,
    ) -> Option<Self> {
        let state_dir = state_dir.clone();
        state_dir.can_be_looked_at().then(|| Self(tokio::spawn(tell(state_dir, way, url, stop, last_took))))
    }
}

impl Drop for Telling {
    fn drop(&mut self) {
        self.0.abort();
    }
}

async fn tell(
    state_dir: StateDir,
    way: Way,
    url: String,
    stop: Arc<AtomicBool>,
    last_took: Option<Duration>,
) {
    tokio::time::sleep(FIRST_TOLD_AFTER).await;
    loop {
        if let Ok(Some((begun, Some(progress)))) = under_way(&state_dir)
            && begun.sweep.is_some()
        {
            let for_ms = state_dir.now().duration_since(begun.began).as_millis();
            let told = SweepProgress {
                reached: progress.reached as u64,
                of: progress.of as u64,
                doing: progress.doing,
                address: progress.address,
                for_ms: u64::try_from(for_ms).unwrap_or(0),
                last_took_ms: millis(last_took),
            };
            // What cannot be told now is told the next time.
            if let Ok(SweepGoesOn { stop: true }) = way.tell(&url, &told).await {
                stop.store(true, Ordering::Relaxed);
            }
        }
        tokio::time::sleep(TELL_EVERY).await;
    }
}

/// Returns how long something takes as it is told.
pub(super) fn millis(took: Option<Duration>) -> Option<u64> {
    took.and_then(|took| u64::try_from(took.as_millis()).ok())
}
