//! Reporting that a program makes no progress.

use std::sync::Arc;

/// Where it is told that something shows no progress and is waited for all the same.
#[derive(Clone)]
pub struct Stalls(Arc<dyn Fn(&str) + Send + Sync>);

impl Stalls {
    /// Has it told to a function.
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
