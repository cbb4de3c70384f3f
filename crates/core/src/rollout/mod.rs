//! Rollouts: a change that reaches its nodes in waves. Which node belongs to which wave, by which documents a node is resolved meanwhile,
//! and when a wave has settled or is too bad to go on.

mod judged;
mod members;
mod overlay;
mod plan;

pub use judged::{Judged, WaveFigures};
pub use members::{Member, counts_by_wave, waves_of};
pub use overlay::{Membership, Overlay, Step, documents_of, overlapping, overlays_of};
pub use plan::{PlanError, RolloutPlan, read_halt, read_waves};

#[cfg(test)]
mod tests;
