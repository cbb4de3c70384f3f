//! Background work and what changes set off: resolving states, storing reports.

pub mod believe;
pub mod gather;
pub mod partitions;
pub mod people;
pub mod progress;
pub mod publish;
pub mod recover;
pub mod refusing;
pub mod report;
pub mod resolve;
pub mod texts;
