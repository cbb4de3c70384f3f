//! Sweeps: runs that a person asks for over chosen nodes; what a node is told, what it refuses, and what its run came to.

mod came_of;
mod foreseen;
mod order;

pub use came_of::{CameOf, FailedClause, LeftClause, MAX_NAMED, observed_by};
pub use foreseen::{Foreseen, ForeseenClause, foresee};
pub use order::{Refused, SweepOrder};

#[cfg(test)]
mod tests;
