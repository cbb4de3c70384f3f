//! Sweeps: what one would do before it is begun, and how it is told.

mod begin;
mod came_of;
mod plan;
mod shown;

pub use begin::{begin, keep_beginning};
pub use came_of::note_report;
pub use plan::{Planned, PlannedTarget, plan};
pub use shown::{failures, shown_node, shown_sweep};
