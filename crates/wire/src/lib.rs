//! What agent, server and client say to each other: serde types only, versioned.

pub mod exit;
pub mod report;
