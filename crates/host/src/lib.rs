//! The operating system under an agent: inspecting and correcting one machine, or a private root folder on it.
//!
//! What is due is decided in `core`; here it is only looked at and done.

pub mod about;
pub mod accounts;
mod attributes;
pub mod describe;
pub mod error;
pub mod files;
mod host;
pub mod kinds;
pub mod machine;
pub mod native;
mod note;
pub mod openpgp;
pub mod packages;
pub mod programs;
mod progress;
pub mod restart;
pub mod runit;
mod secrets;
mod seen_files;
pub mod services;
pub mod simulated;
pub mod steps;

pub use error::HostError;
pub use host::{Host, Stalls};
pub use machine::{ActedOn, Attic, Contents, Machine, Opened};
pub use note::overwrite;
pub use secrets::Secrets;
