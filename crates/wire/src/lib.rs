//! The messages between agent, server and client: serde types only, versioned.

pub mod activity;
pub mod admission;
pub mod audit;
mod bounded;
pub mod change;
pub mod check_in;
pub mod compliance;
pub mod concession;
pub mod control;
pub mod drift;
pub mod event;
pub mod evidence;
pub mod exit;
pub mod freeze;
pub mod group;
pub mod join;
pub mod kit;
pub mod newer;
pub mod node;
pub mod node_event;
pub mod overview;
pub mod people;
pub mod recovery;
pub mod report;
pub mod retired;
pub mod run;
pub mod text;
