//! Background work: the audit trail chained, partitions made ahead, refused requests stored in batches.

pub mod audit_chain;
pub mod partitions;
pub mod refused_requests;
