//! The central program: Rocket, SQLx, the CA.

pub mod api;
pub mod body;
pub mod change;
pub mod checkin;
pub mod clock;
pub mod door;
pub mod intake;
pub mod jobs;
pub mod launch;
pub mod metrics;
pub mod other_methods;
pub mod people;
pub mod preparation;
pub mod problem;
pub mod request_log;
pub mod store;
pub mod trust;
