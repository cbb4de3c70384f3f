//! Background work: partitions made ahead, refused requests stored in batches, progress of long work.

pub mod partitions;
pub mod progress;
pub mod refused_requests;
