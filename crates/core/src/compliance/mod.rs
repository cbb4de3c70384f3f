//! Compliance: what an examination says of a clause, what of it is kept, and how clauses and nodes are counted.

mod counts;
mod deviation;
mod examined_time;
mod moves;

pub use counts::{ClauseCounts, NodeCounts, Rate};
pub use deviation::{
    Deviation, DeviationCause, DeviationChanges, OVERDUE, OpenDeviation, examine, follow_deviations,
};
pub use examined_time::{Gap, LastRun, gap_before, run_time};
pub use moves::{ClauseStatus, Move, MoveReason, Moved, moves};
