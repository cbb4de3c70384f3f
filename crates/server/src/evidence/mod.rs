//! Evidence: gathered from the history as of one moment, signed, and kept; the trees over what was learned each day.

mod gather;
pub mod worker;
