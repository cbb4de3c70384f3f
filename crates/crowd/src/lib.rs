//! The crowd: thousands of simulated nodes in one process.
//!
//! Each node is the agent's own daemon over a host and a folder in memory; it joins, checks in and reports to a real server
//! over real mutual TLS. Things happen to nodes at chosen rates, by a seed, and all that truly happens is written down, so that
//! what a server reports of its fleet can be compared with it. Hours pass in seconds where the clock is moved.

mod crowd;
mod error;
mod happening;
mod link;
mod node;
mod operator;
mod plan;
mod truth;

pub use crowd::{Crowd, Pace};
pub use error::CrowdError;
pub use node::Deed;
pub use operator::Operator;
pub use plan::{Plan, Rates, repository};
pub use truth::{Fact, Truth};
