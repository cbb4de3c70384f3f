//! The simulated nodes while the demo runs: they live on in a thread of their own, and are kept when it ends.

use crate::fleet::Fleet;
use crate::past::{in_words, kept_in, operator, plan};
use constans_crowd::{Crowd, CrowdError, Pace};
use jiff::SignedDuration;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::runtime::Runtime;
use tokio::task::JoinHandle;

/// Whether the crowd is to stop is looked at so often.
const STEP: SignedDuration = SignedDuration::from_secs(1);
/// It is kept once in so many steps, so that little is lost if the demo is killed.
const STEPS_UNTIL_KEPT: u64 = 60;

/// The simulated nodes, alive. Dropping it stops and keeps them.
pub struct LivingCrowd<'r> {
    runtime: &'r Runtime,
    is_over: Arc<AtomicBool>,
    living: Option<JoinHandle<Result<(), CrowdError>>>,
}

impl<'r> LivingCrowd<'r> {
    /// Has the nodes that were kept live on.
    pub fn begin(fleet: &Fleet, runtime: &'r Runtime) -> io::Result<Self> {
        let file = kept_in(fleet.folder());
        let crowd = Crowd::come_back(plan(0), operator(fleet)?, Pace::Real, &file)
            .map_err(|error| in_words(&error))?;
        let is_over = Arc::new(AtomicBool::new(false));
        let living = runtime.spawn(live(crowd, is_over.clone(), file));
        Ok(Self { runtime, is_over, living: Some(living) })
    }
}

async fn live(mut crowd: Crowd, is_over: Arc<AtomicBool>, file: PathBuf) -> Result<(), CrowdError> {
    let file: &Path = &file;
    let mut steps = 0;
    while !is_over.load(Ordering::Relaxed) {
        crowd.live(STEP, &mut |_| ()).await?;
        steps += 1;
        if steps % STEPS_UNTIL_KEPT == 0 {
            crowd.keep(file)?;
        }
    }
    crowd.keep(file)
}

impl Drop for LivingCrowd<'_> {
    fn drop(&mut self) {
        self.is_over.store(true, Ordering::Relaxed);
        if let Some(living) = self.living.take() {
            match self.runtime.block_on(living) {
                Ok(Ok(())) => {}
                Ok(Err(error)) => eprintln!("error: {}", in_words(&error)),
                Err(error) => eprintln!("error: the simulated nodes broke off: {error}"),
            }
        }
    }
}
