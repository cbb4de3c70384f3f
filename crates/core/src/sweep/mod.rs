//! Sweeps: runs that a person asks for over chosen nodes; what a node is told, what it refuses, and what its run came to.

mod came_of;
mod order;
mod preview;

pub use came_of::{CameOf, FailedClause, LeftClause, MAX_NAMED, observed_by};
pub use order::{Refused, SweepOrder};
pub use preview::{NodePreview, PreviewedClause, preview_of};

#[cfg(test)]
mod tests;
