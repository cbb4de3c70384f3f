//! The operating system under an agent: inspecting and correcting one machine, or a private root folder on it.
//!
//! What is due is decided in `core`; here it is only looked at and done.

pub mod about;
pub mod accounts;
mod attributes;
mod contents;
pub mod describe;
pub mod error;
pub mod files;
mod host;
pub mod kinds;
pub mod machine;
mod machine_host;
pub mod native;
mod note;
pub mod openpgp;
mod os_release;
pub mod packages;
pub mod programs;
mod progress;
mod related;
pub mod restart;
pub mod runit;
mod secrets;
mod seen_files;
pub mod services;
pub mod simulated;
mod stalls;
pub mod steps;
pub mod things;

pub use contents::{Attic, Contents, Opened};
pub use error::HostError;
pub use host::{ActedOn, Host};
pub use machine::Machine;
pub use note::overwrite;
pub use secrets::Secrets;
pub use stalls::Stalls;
