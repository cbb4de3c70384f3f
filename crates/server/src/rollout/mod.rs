//! Rollouts that are under way: carried on wave by wave, halted when too many nodes are bad, shown.

pub mod conduct;
pub mod shown;
