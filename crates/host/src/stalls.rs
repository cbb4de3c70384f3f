//! Reporting that a program makes no progress.

use std::sync::Arc;

/// Receives a message when something makes no progress and is still waited for.
#[derive(Clone)]
pub struct Stalls(Arc<dyn Fn(&str) + Send + Sync>);

impl Stalls {
    /// Calls this function with each message.
    pub fn to(report: impl Fn(&str) + Send + Sync + 'static) -> Self {
        Self(Arc::new(report))
    }

    /// Tells it.
    pub fn tell(&self, what: &str) {
        (self.0)(what);
    }
}

impl Default for Stalls {
    /// Tells nobody.
    fn default() -> Self {
        Self::to(|_| ())
    }
}
