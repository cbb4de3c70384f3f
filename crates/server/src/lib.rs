//! The central program: Rocket, SQLx, the CA.

pub mod api;
pub mod body;
pub mod callers;
pub mod certificate;
pub mod change;
pub mod checkin;
pub mod clock;
pub mod database;
pub mod door;
pub mod followed;
pub mod here;
pub mod intake;
pub mod jobs;
pub mod launch;
pub mod launch_error;
pub mod metrics;
pub mod other_methods;
pub mod page;
pub mod people;
pub mod preparation;
pub mod problem;
pub mod request_log;
pub mod settings;
pub mod store;
pub mod thread;
pub mod trust;
