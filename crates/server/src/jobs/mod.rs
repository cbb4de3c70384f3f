//! Background work: partitions made ahead, refused requests stored in batches.

pub mod partitions;
pub mod refused_requests;
