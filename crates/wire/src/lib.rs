//! What agent, server and client say to each other: serde types only, versioned.

mod bounded;
pub mod check_in;
pub mod exit;
pub mod fleet;
pub mod join;
pub mod kit;
pub mod newer;
pub mod people;
pub mod recovery;
pub mod report;
pub mod run;
pub mod text;
pub mod work;
